"""When should something be heard? Distinct onset moments of a part.

Notes on one tick are one moment; a moment closer than 20 ms behind another cannot be heard apart and is merged.
Positions are samples (float) in the clock of the recording, from the recording's first frame.
"""

from dataclasses import dataclass

import numpy as np

MERGE_MS = 20.0


@dataclass(frozen=True, eq=False)
class Moments:
    """positions: the moments to look for, ascending; merged: how many more stood too close behind one of them."""

    positions: np.ndarray
    merged: int

    def __len__(self) -> int:
        return len(self.positions)


def distinct_moments(positions: np.ndarray, rate: int) -> Moments:
    """Moments of note positions (samples at `rate`, any order, repeats allowed).

    >>> distinct_moments(np.array([0.0, 0.0, 480.0, 48000.0]), 48000).positions.tolist()
    [0.0, 48000.0]
    """
    distinct = np.unique(np.asarray(positions, dtype=np.float64))
    gap = MERGE_MS * rate / 1000
    kept: list[float] = []
    for position in distinct:
        if not kept or position - kept[-1] >= gap:
            kept.append(float(position))
    return Moments(np.array(kept), len(distinct) - len(kept))
