"""The glass: one track around one moment, on a scale of milliseconds common to all tracks.

Zero is the moment, where the notes stand. The take is drawn filled where it is placed and in outline where it
arrived; zoomed far enough in, its single samples.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.drawing.paths import number
from hypotaxis.core.drawing.strips import (
    SINGLE_SAMPLES_FROM,
    NoteBar,
    Span,
    extremes,
    note_bars,
    outline,
    single_samples,
    to_axis,
)
from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.units import signed

WIDTH, NOTES_H, SOUND_H = 160, 32, 44
SPANS_MS = (1000.0, 360.0, 160.0, 45.0, 16.0, 6.0, 2.0, 0.8)
"""Zoom steps, from a bar's neighbourhood to single samples."""
DEFAULT_SPAN = 45.0
LEFT_SHARE = 1 / 9
"""Of the span stands before the moment: −5 to +40 ms at the usual zoom."""


@dataclass(frozen=True)
class GlassView:
    """What the glass shows: the moment (session sample, float), a span of SPANS_MS, and an offset of its window; over
    how many pixels."""

    moment: float
    span_ms: float
    offset_ms: float
    rate: int
    width: int = WIDTH

    @property
    def first_ms(self) -> float:
        """Left edge relative to the moment."""
        return self.offset_ms - self.span_ms * LEFT_SHARE

    @property
    def span(self) -> Span:
        """The window in session samples."""
        first = self.moment + self.first_ms * self.rate / 1000
        return Span(first, first + self.span_ms * self.rate / 1000, self.width)

    def window(self) -> tuple[int, int]:
        """Whole session samples that cover the window, one more on each side."""
        return int(np.floor(self.span.first)) - 1, int(np.ceil(self.span.last)) + 2


@dataclass(frozen=True)
class Wave:
    """Sound as a path; dots: its single samples as (x, y), none while they are too narrow."""

    path: str = ""
    dots: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class GlassDrawing:
    """One track's glass."""

    bars: list[NoteBar]
    names: str
    """Of the notes that begin at the moment, lowest first."""
    zero_x: float
    placed: Wave
    """A body filled from the zero line."""
    arrived: Wave
    """An outline."""


def zooms(span_ms: float) -> tuple[float | None, float | None]:
    """Spans of one step wider and one step closer; None at the ends."""
    at = SPANS_MS.index(span_ms)
    return (SPANS_MS[at - 1] if at else None), (SPANS_MS[at + 1] if at + 1 < len(SPANS_MS) else None)


def ticks(view: GlassView) -> list[tuple[float, str]]:
    """(x, label) of the scale, in ms with signs."""
    room = 5.5 * max(1.0, view.width / WIDTH / 2)
    step = next(s for s in (0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500) if view.span_ms / s <= room)
    first = np.ceil(view.first_ms / step) * step
    marks = np.arange(first, view.first_ms + view.span_ms, step)
    digits = 0 if step >= 1 else 1 if step >= 0.1 else 2
    labels = ["0" if abs(m) < step / 10 else signed(m, digits) for m in marks]
    return [
        (round(float((m - view.first_ms) / view.span_ms * view.width), 1), t)
        for m, t in zip(marks, labels, strict=True)
    ]


def draw_glass(
    view: GlassView,
    *,
    notes: tuple[np.ndarray, np.ndarray, np.ndarray],
    placed: Wave | None = None,
    arrived: Wave | None = None,
    name: Callable[[int], str] = note_name,
) -> GlassDrawing:
    """notes: starts and ends (session samples) and pitches; placed, arrived: as `draw_wave` draws them, or None; name:
    what a pitch is called."""
    starts, ends, pitches = notes
    bars = note_bars(starts, ends, pitches, view.span, NOTES_H) if len(starts) else []
    begin = sorted({int(pitch) for pitch in pitches[np.abs(starts - view.moment) < 1]}) if len(starts) else []
    names = ", ".join(name(pitch) for pitch in begin)
    return GlassDrawing(bars, names, round(view.span.x(view.moment), 2), placed or Wave(), arrived or Wave())


def draw_wave(view: GlassView, samples: np.ndarray, gain: float, *, body: bool, height: float = SOUND_H) -> Wave:
    """The samples of view.window(), shape (samples,); none give an empty wave.

    body: filled from the zero line, otherwise an outline. gain brings the peak to full height.
    """
    if len(samples) == 0:
        return Wave()
    first = view.window()[0]
    pitch = view.span.pixels_per_sample
    if pitch >= 0.5:
        path, dots = single_samples(samples, first, view.span, height, gain)
        if body:
            ends = (number(float(dots[place, 0])) for place in (-1, 0))
            path += "".join(f"L{x} {number(height / 2)}" for x in ends) + "z"
        shown = dots.round(2).tolist() if pitch >= SINGLE_SAMPLES_FROM else ()
        return Wave(path, tuple((x, y) for x, y in shown))
    columns = max(2, min(len(samples), round(len(samples) * pitch)))
    low, high = extremes(samples, columns)
    draw = to_axis if body else outline
    return Wave(draw(low, high, view.span.x(first), len(samples) * pitch / columns, height, gain))
