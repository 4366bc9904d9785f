"""Levels as bars on a scale from −60 to 0 dBFS."""

import math
from dataclasses import dataclass

BOTTOM_DB = -60.0
WIDTH = 92
TICKS_DB = (-48, -36, -24, -12, 0)


@dataclass(frozen=True)
class LevelBar:
    """Bar, peak mark and reference mark in pixels of its scale; clipped: full scale was reached."""

    width: float
    hold: float
    clipped: bool
    reference: float | None = None
    scale_w: float = WIDTH

    @property
    def ticks(self) -> tuple[float, ...]:
        """Pixels of the marks of the scale, one every 12 dB."""
        return tuple(level_x(db, self.scale_w) for db in TICKS_DB)


def level_x(level_db: float, scale_w: float = WIDTH) -> float:
    """Pixel of a level, held inside a scale so wide.

    >>> level_x(0), level_x(-60), level_x(-math.inf)
    (92.0, 0.0, 0.0)
    """
    if level_db == -math.inf:
        return 0.0
    return round(scale_w * min(1.0, max(0.0, 1 - level_db / BOTTOM_DB)), 1)


def level_bar(
    level_db: float,
    peak_db: float,
    clipped: bool,
    reference_db: float | None = None,
    *,
    scale_w: float = WIDTH,
) -> LevelBar:
    """The bar of a meter: level now, highest so far, and a mark that the owner aims at."""
    mark = None if reference_db is None else level_x(reference_db, scale_w)
    return LevelBar(level_x(level_db, scale_w), level_x(peak_db, scale_w), clipped, mark, scale_w)
