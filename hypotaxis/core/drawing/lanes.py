"""Upright lanes for cables between two columns: side by side where they would run over each other, shared where not.

Of cables that lead down the upper one turns last, of those that lead up the upper one turns first; so cables that need
not cross do not.
"""

from collections.abc import Sequence
from dataclasses import dataclass

LANE = 12.0
CLEARANCE = 8.0
"""Free height between two cables on one lane, in px."""


@dataclass(frozen=True)
class Span:
    """A cable between two columns: heights of its two ends."""

    uid: str
    start_y: float
    end_y: float

    @property
    def top(self) -> float:
        return min(self.start_y, self.end_y) - CLEARANCE

    @property
    def bottom(self) -> float:
        return max(self.start_y, self.end_y) + CLEARANCE


def lanes(spans: Sequence[Span], left: float, right: float) -> dict[str, float]:
    """x of each cable's lane between left and right, by uid; they move together where there are many."""
    down = sorted((span for span in spans if span.end_y >= span.start_y), key=lambda span: -span.start_y)
    up = sorted((span for span in spans if span.end_y < span.start_y), key=lambda span: span.start_y)
    placed: list[tuple[Span, int]] = []
    for span in down + up:
        over = [number for other, number in placed if span.top < other.bottom and other.top < span.bottom]
        placed.append((span, max(over, default=-1) + 1))
    count = max((number for _, number in placed), default=0) + 1
    pitch = min(LANE, (right - left - 24) / count)
    first = (left + right) / 2 - pitch * (count - 1) / 2
    return {span.uid: first + number * pitch for span, number in placed}
