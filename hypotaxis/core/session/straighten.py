"""Straightening (quantising): moves notes towards a division of the bars, by a strength, with swing.

The grid begins anew with every bar. Swing s is where the second of a pair of divisions stands, in per cent of the pair:
50 is straight, 66.7 a triplet. Each note moves as a whole: its length stays.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.editing import Edited, ordered
from hypotaxis.core.session.score import in_order
from hypotaxis.core.session.tempo import TempoMap

DIVISIONS = {
    "1/4": (1, 1),
    "1/8": (1, 2),
    "1/8 triplet": (1, 3),
    "1/16": (1, 4),
    "1/16 triplet": (1, 6),
    "1/32": (1, 8),
}
"""In quarters, as a fraction."""
STRAIGHT, LEAST_SWING, MOST_SWING = 50.0, 50.0, 75.0


@dataclass(frozen=True, kw_only=True)
class Straightening:
    """How notes are moved."""

    division: str = "1/16"
    """A key of DIVISIONS."""
    strength: float = 1.0
    """Share of the way to the grid, 0 to 1."""
    swing: float = STRAIGHT
    """Per cent."""
    window: float = 1.0
    """Only what lies within this share of half a division around a place of the grid is moved."""
    groove: tuple[float, ...] = ()
    """Instead of swing: by how much each place of the bar stands later, as shares of the division."""

    def __post_init__(self) -> None:
        if self.division not in DIVISIONS:
            raise BadBars(f"“{self.division}” is no division: {', '.join(DIVISIONS)} are.")
        if not LEAST_SWING <= self.swing <= MOST_SWING:
            raise BadBars(f"A swing of {self.swing:g} % is none: {LEAST_SWING:g} is straight, {MOST_SWING:g} the most.")
        if not (0 <= self.strength <= 1 and 0 < self.window <= 1):
            raise BadBars("Strength goes from 0 to 100 %, the window from 1 to 100 %.")


def division_ticks(tempo: TempoMap, division: str) -> float:
    """Ticks of a key of DIVISIONS.

    >>> division_ticks(TempoMap(480), "1/16 triplet")
    80.0
    """
    over, under = DIVISIONS[division]
    return tempo.ticks_per_quarter * over / under


def straightened(notes: np.ndarray, tempo: TempoMap, how: Straightening) -> np.ndarray:
    """The notes (core.session.score.NOTE) moved, in order of time."""
    moved = notes.copy()
    moved["tick"] = _ticks(notes, tempo, how)
    return in_order(moved)


def _ticks(notes: np.ndarray, tempo: TempoMap, how: Straightening) -> np.ndarray:
    """Where each note goes."""
    if not len(notes):
        return notes["tick"]
    step = division_ticks(tempo, how.division)
    target = nearest_places(notes["tick"], tempo, step, how.swing, how.groove)
    away = target - notes["tick"]
    inside = np.abs(away) <= how.window * step / 2
    return notes["tick"] + np.rint(np.where(inside, away * how.strength, 0.0)).astype(np.int64)


def straightened_some(
    notes: np.ndarray, places: np.ndarray, tempo: TempoMap, how: Straightening, *, end_tick: int
) -> Edited:
    """Only the notes at these places, from where they stand."""
    after = notes.copy()
    after["tick"][places] = np.minimum(_ticks(notes[places], tempo, how), end_tick - 1)
    return ordered(after, places)


def nearest_places(
    ticks: np.ndarray, tempo: TempoMap, step: float, swing: float, groove: tuple[float, ...] = ()
) -> np.ndarray:
    """The place of the grid nearest to each tick (float ticks). step: ticks of a division."""
    last = tempo.position(int(ticks.max())).bar
    bars = np.array([tempo.bar_tick(bar) for bar in range(1, last + 2)], dtype=np.float64)
    at = np.searchsorted(bars, ticks, side="right") - 1
    since, length = ticks - bars[at], bars[at + 1] - bars[at]
    below = np.floor(since / step)
    late = (swing / 50.0 - 1.0) * step
    # The one before may be nearer where swing has moved it behind.
    around = np.stack([below - 1, below, below + 1])
    later = (around % 2) * late
    if groove:
        shares = np.array(groove)
        inside = (around >= 0) & (around < len(shares))
        later = np.where(inside, shares[np.clip(around, 0, len(shares) - 1).astype(int)], 0.0) * step
    places = np.clip(around * step + later, 0.0, length)
    best = np.abs(places - since).argmin(axis=0)
    return bars[at] + places[best, np.arange(len(ticks))]
