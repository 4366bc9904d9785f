"""Lateness on a scale: a needle at the median, a band of one standard deviation to each side."""

from dataclasses import dataclass

WIDTH = 520.0


@dataclass(frozen=True)
class Scale:
    """A scale from 0 to end_ms over WIDTH pixels; marks: (x, label)."""

    end_ms: float
    marks: tuple[tuple[float, str], ...]


@dataclass(frozen=True)
class Needle:
    """x of the median; the band's left edge and width."""

    x: float
    band_x: float
    band_w: float


def scale(latest_ms: float) -> Scale:
    """A scale with round marks that holds the latest value.

    >>> scale(16.9).end_ms
    20
    """
    step = next((s for s in (1, 2, 5, 10, 20, 50) if latest_ms / s <= 5), 100)
    count = max(4, int(latest_ms // step) + 1)
    end = step * count
    return Scale(end, tuple((WIDTH * mark / count, str(step * mark)) for mark in range(count + 1)))


def needle(lateness_ms: float, jitter_ms: float, end_ms: float) -> Needle:
    """Where a measured lateness stands on the scale; earlier than zero is held at zero."""
    pixel = WIDTH / end_ms
    x = max(0.0, lateness_ms * pixel)
    half = max(jitter_ms * pixel, 1.0)
    return Needle(round(x, 2), round(x - half, 2), round(2 * half, 2))
