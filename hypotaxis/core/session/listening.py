"""What came back? Levels, clips and activity of recorded blocks.

Levels are sample peaks in dBFS; a clip is three or more samples in a row at full scale (common practice).
"""

import math
from dataclasses import dataclass, field

import numpy as np

from hypotaxis.core.units import CLIP_RUN, factor_to_db, stored_db

FULL_SCALE = 1.0 - 2.0**-23
ACTIVITY_DB = 12.0
"""How far above the resting level an input must rise to count as having moved."""
AUDIBLE_DB = -70.0


@dataclass(frozen=True)
class Shown:
    """A meter as a page shows it: the level now and the highest so far in dBFS, a floor in the place of silence."""

    name: str
    level: float
    peak: float
    clips: int = 0
    clipped_at: int = -1
    """Frame, from the run's first, of the first of them; -1 = none."""


@dataclass
class InputMeter:
    """One input's meter."""

    name: str
    level_db: float = -math.inf
    """Peak of the last block."""
    peak_db: float = -math.inf
    """Highest so far."""
    rest_db: float = math.inf
    clips: int = 0
    """Runs at full scale."""
    hold_frames: int = 0
    held_db: float = -math.inf
    """The peak that is shown, held for hold_frames frames (0 = until `reset`)."""
    _held_for: int = field(default=0, repr=False)
    clipped_at: int = -1
    """Frame of the first clip, counted from the first that was fed; -1 = none."""
    _run: int = field(default=0, repr=False)
    _fed: int = field(default=0, repr=False)

    def feed(self, samples: np.ndarray) -> None:
        """Take in the next block, shape (frames,); an empty block changes nothing."""
        if len(samples) == 0:
            return
        heights = np.abs(samples)
        self.level_db = factor_to_db(float(heights.max()))
        self.peak_db = max(self.peak_db, self.level_db)
        self.rest_db = min(self.rest_db, self.level_db)
        self._held_for += len(samples)
        if self.level_db >= self.held_db or (self.hold_frames and self._held_for > self.hold_frames):
            self.held_db, self._held_for = self.level_db, 0
        self._count_clips(heights >= FULL_SCALE)
        self._fed += len(samples)

    def _count_clips(self, full: np.ndarray) -> None:
        if not full.any():
            self._run = 0
            return
        edges = np.flatnonzero(np.diff(np.concatenate([[0], full.astype(np.int8), [0]])))
        for start, end in zip(edges[::2], edges[1::2], strict=True):
            length = int(end - start)
            before = self._run if start == 0 else 0
            # A run that goes on from the last block is one clip, counted when it becomes long enough.
            if before < CLIP_RUN <= before + length:
                self.clips += 1
                self.clipped_at = self._fed + int(start) if self.clipped_at < 0 else self.clipped_at
            self._run = before + length if end == len(full) else 0
        if not full[-1]:
            self._run = 0

    @property
    def shown(self) -> Shown:
        """What is kept of it for the page."""
        level, peak = (round(stored_db(db), 2) for db in (self.level_db, self.peak_db))
        return Shown(self.name, level, peak, self.clips, self.clipped_at)

    def reset(self) -> None:
        """Let go of the held peak and of the clip marks; what has been heard so far is not forgotten."""
        self.held_db, self._held_for, self.clips, self.clipped_at = -math.inf, 0, 0, -1

    @property
    def moved(self) -> bool:
        """Whether something was heard: audible, and well above what rests there."""
        return self.peak_db > AUDIBLE_DB and self.peak_db > self.rest_db + ACTIVITY_DB
