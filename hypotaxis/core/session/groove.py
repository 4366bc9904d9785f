"""The groove of a part or take: by how much its strokes stand beside a division, place by place of the bar.

A deviation is a share of the division, + later. Places that nothing was struck near have none, and count as straight.
"""

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.session.tempo import TempoMap

LEAST = 4
"""Strokes that a groove is measured from at least."""


@dataclass(frozen=True)
class Groove:
    """Deviations by place of the bar, counted from 0."""

    division: str
    shares: tuple[float, ...]
    strokes: int
    """From how many it was measured."""


def groove_of(ticks: np.ndarray, tempo: TempoMap, *, division: str, step: float) -> Groove | None:
    """The groove of strokes at these ticks (any fraction); None of too few. step: ticks of the division."""
    if len(ticks) < LEAST:
        return None
    found: dict[int, list[float]] = defaultdict(list)
    for tick in np.sort(np.asarray(ticks, dtype=np.float64)).tolist():
        bar = tempo.position(max(0, int(tick))).bar
        since = tick - tempo.bar_tick(bar)
        place = round(since / step)
        places = round((tempo.bar_tick(bar + 1) - tempo.bar_tick(bar)) / step)
        found[place % max(1, places)].append(since / step - place)
    shares = tuple(float(np.median(found[place])) if place in found else 0.0 for place in range(max(found) + 1))
    return Groove(division, shares, len(ticks))
