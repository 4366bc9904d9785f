"""Real ports and inputs behind `core.studio`: what the computer offers to play and record with."""
