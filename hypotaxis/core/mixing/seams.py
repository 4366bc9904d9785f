"""Where one standing take gives way to another: a short crossfade beside the bar line, over no onset.

Positions are samples from the session's zero.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

FADE_MS = 10.0
CLEAR_MS = 3.0
"""So far from an onset the fade stays, besides its own half."""
GRID_MS = 1.0
ALIKE = 0.6
"""Correlation of the two takes in the fade from which they count as like: a linear fade keeps their level then, an
equal power one that of unlike sounds (common practice)."""


@dataclass(frozen=True)
class Seam:
    """The middle of a fade. clean: no onset is in it; otherwise it is the quietest place."""

    place: int
    clean: bool


def fade_samples(rate: int) -> int:
    """Length of a fade, even."""
    return 2 * round(FADE_MS / 2000 * rate)


def find_seam(
    bar: float, beat: float, onsets: Sequence[float], rate: int, level_at: Callable[[int, int], float]
) -> Seam:
    """The place nearest to a bar line, within a beat, whose fade holds no onset; where there is none the quietest one.
    level_at: how loud both takes are together between two samples, any unit."""
    half = fade_samples(rate) / 2
    offsets = np.arange(-beat, beat + 1, GRID_MS / 1000 * rate)
    offsets = offsets[np.argsort(np.abs(offsets), kind="stable")]
    places = np.rint(bar + offsets).astype(np.int64)
    struck = np.sort(np.asarray(onsets, dtype=np.float64))
    away = half + CLEAR_MS / 1000 * rate
    first = np.searchsorted(struck, places - away, side="left")
    clean = first == np.searchsorted(struck, places + away, side="right")
    if clean.any():
        return Seam(int(places[np.argmax(clean)]), clean=True)
    levels = [level_at(int(place - half), int(place + half)) for place in places]
    return Seam(int(places[int(np.argmin(levels))]), clean=False)


def weights(one: np.ndarray, other: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(of what goes, of what comes), shape (frames,), for a fade between two takes, each (frames, channels)."""
    count = len(one)
    share = (np.arange(count) + 0.5) / count
    if _correlation(one, other) >= ALIKE:
        return 1 - share, share
    return np.cos(share * np.pi / 2), np.sin(share * np.pi / 2)


def _correlation(one: np.ndarray, other: np.ndarray) -> float:
    size = float(np.sqrt((one**2).sum() * (other**2).sum()))
    return float((one * other).sum()) / size if size > 0 else 1.0
