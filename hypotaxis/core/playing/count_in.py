"""The click to play to: where it stands, in a count-in and along the bars, and how it sounds.

Times are seconds from the beginning of a run; a click's edge is its first sample.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.session.glue import click
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.units import db_to_factor

UNACCENTED_DB = -9.0
"""Of the beats between the first ones of the bars."""


@dataclass(frozen=True)
class Beat:
    """A beat of the click."""

    at_s: float
    accent: bool


def count_in_s(tempo: TempoMap, *, first_bar: int, bars: int) -> float:
    """How long so many bars of count-in last, at the pace of the first bar."""
    begins, ends = tempo.us_at(np.array([tempo.bar_tick(first_bar), tempo.bar_tick(first_bar + 1)]))
    return bars * float(ends - begins) / 1e6


def beats(tempo: TempoMap, *, first_bar: int, last_bar: int, count_in: int, first_s: float) -> list[Beat]:
    """The beats of so many bars of count-in, then of the bars. first_s: when the first bar begins."""
    found = []
    bar_s, number = count_in_s(tempo, first_bar=first_bar, bars=1), tempo.beats_in_bar(first_bar)
    for bar in range(count_in):
        since = first_s - (count_in - bar) * bar_s
        found += [Beat(since + beat * bar_s / number, beat == 0) for beat in range(number)]
    zero_s = first_s - float(tempo.us_at(tempo.bar_tick(first_bar))) / 1e6
    for bar in range(first_bar, last_bar + 1):
        number = tempo.beats_in_bar(bar)
        begins, ends = tempo.bar_tick(bar), tempo.bar_tick(bar + 1)
        ticks = begins + (ends - begins) * np.arange(number) // number
        times = zero_s + tempo.us_at(ticks) / 1e6
        found += [Beat(float(at), place == 0) for place, at in enumerate(times)]
    return found


class ClickTrack:
    """The click as an output plays it."""

    def __init__(self, found: list[Beat], *, rate: int, level_db: float) -> None:
        self._frames = np.array([round(one.at_s * rate) for one in found], dtype=np.int64)
        self._gains = [db_to_factor(level_db + (0.0 if one.accent else UNACCENTED_DB)) for one in found]
        self._sound = click(rate) / np.abs(click(rate)).max()

    def __call__(self, start: int, frames: int) -> np.ndarray:
        """Its samples in a stretch of a run."""
        heard = np.zeros(frames)
        low = int(np.searchsorted(self._frames, start - len(self._sound), side="right"))
        high = int(np.searchsorted(self._frames, start + frames))
        for place in range(low, high):
            begins = int(self._frames[place]) - start
            from_frame, to_frame = max(0, begins), min(frames, begins + len(self._sound))
            heard[from_frame:to_frame] += self._gains[place] * self._sound[from_frame - begins : to_frame - begins]
        return heard
