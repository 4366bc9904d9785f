"""Do repeated soundings of one trip, under the same settings, say the same?"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from hypotaxis.core.timing.line import student_quantile

SAME_MS = 0.1
"""Soundings closer than this agree, whatever their own uncertainty: an interface may restart five samples off."""
WARM_UP = 3
"""From this many soundings on, a steady course is told from scatter."""


@dataclass(frozen=True)
class Repeated:
    """count: soundings compared; spread_ms: from the lowest to the highest; expected_ms: how far apart they may lie by
    their own uncertainty; agree: whether they lie within that; advice: what to do next, "" where nothing is."""

    count: int
    spread_ms: float
    expected_ms: float
    agree: bool
    advice: str

    def __str__(self) -> str:
        if self.agree:
            return f"{self.count} soundings agree within {self.spread_ms:.2f} ms."
        return (
            f"{self.count} soundings lie {self.spread_ms:.2f} ms apart, where {self.expected_ms:.2f} ms would be "
            f"chance. {self.advice}"
        )


def compare(soundings: Sequence[tuple[float, float]]) -> Repeated | None:
    """soundings: (median, half-width of its 95 % interval) in ms, in the order they were taken. None for fewer than
    two. Medians that differ by chance lie within the studentised reach of their joint uncertainty (normal theory, the
    reach for n values taken as √2 times Student's quantile of n: common practice for a quick look)."""
    if len(soundings) < 2:
        return None
    late = [median for median, _ in soundings]
    spread = max(late) - min(late)
    typical = (sum(half**2 for _, half in soundings) / len(soundings)) ** 0.5
    expected = max(SAME_MS, 2**0.5 * typical * student_quantile(len(soundings) + 2) / 1.96)
    return Repeated(len(soundings), spread, expected, spread <= expected, _advice(late))


def _advice(late: Sequence[float]) -> str:
    steps = [after - before for before, after in pairwise(late)]
    if len(late) >= WARM_UP and (all(step > 0 for step in steps) or all(step < 0 for step in steps)):
        return "They move one way: let the boxes and the interface warm up, leave the buffer as it is, and sound again."
    return (
        "Use a percussive sound with a short attack, take 64 hits or more, close other programs, keep hands off the "
        "box, and sound twice more; rely on the two that agree."
    )
