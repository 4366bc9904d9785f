"""A sounding opened: lateness of each hit over time with the fitted line, and all hits laid over each other.

Pixels of plots PLOT_W x PLOT_H; times in seconds of the recording, lateness in ms.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.drawing.paths import polyline
from hypotaxis.core.timing.measurement import Overlay
from hypotaxis.core.units import signed

PLOT_W, PLOT_H = 420, 170
MOST_DOTS = 1200
STEPS = (0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, 200)
CLOCK_STEPS = (1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1200, 1800, 3600)


@dataclass(frozen=True)
class Dot:
    """One hit: its place, its number among the matched ones, whether it was used, and how it is spoken of."""

    x: float
    y: float
    number: int
    used: bool
    spoken: str


@dataclass(frozen=True)
class HitsPlot:
    """dots; the fitted line and the band of one standard deviation around it as paths; scale marks (place, label)."""

    dots: tuple[Dot, ...]
    line: str
    band: str
    marks_y: tuple[tuple[float, str], ...]
    marks_x: tuple[tuple[float, str], ...]


@dataclass(frozen=True)
class OverlayPlot:
    """Paths of the hits; x of the score's moment and of the median with its band; scale marks (place, label)."""

    lines: tuple[str, ...]
    score_x: float
    median_x: float
    band_x: float
    band_w: float
    marks: tuple[tuple[float, str], ...]


def hits_plot(
    hits: Sequence[Sequence[float]], rate: int, *, start_ms: float, end_ms: float, jitter_ms: float
) -> HitsPlot:
    """hits: rows of (moment, onset, used), samples at `rate`; start_ms, end_ms: the line at the first and last one.

    Of very many hits an even selection is drawn, those set aside always.
    """
    rows = np.array([[moment, onset, bool(used)] for moment, onset, used in hits], dtype=np.float64)
    seconds, used = rows[:, 0] / rate, rows[:, 2] > 0
    late = (rows[:, 1] - rows[:, 0]) * 1000 / rate
    shown = late[used] if used.any() else late
    low, high = min(shown.min(), start_ms - jitter_ms, end_ms - jitter_ms), max(shown.max(), start_ms, end_ms)
    step = _step((max(high - low, 0.05)) / 4)
    bottom, top = np.floor(low / step) * step, np.ceil(max(high, low + step) / step) * step
    first, last = float(seconds[0]), float(max(seconds[-1], seconds[0] + 0.1))

    def x(time):
        return np.round((np.asarray(time) - first) / (last - first) * PLOT_W, 2)

    def y(value):
        # A hit that was set aside far off stands at the edge.
        return np.round(np.clip((top - np.asarray(value)) / (top - bottom), -0.03, 1.03) * PLOT_H, 2)

    even = np.linspace(0, len(rows) - 1, min(len(rows), MOST_DOTS)).astype(int)
    kept = np.unique(np.concatenate([even, np.flatnonzero(~used)]))
    dots = tuple(
        Dot(
            float(x(seconds[at])),
            float(y(late[at])),
            at,
            bool(used[at]),
            f"hit at {seconds[at]:.2f} s: {late[at]:+.2f} ms" + ("" if used[at] else ", set aside"),
        )
        for at in kept.tolist()
    )
    ends = [(0.0, start_ms), (float(PLOT_W), end_ms)]
    upper = [(px, float(y(value + jitter_ms))) for px, value in ends]
    lower = [(px, float(y(value - jitter_ms))) for px, value in reversed(ends)]
    marks = np.arange(bottom, top + step / 2, step)
    digits = max(0, int(np.ceil(-np.log10(step) - 1e-9)))
    every = next((s for s in CLOCK_STEPS if (last - first) / s <= 6), 3600)
    clock = np.arange(np.ceil(first / every) * every, last + 1e-9, every)
    return HitsPlot(
        dots,
        polyline([(px, float(y(value))) for px, value in ends]),
        polyline(upper + lower) + "z",
        tuple((float(y(mark)), f"{mark:.{digits}f}".replace("-", "−")) for mark in marks.tolist()),
        tuple((float(x(mark)), f"{mark:.0f}") for mark in clock.tolist()),
    )


def overlay_plot(overlay: Overlay, *, median_ms: float, jitter_ms: float) -> OverlayPlot:
    """All hits laid over each other, with the median and its spread."""
    first, last = overlay.first_ms, overlay.last_ms
    per_ms = PLOT_W / (last - first)

    def x(ms: float) -> float:
        return round((ms - first) * per_ms, 2)

    lines = []
    for line in overlay.lines:
        across = (np.arange(len(line)) + 0.5) * PLOT_W / len(line)
        lines.append(polyline(list(zip(across, (1 - np.array(line)) * PLOT_H / 2, strict=True))))
    step = next(s for s in (5, 10, 20, 50, 100) if (last - first) / s <= 8)
    marks = np.arange(np.ceil(first / step) * step, last + 1e-9, step)
    half = max(jitter_ms * per_ms, 1.0)
    return OverlayPlot(
        tuple(lines),
        x(0.0),
        x(median_ms),
        round(x(median_ms) - half, 2),
        round(2 * half, 2),
        tuple((x(mark), signed(mark, 0)) for mark in marks.tolist()),
    )


def _step(rough: float) -> float:
    return next((step for step in STEPS if step >= rough), STEPS[-1])
