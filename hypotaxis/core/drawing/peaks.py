"""Overview of a take's file: lowest and highest sample in each stretch, read block by block."""

from pathlib import Path

import numpy as np
import soundfile

STRETCH = 256
"""Samples a stretch: fine enough for a strip of a few minutes, small enough to keep beside the take."""


def peaks_of(path: Path) -> np.ndarray:
    """Extremes of a file, shape (stretches, 2), float32, over all its channels."""
    rows = []
    with soundfile.SoundFile(path) as stream:
        for block in stream.blocks(blocksize=STRETCH * 512, dtype="float32", always_2d=True):
            low, high = block.min(axis=1), block.max(axis=1)
            edges = np.arange(0, len(block), STRETCH)
            rows.append(np.stack([np.minimum.reduceat(low, edges), np.maximum.reduceat(high, edges)], axis=1))
    return np.concatenate(rows) if rows else np.zeros((0, 2), dtype=np.float32)


def columns_of(peaks: np.ndarray, first: float, last: float, columns: int) -> tuple[np.ndarray, np.ndarray]:
    """Extremes of file samples first to last (may reach outside: silence there) in so many columns."""
    edges = np.linspace(first, last, columns + 1) / STRETCH
    low, high = np.zeros(columns), np.zeros(columns)
    for index in range(columns):
        start, end = int(np.floor(edges[index])), int(np.ceil(edges[index + 1]))
        piece = peaks[max(0, start) : max(0, end)]
        if len(piece):
            low[index], high[index] = piece[:, 0].min(), piece[:, 1].max()
    return low, high
