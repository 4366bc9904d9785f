"""How long are the divisions of a bar, and how often do they come round? For delays and LFOs that are set by hand.

A note of q quarters at b BPM lasts 60000 · q / b ms and repeats at b / (60 · q) Hz.
"""

from dataclasses import dataclass
from fractions import Fraction

PLAIN = {"whole": Fraction(4), "half": Fraction(2), **{f"1/{one}": Fraction(4, one) for one in (4, 8, 16, 32, 64)}}
KINDS = {"": Fraction(1), "dotted": Fraction(3, 2), "triplet": Fraction(2, 3)}
QUARTERS = {
    " ".join(filter(None, (name, kind))): quarters * factor
    for name, quarters in PLAIN.items()
    for kind, factor in KINDS.items()
}
"""Quarters by the name of a division."""


@dataclass(frozen=True)
class Division:
    """A division at a tempo."""

    name: str
    ms: float
    hz: float


def divisions(bpm: float) -> list[Division]:
    """Every division at a tempo, the longest first.

    >>> [(one.name, round(one.ms, 1), round(one.hz, 3)) for one in divisions(120)][6:8]
    [('1/4', 500.0, 2.0), ('1/4 dotted', 750.0, 1.333)]
    """
    return [
        Division(name, 60_000 * float(quarters) / bpm, bpm / (60 * float(quarters)))
        for name, quarters in QUARTERS.items()
    ]
