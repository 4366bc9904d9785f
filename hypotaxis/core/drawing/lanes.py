"""Upright lanes for cables between two columns: side by side where they would run over each other, shared where not.

Of cables that lead down the upper one turns last, of those that lead up the upper one turns first; so cables that need
not cross do not.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

LANE = 12.0
CLEARANCE = 8.0
"""Free height between two cables on one lane, in px."""
STEP = 4.0
"""Heights are told apart to this, in px."""


@dataclass(frozen=True)
class Span:
    """A cable between two columns: heights of its two ends."""

    uid: str
    start_y: float
    end_y: float


def lanes(spans: Sequence[Span], left: float, right: float) -> dict[str, float]:
    """x of each cable's lane between left and right, by uid; they move together where there are many."""
    if not spans:
        return {}
    down = sorted((span for span in spans if span.end_y >= span.start_y), key=lambda span: -span.start_y)
    up = sorted((span for span in spans if span.end_y < span.start_y), key=lambda span: span.start_y)
    least = min(min(span.start_y, span.end_y) for span in spans) - CLEARANCE
    most = max(max(span.start_y, span.end_y) for span in spans) + CLEARANCE
    used = np.zeros(int((most - least) / STEP) + 2, dtype=int)
    placed: dict[str, int] = {}
    for span in down + up:
        top, bottom = sorted((span.start_y, span.end_y))
        heights = slice(int((top - CLEARANCE - least) / STEP), int((bottom + CLEARANCE - least) / STEP) + 1)
        placed[span.uid] = int(used[heights].max())
        used[heights] = placed[span.uid] + 1
    count = max(placed.values()) + 1
    pitch = min(LANE, (right - left - 24) / count)
    first = (left + right) / 2 - pitch * (count - 1) / 2
    return {uid: first + number * pitch for uid, number in placed.items()}
