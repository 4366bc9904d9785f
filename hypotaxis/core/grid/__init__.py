"""Patterns of a drum machine: steps by voices, laid along the bars in an order."""
