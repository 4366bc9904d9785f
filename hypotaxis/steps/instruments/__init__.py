"""Instruments: where notes go and sound comes back, and trying it."""
