"""Kills, a disk that is full, requests that cross each other: nothing that was confirmed may be lost (docs/hard.md).

Each round is drawn from its number alone, so that one that fails can be played again.
"""
