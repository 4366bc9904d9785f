"""Two clocks that only share a typed tempo: how far do they part?"""

from dataclasses import dataclass

CRYSTAL_PPM = 100.0
"""Two ordinary crystals differ by up to so much (common practice: ±50 ppm each)."""


@dataclass(frozen=True)
class Wander:
    """ppm: by how much they differ; ms_a_minute: how far they part; sixteenth_s: until they are a sixteenth apart."""

    ppm: float
    ms_a_minute: float
    sixteenth_s: float


def wander(bpm: float, off_bpm: float = 0.0, crystals_ppm: float = CRYSTAL_PPM) -> Wander:
    """How far clocks part that are typed to `off_bpm` of each other, with crystals that differ.

    >>> one = wander(120, 0.1, 0)
    >>> round(one.ppm), round(one.ms_a_minute), round(one.sixteenth_s)
    (833, 50, 150)
    """
    ppm = off_bpm / bpm * 1e6 + crystals_ppm
    return Wander(ppm, ppm * 60 / 1000, 15_000 / bpm / (ppm / 1000))


def told(seconds: float) -> str:
    """A time in words.

    >>> told(150)
    '2 min 30 s'
    """
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    if hours:
        return f"{hours} h {rest // 60} min"
    return f"{rest // 60} min {rest % 60} s" if rest >= 60 else f"{rest} s"
