"""Overview of a take: lowest and highest sample in each stretch, found while it is written or read block by block."""

from pathlib import Path

import numpy as np
import soundfile

STRETCH = 256
"""Samples a stretch: fine enough for a strip of a few minutes, small enough to keep beside the take."""


class Peaks:
    """Extremes of what passes, over all its channels; blocks may be of any length."""

    def __init__(self) -> None:
        self._rows: list[np.ndarray] = []
        self._rest: np.ndarray | None = None

    def feed(self, block: np.ndarray) -> None:
        """Take in the next block, shape (frames, channels)."""
        if self._rest is not None:
            block = np.concatenate([self._rest, block])
        whole = len(block) // STRETCH * STRETCH
        if whole:
            # A stretch of all channels lies together: one look at a row instead of one at each frame.
            rows = np.ascontiguousarray(block[:whole]).reshape(whole // STRETCH, -1)
            self._rows.append(np.stack([rows.min(axis=1), rows.max(axis=1)], axis=1))
        self._rest = block[whole:].copy() if whole < len(block) else None

    def found(self) -> np.ndarray:
        """Shape (stretches, 2), float32."""
        rows = self._rows
        if self._rest is not None:
            rows = [*rows, np.array([[self._rest.min(), self._rest.max()]])]
        return np.concatenate(rows).astype(np.float32) if rows else np.zeros((0, 2), dtype=np.float32)


def peaks_of(path: Path) -> np.ndarray:
    """Extremes of a file, shape (stretches, 2), float32, over all its channels."""
    peaks = Peaks()
    with soundfile.SoundFile(path) as stream:
        for block in stream.blocks(blocksize=STRETCH * 512, dtype="float32", always_2d=True):
            peaks.feed(block)
    return peaks.found()


def columns_of(peaks: np.ndarray, edges: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Extremes between the edges of columns, in file samples, ascending; they may reach outside: silence there."""
    edges, columns = edges / STRETCH, len(edges) - 1
    low, high = np.zeros(columns), np.zeros(columns)
    start = np.clip(np.floor(edges[:-1]), 0, len(peaks)).astype(int)
    end = np.clip(np.ceil(edges[1:]), 0, len(peaks)).astype(int)
    some = np.flatnonzero(end > start)
    if len(some):
        first, last = start[some[0]], end[some[-1]]
        # One row more, since what ends a piece must be there.
        piece = np.concatenate([peaks[first:last], peaks[last - 1 : last]])
        pairs = np.stack([start[some], end[some]], axis=1).ravel() - first
        low[some] = np.minimum.reduceat(piece[:, 0], pairs)[::2]
        high[some] = np.maximum.reduceat(piece[:, 1], pairs)[::2]
    return low, high
