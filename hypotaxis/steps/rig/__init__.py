"""Rig: what is on the desk and how it is cabled."""
