"""What one reading of a take says of its sound: peak, loudness, its quietest stretch, and where it clips."""

import math
from dataclasses import dataclass, field

import numpy as np

from hypotaxis.core.mixing.loudness import LoudnessMeter
from hypotaxis.core.session.listening import FULL_SCALE
from hypotaxis.core.units import CLIP_RUN, FLOOR_DB, factor_to_db, stored_db

MOST_CLIPS = 200
"""Places that are kept; of more only how many."""


@dataclass(frozen=True)
class Figures:
    """Levels in dB with a floor in the place of silence. clips: the first frame of each run at full scale."""

    peak_db: float = FLOOR_DB
    lufs: float = FLOOR_DB
    floor_db: float = FLOOR_DB
    clips: tuple[int, ...] = field(default=())
    clipped: int = 0


class FigureReader:
    """Takes a recording in block by block."""

    def __init__(self, rate: int, channels: int) -> None:
        self._meter = LoudnessMeter(rate, channels)
        self._peak, self._frame = 0.0, 0
        self._runs = np.zeros(channels, dtype=int)
        self._clips: list[int] = []
        self._clipped = 0

    def feed(self, block: np.ndarray) -> None:
        """The next frames, shape (frames, channels)."""
        if not len(block):
            return
        self._meter.feed(block)
        heights = np.abs(block)
        self._peak = max(self._peak, float(heights.max()))
        if self._runs.any() or float(heights.max()) >= FULL_SCALE:
            self._find_clips(heights >= FULL_SCALE)
        self._frame += len(block)

    def _find_clips(self, full: np.ndarray) -> None:
        for channel in range(full.shape[1]):
            edges = np.flatnonzero(np.diff(np.concatenate([[0], full[:, channel].astype(np.int8), [0]])))
            run = 0
            for start, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
                before = int(self._runs[channel]) if start == 0 else 0
                if before < CLIP_RUN <= before + end - start:
                    self._clipped += 1
                    if len(self._clips) < MOST_CLIPS:
                        self._clips.append(self._frame + start - before)
                run = before + end - start if end == len(full) else 0
            self._runs[channel] = run

    def found(self) -> Figures:
        """What it has come to."""
        peak, lufs = factor_to_db(self._peak), self._meter.integrated
        floor = self._meter.floor_db
        levels = [round(stored_db(value if value > -math.inf else FLOOR_DB), 2) for value in (peak, lufs, floor)]
        return Figures(*levels, tuple(sorted(set(self._clips))), self._clipped)
