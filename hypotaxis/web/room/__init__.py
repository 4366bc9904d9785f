"""Open to the room: off by default, one switch, nothing of it stored."""
