"""Does what came in come from hands, or from a box that generates it? Told by how even it is against the clock.

Hands are unsteady by several ms even when they are good (common practice: 5 to 20); what a box steps by our clock
stands on a division with no more than the jitter of driver and wire.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.session.straighten import DIVISIONS

LEAST, STEADY_MS, IN_A_ROW = 16, 1.3, 0.6
"""Strokes at least; their scatter at most; and how many of them follow each other by just the division."""
CHORD_MS = 3.0
"""So closely they are one stroke."""


@dataclass(frozen=True)
class Even:
    """How even strokes are. late_ms: by how much all of them stand behind the division."""

    division: str
    spread_ms: float
    late_ms: float
    strokes: int

    @property
    def told(self) -> str:
        """In words."""
        return f"every {self.division}, within {self.spread_ms:.1f} ms of the clock"


def evenness(quarters: np.ndarray, ms_a_quarter: float) -> Even | None:
    """How evenly strokes at these places (in quarters from a bar line, ascending) follow a division; None where no
    box plays so."""
    quarters = np.sort(np.asarray(quarters, dtype=np.float64))
    if len(quarters):
        quarters = quarters[np.append(True, np.diff(quarters) * ms_a_quarter > CHORD_MS)]
    if len(quarters) < LEAST:
        return None
    for division, (over, under) in DIVISIONS.items():
        step = over / under
        turns = quarters / step
        # Where on the division's circle they stand, however late all of them are.
        middle = float(np.angle(np.mean(np.exp(2j * np.pi * turns))) / (2 * np.pi))
        away = (turns - middle + 0.5) % 1.0 - 0.5
        spread_ms = float(away.std()) * step * ms_a_quarter
        steps = np.rint(np.diff(turns))
        if spread_ms <= STEADY_MS and float((steps == 1).mean()) >= IN_A_ROW:
            return Even(division, spread_ms, middle * step * ms_a_quarter, len(quarters))
    return None
