"""Notes and sound as shapes: the strips of a track, and the glass around one moment.

A strip maps session samples to x. Waveforms are drawn as an outline of highest and lowest samples a pixel, or, when
single samples are wide enough, as dots joined by a line. Amplitude ±1 fills the strip's height.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.drawing.paths import number, polyline

SINGLE_SAMPLES_FROM = 2.0
"""Pixels a sample from which samples are drawn one by one."""


@dataclass(frozen=True)
class Span:
    """Session samples first (included) to last (excluded), drawn over `width` pixels."""

    first: float
    last: float
    width: float

    def x(self, sample: float) -> float:
        """Pixel of a session position."""
        return (sample - self.first) * self.width / (self.last - self.first)

    @property
    def pixels_per_sample(self) -> float:
        return self.width / (self.last - self.first)


@dataclass(frozen=True)
class NoteBar:
    """A note as a bar: left edge, top, width in pixels."""

    x: float
    y: float
    w: float


def note_bars(
    starts: np.ndarray, ends: np.ndarray, pitches: np.ndarray, span: Span, height: float, only: np.ndarray | None = None
) -> list[NoteBar]:
    """Bars of the notes inside the span; starts and ends in session samples. The part's range fills the height. only:
    which of them are drawn, None = all."""
    if len(starts) == 0:
        return []
    low, high = int(pitches.min()), int(pitches.max())
    rows = max(high - low, 6)
    lift = (rows - (high - low)) / 2
    inside = (ends > span.first) & (starts < span.last)
    if only is not None:
        inside &= only
    bars = []
    for start, end, pitch in zip(starts[inside], ends[inside], pitches[inside], strict=True):
        left, right = max(0.0, span.x(start)), min(span.width, span.x(end))
        y = 3 + (1 - (int(pitch) - low + lift) / rows) * (height - 8)
        bars.append(NoteBar(round(left, 2), round(y, 2), round(max(right - left - 0.5, 1.2), 2)))
    return bars


def bars_path(bars: list[NoteBar], thickness: float = 2.4) -> str:
    """All bars as one path of little rectangles, so that a thousand notes stay one element."""
    return "".join(f"M{number(b.x)} {number(b.y)}h{number(b.w)}v{thickness}h-{number(b.w)}z" for b in bars)


def outline(low: np.ndarray, high: np.ndarray, x0: float, pitch: float, height: float, gain: float = 1.0) -> str:
    """A filled waveform from extremes a column; the first column's left edge stands at x0."""
    if len(low) == 0:
        return ""
    middle = height / 2
    xs = x0 + (np.arange(len(high)) + 0.5) * pitch
    tops = middle - np.clip(high * gain, -1, 1) * middle
    bottoms = np.maximum(middle - np.clip(low * gain, -1, 1) * middle, tops + 0.4)
    points = list(zip(xs, tops, strict=True)) + list(zip(xs[::-1], bottoms[::-1], strict=True))
    return polyline(points) + "z"


def to_axis(low: np.ndarray, high: np.ndarray, x0: float, pitch: float, height: float, gain: float) -> str:
    """A waveform filled from its zero line, so that a wave wider than a column still shows as a body."""
    return outline(np.minimum(low, 0.0), np.maximum(high, 0.0), x0, pitch, height, gain)


def single_samples(samples: np.ndarray, first: float, span: Span, height: float, gain: float) -> tuple[str, list]:
    """(path through the samples, their dots as (x, y)); first: session position of samples[0]."""
    middle = height / 2
    points = [
        (span.x(first + index), middle - float(np.clip(value * gain, -1, 1)) * middle)
        for index, value in enumerate(samples)
    ]
    return polyline(points), points


def extremes(samples: np.ndarray, columns: int) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest sample in each of `columns` equal stretches; empty input gives empty arrays."""
    if len(samples) == 0 or columns <= 0:
        return np.zeros(0), np.zeros(0)
    edges = np.linspace(0, len(samples), columns + 1).astype(int)[:-1]
    edges = np.minimum(edges, len(samples) - 1)
    return np.minimum.reduceat(samples, edges), np.maximum.reduceat(samples, edges)
