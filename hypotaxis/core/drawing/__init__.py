"""Results to coordinates: pixels, y downwards. Imports any of the core, imported by none of it."""
