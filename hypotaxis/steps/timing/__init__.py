"""Timing: how late everything is."""
