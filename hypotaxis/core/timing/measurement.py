"""What a recording says of a trip's lateness: the one record that is kept of a take and of a sounding alike.

Lateness in ms, + late; every interval at 95 %, None where it is not known. Single hits are kept beside it.
"""

import math
from dataclasses import dataclass
from typing import NamedTuple

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
        if self.lateness_low is None or self.lateness_high is None:
            return None
        return (self.lateness_high - self.lateness_low) / 2

    @property
    def jitter_half(self) -> float | None:
        """Half the width of the jitter's interval."""
        if self.jitter_low is None or self.jitter_high is None:
            return None
        return (self.jitter_high - self.jitter_low) / 2

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


def hits_of(found: Lateness) -> tuple[Hit, ...]:
    """The single hits of an answer."""
    return tuple(Hit(round(hit.moment, 3), round(hit.onset, 3), hit.used) for hit in found.hits)


def _known(value: float) -> float | None:
    return value if math.isfinite(value) else None
