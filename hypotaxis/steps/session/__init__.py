"""Session: notes, passes, takes."""
