"""When should something be heard? Distinct onset moments of a part.

Notes on one tick are one moment; a moment closer than 20 ms behind another cannot be heard apart and is merged.
Positions are samples (float) in the clock of the recording, from the recording's first frame.
"""

from dataclasses import dataclass

import numpy as np

MERGE_MS = 20.0


@dataclass(frozen=True, eq=False)
class Moments:
    """positions: the moments to look for, ascending; kinds: equal numbers where the same notes are played, so that
    their hits may be compared; merged: how many more stood too close behind another one."""

    positions: np.ndarray
    kinds: np.ndarray
    merged: int

    def __len__(self) -> int:
        return len(self.positions)


def distinct_moments(positions: np.ndarray, rate: int, notes: np.ndarray | None = None) -> Moments:
    """Moments of note positions (samples at `rate`, any order, repeats allowed); notes: the number of each, if known.

    >>> distinct_moments(np.array([0.0, 0.0, 480.0, 48000.0]), 48000).positions.tolist()
    [0.0, 48000.0]
    """
    positions = np.asarray(positions, dtype=np.float64)
    distinct, place = np.unique(positions, return_inverse=True)
    # A hair less than 20 ms, so that exactly 20 ms apart survives the rounding of positions.
    apart = np.diff(distinct, prepend=-np.inf) >= MERGE_MS * rate / 1000 - 1e-6
    moment = np.cumsum(apart) - 1
    kinds = np.zeros(int(apart.sum()), dtype=np.int64)
    if notes is not None and len(kinds):
        # Which notes sound together within a moment, merged ones included, as a number of its own.
        together: list[set[int]] = [set() for _ in kinds]
        for at, note in zip(moment[place].tolist(), np.asarray(notes).tolist(), strict=True):
            together[at].add(note)
        known: dict[frozenset[int], int] = {}
        kinds = np.array([known.setdefault(frozenset(sounding), len(known)) for sounding in together])
    return Moments(distinct[apart], kinds, int((~apart).sum()))
