"""How long are the divisions of a bar, and how often do they come round? For delays and LFOs that are set by hand.

A note of q quarters at b BPM lasts 60000 · q / b ms and repeats at b / (60 · q) Hz.
"""

from dataclasses import dataclass
from fractions import Fraction

from hypotaxis.core.units import CLOCKS_A_QUARTER

PLAIN = {"whole": Fraction(4), "half": Fraction(2), **{f"1/{one}": Fraction(4, one) for one in (4, 8, 16, 32, 64)}}
KINDS = {"": Fraction(1), "dotted": Fraction(3, 2), "triplet": Fraction(2, 3)}
QUARTERS = {
    " ".join(filter(None, (name, kind))): quarters * factor
    for name, quarters in PLAIN.items()
    for kind, factor in KINDS.items()
}
"""Quarters by the name of a division."""


def division_of(ticks: int) -> str:
    """The division that lasts so many ticks, 24 a quarter; "" = none does.

    >>> division_of(18), division_of(17)
    ('1/8 dotted', '')
    """
    quarters = Fraction(ticks, CLOCKS_A_QUARTER)
    return next((name for name, one in QUARTERS.items() if one == quarters), "")


def period_ms(quarters: float, bpm: float) -> float:
    """How long so many quarters last."""
    return 60_000 * quarters / bpm


def rate_hz(quarters: float, bpm: float) -> float:
    """How often so many quarters come round."""
    return bpm / (60 * quarters)


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
        Division(name, period_ms(float(quarters), bpm), rate_hz(float(quarters), bpm))
        for name, quarters in QUARTERS.items()
    ]
