"""The sound of takes as lines.

A file is named by its content, so what is drawn of it is kept by its name: a page that is shown again, or of which one
track has changed, draws nothing twice.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from hypotaxis.core.drawing.glass import GlassView, Wave, draw_wave
from hypotaxis.core.drawing.peaks import columns_of
from hypotaxis.core.drawing.strips import outline
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.records import audio

STRIP_W, SOUND_H = 1000, 44
COLUMNS = 600
KEPT = 1024
"""Lines of each kind, some ten kB each: two a track under the glass."""


@dataclass(frozen=True)
class Laid:
    """Along what a strip is laid. last: session sample of its right edge; rate: samples a second; tempo: the session's;
    own: that of a take which was played apart from it."""

    last: float
    rate: int
    tempo: TempoMap
    own: TempoMap | None


@lru_cache(KEPT)
def outline_of(file: str, start: float, laid: Laid, low_column: int, high_column: int, gain: float) -> str:
    """A sound that starts at a session sample, in the columns of its strip from the low one to before the high one.
    Raises SoundLost."""
    edges = np.linspace(0.0, laid.last, COLUMNS + 1)
    if laid.own:
        # Bars stand on bars: drawn where its own tempo has them.
        edges = laid.own.samples_at(laid.tempo.ticks_at_us(edges * 1e6 / laid.rate).round(), laid.rate)
    low, high = columns_of(audio.peaks(file), edges - start)
    shown = slice(low_column, high_column)
    width = STRIP_W / COLUMNS
    return outline(low[shown], high[shown], low_column * width, width, SOUND_H, gain)


@lru_cache(KEPT)
def wave_of(file: str, start: int, view: GlassView, gain: float, body: bool) -> Wave:
    """A sound that starts at a session sample, under the glass. Raises SoundLost."""
    first, last = view.window()
    return draw_wave(view, audio.read_frames(file, first - start, last - start)[:, 0], gain, body=body)
