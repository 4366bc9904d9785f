"""What a recording says of a trip's lateness: the one record that is kept of a take and of a sounding alike.

Lateness in ms, + late; every interval at 95 %, None where it is not known. Single hits are kept beside it.
"""

import math
from dataclasses import dataclass
from typing import NamedTuple

from hypotaxis.core.timing.against import Difference
from hypotaxis.core.timing.lateness import Lateness
from hypotaxis.core.timing.line import TwoValues


class Hit(NamedTuple):
    """A note's moment and the beginning of its sound, in samples of the recording; used: False for one set aside."""

    moment: float
    onset: float
    used: bool


@dataclass(frozen=True, kw_only=True)
class Measurement:
    """The figures of a recording against its notes."""

    lateness_ms: float
    """The median of the hits; of two values half-way between them."""
    lateness_low: float | None
    lateness_high: float | None
    start_ms: float
    """The fitted line at the first hit."""
    start_half: float | None
    end_ms: float
    """The fitted line at the last hit."""
    end_half: float | None
    jitter_ms: float
    jitter_low: float | None
    jitter_high: float | None
    drift_ppm: float
    """+ = progressively later."""
    drift_half: float | None
    attack_ms: float
    """From 10 to 90 % of the peak."""
    attack_half: float | None
    sample_rate: int
    side: str
    """Which side of the recording was read: mono, left, right or mix."""
    used: int
    """Hits that the figures rest on."""
    set_aside: int
    """Hits that are odd ones."""
    missed: int
    """Moments without a hit."""
    merged: int
    """Moments too close to another one to be told apart."""
    outside: int
    """Moments outside the recording."""
    extra: int
    """Hits without a moment."""
    clipped: bool
    impulses: bool
    """Read at the centre of impulses and not at edges."""
    confidence: float
    """0 to 1."""
    alternatives_ms: tuple[float, ...] = ()
    """Other shifts that match nearly as well."""
    warnings: tuple[str, ...] = ()
    two: TwoValues | None = None

    @property
    def lateness_half(self) -> float | None:
        """Half the width of the lateness's interval."""
        return _half(self.lateness_low, self.lateness_high)

    @property
    def jitter_half(self) -> float | None:
        """Half the width of the jitter's interval."""
        return _half(self.jitter_low, self.jitter_high)

    @property
    def samples(self) -> float:
        """Lateness in samples, not rounded."""
        return self.lateness_ms * self.sample_rate / 1000

    @property
    def matched(self) -> int:
        return self.used + self.set_aside

    @property
    def looked_for(self) -> int:
        """Moments that should have a hit."""
        return self.matched + self.missed


@dataclass(frozen=True)
class Overlay:
    """Hits laid over each other at the score's moment."""

    first_ms: float
    """Where the window begins, from the moment."""
    last_ms: float
    lines: tuple[tuple[float, ...], ...]
    """Of each hit the largest sample of each stretch of the window, as a share of the loudest hit."""


@dataclass(frozen=True, kw_only=True)
class Comparison:
    """What a recording differs from another one of the same notes by; + = it is the later one."""

    other: str = ""
    """Uid of the other sounding."""
    name: str = ""
    """Its name, which stays when it is removed."""
    difference_ms: float = 0.0
    difference_low: float | None = None
    difference_high: float | None = None
    confidence: float = 0.0
    """0 to 1."""
    compared: int = 0
    """Notes that compare."""
    error: str = ""
    """Why the two do not compare."""

    @property
    def difference_half(self) -> float | None:
        """Half the width of the difference's interval."""
        return _half(self.difference_low, self.difference_high)


@dataclass(frozen=True, kw_only=True)
class Read:
    """All that a recording said, as it is kept."""

    seconds: float
    """Of the recording."""
    kind: str
    """Its file format."""
    notes: int
    """In the score."""
    track: int | None = None
    """Which of the score it was measured against, from 1."""
    channel: int | None = None
    """The same, 1 to 16."""
    measurement: Measurement | None = None
    """None where only the difference from another recording is known."""
    hits: tuple[Hit, ...] = ()
    overlay: Overlay | None = None
    comparison: Comparison | None = None


def measurement_of(found: Lateness, *, warnings: tuple[str, ...] = ()) -> Measurement:
    """The record of an answer; warnings: what else is to be told of the files."""
    intervals = ("lateness_low", "lateness_high", "start_half", "end_half", "jitter_low", "jitter_high")
    same = ("lateness_ms", "start_ms", "end_ms", "jitter_ms", "drift_ppm", "attack_ms", "sample_rate", "side")
    counted = ("used", "set_aside", "missed", "merged", "outside", "extra", "clipped", "impulses", "confidence")
    return Measurement(
        **{name: getattr(found, name) for name in (*same, *counted, "alternatives_ms", "two")},
        **{name: _known(getattr(found, name)) for name in (*intervals, "drift_half", "attack_half")},
        warnings=(*found.warnings, *warnings),
    )


def comparison_of(found: Difference) -> Comparison:
    """The record of a comparison; whose it is is filled in by who asked."""
    return Comparison(
        difference_ms=round(found.difference_ms, 6),
        difference_low=_known(found.low_ms),
        difference_high=_known(found.high_ms),
        confidence=found.confidence,
        compared=len(found.hits),
    )


def hits_of(found: Lateness) -> tuple[Hit, ...]:
    """The single hits of an answer."""
    return tuple(Hit(round(hit.moment, 3), round(hit.onset, 3), hit.used) for hit in found.hits)


def _half(low: float | None, high: float | None) -> float | None:
    """Half the width of an interval; None where an end is not known."""
    return None if low is None or high is None else (high - low) / 2


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None
