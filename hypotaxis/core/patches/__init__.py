"""Named sounds: patch lists, their display numbers, note maps."""
