"""Notes and sound as shapes: the strips of a track, and the glass around one moment.

A strip maps session samples to x. Waveforms are drawn as an outline of highest and lowest samples a pixel, or, when
single samples are wide enough, as dots joined by a line. Amplitude ±1 fills the strip's height.
"""

from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from hypotaxis.core.drawing.paths import filled, polyline

SINGLE_SAMPLES_FROM = 2.0
"""Pixels a sample from which samples are drawn one by one."""
LEAST_WIDE = 1.2
"""Pixels of the shortest note."""
MOST_APART = 2000
"""Notes up to which each is drawn by itself."""
_Number = TypeVar("_Number", float, np.ndarray)


@dataclass(frozen=True)
class Span:
    """Session samples first (included) to last (excluded), drawn over `width` pixels."""

    first: float
    last: float
    width: float

    def x(self, sample: _Number) -> _Number:
        """Pixel of a session position, or of many."""
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


def note_boxes(
    starts: np.ndarray, ends: np.ndarray, pitches: np.ndarray, span: Span, height: float, only: np.ndarray | None = None
) -> np.ndarray:
    """Notes inside the span as rows of left edge, top and width, in pixels; starts and ends in session samples. The
    part's range fills the height. Of many notes, those between which no pixel is free are one. only: which of them are
    drawn, None = all."""
    if len(starts) == 0:
        return np.zeros((0, 3))
    low, high = int(pitches.min()), int(pitches.max())
    rows = max(high - low, 6)
    lift = (rows - (high - low)) / 2
    inside = (ends > span.first) & (starts < span.last)
    if only is not None:
        inside &= only
    left = np.maximum(0.0, span.x(starts[inside]))
    width = np.maximum(np.minimum(span.width, span.x(ends[inside])) - left - 0.5, LEAST_WIDE)
    top = 3 + (1 - (pitches[inside].astype(int) - low + lift) / rows) * (height - 8)
    boxes = np.stack([left, top, width], axis=1)
    return boxes if len(boxes) <= MOST_APART else _thinned(boxes)


def _thinned(boxes: np.ndarray) -> np.ndarray:
    """Boxes of a height that touch, or leave less than a pixel between them, drawn as one."""
    boxes = boxes[np.lexsort((boxes[:, 0], boxes[:, 1]))]
    left, top, width = boxes.T
    # Heights one behind the other on one line, far enough apart that none touches the next.
    apart = np.unique(top, return_inverse=True)[1] * (2 * (left + width).max() + 2)
    reached = np.maximum.accumulate(apart + left + width)
    new = np.flatnonzero(np.concatenate([[True], (apart + left)[1:] > reached[:-1] + 1]))
    ends = reached[np.concatenate([new[1:], [len(boxes)]]) - 1] - apart[new]
    return np.stack([left[new], top[new], ends - left[new]], axis=1)


def note_bars(starts: np.ndarray, ends: np.ndarray, pitches: np.ndarray, span: Span, height: float) -> list[NoteBar]:
    """The same as single bars, for few of them."""
    return [NoteBar(*row) for row in note_boxes(starts, ends, pitches, span, height).round(2).tolist()]


def bars_path(boxes: np.ndarray, thickness: float = 2.4) -> str:
    """Boxes as one path of little rectangles, so that a thousand notes stay one element."""
    return filled(f"M%.9g %.9gh%.9gv{thickness}h-%.9gz", boxes[:, [0, 1, 2, 2]])


def outline(low: np.ndarray, high: np.ndarray, x0: float, pitch: float, height: float, gain: float = 1.0) -> str:
    """A filled waveform from extremes a column; the first column's left edge stands at x0."""
    if len(low) == 0:
        return ""
    middle = height / 2
    xs = x0 + (np.arange(len(high)) + 0.5) * pitch
    tops = np.round(middle - np.clip(high * gain, -1, 1) * middle, 1)
    bottoms = np.maximum(np.round(middle - np.clip(low * gain, -1, 1) * middle, 1), tops + 0.4)
    return polyline(np.concatenate([_bends(xs, tops), _bends(xs, bottoms)[::-1]])) + "z"


def _bends(xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
    """Points of a line without those in the midst of a level stretch, as silence is."""
    level = (ys[1:-1] == ys[:-2]) & (ys[1:-1] == ys[2:])
    kept = np.concatenate([[True], ~level, [True]])[: len(ys)]
    return np.stack([xs[kept], ys[kept]], axis=1)


def to_axis(low: np.ndarray, high: np.ndarray, x0: float, pitch: float, height: float, gain: float) -> str:
    """A waveform filled from its zero line, so that a wave wider than a column still shows as a body."""
    return outline(np.minimum(low, 0.0), np.maximum(high, 0.0), x0, pitch, height, gain)


def single_samples(samples: np.ndarray, first: float, span: Span, height: float, gain: float) -> tuple[str, np.ndarray]:
    """(path through the samples, their dots, shape (samples, 2)); first: session position of samples[0]."""
    middle = height / 2
    xs = span.x(first + np.arange(len(samples)))
    points = np.stack([xs, middle - np.clip(samples * gain, -1, 1) * middle], axis=1)
    return polyline(points), points


def extremes(samples: np.ndarray, columns: int) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest sample in each of `columns` equal stretches; empty input gives empty arrays."""
    if len(samples) == 0 or columns <= 0:
        return np.zeros(0), np.zeros(0)
    edges = np.linspace(0, len(samples), columns + 1).astype(int)[:-1]
    edges = np.minimum(edges, len(samples) - 1)
    return np.minimum.reduceat(samples, edges), np.maximum.reduceat(samples, edges)
