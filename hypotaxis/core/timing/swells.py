"""How late is a sound whose beginnings cannot be read, only that it swells?

Notes that flow into each other, or that rise slowly out of noise, have no edge. What can be known is when their
envelope has risen by a tenth of its own swell, note by note, and how much that leaves open. Such a value is told with
its doubt and a low confidence; two takes are told apart far better by comparing them (against.py).
"""

import numpy as np

from hypotaxis.core.timing.novelty import Novelty, best_lags
from hypotaxis.core.timing.recording import Recording

AROUND_MS = 120.0
"""How far before and behind the coarse beginning a swell is looked for."""
SMOOTH_MS = 10
SWELLS_BY = 1.25
"""Least height of a swell against the level before it."""
STRONG_RISE, SOFT = np.log(4.0), 0.3
"""A rise of 12 dB in a millisecond is an edge; a sound with fewer edges than this share of its notes is soft."""


def swell(curve: Novelty) -> np.ndarray:
    """How much louder the next 25 ms are than those before, one value a ms, natural log: where sounds begin, be it
    slowly."""
    level = np.log(curve.level + max(curve.loudest * 0.003, 1e-9))
    kernel = np.concatenate([np.full(25, 1.0), np.full(25, -1.0)]) / 25
    return np.maximum(np.convolve(level, kernel, mode="same"), 0.0)


def coarse_lag(curve: Novelty, positions: np.ndarray, rate: int, range_ms: tuple[float, float]) -> float | None:
    """Roughly how many ms behind the moments (samples) the sound swells; None where nothing does."""
    slow = Novelty(curve.side, swell(curve).astype(np.float32), curve.level, curve.floor, curve.hop, curve.clipped)
    low, high = range_ms
    lags = best_lags(slow, positions, rate)
    return next((lag.lateness_ms for lag in lags if low - 30 <= lag.lateness_ms <= high + 30), None)


def is_soft(curve: Novelty, moments: int) -> bool:
    """Whether a recording has hardly an edge for so many moments."""
    strong = np.flatnonzero(curve.rises >= STRONG_RISE)
    edges = 1 + int((np.diff(strong) > 30).sum()) if len(strong) else 0
    return edges < SOFT * moments


def swell_onsets(
    recording: Recording, curve: Novelty, positions: np.ndarray, lag_ms: float
) -> tuple[np.ndarray, np.ndarray]:
    """(when each note's envelope has risen by a tenth, how long it takes to nine tenths), in samples; NaN where nothing
    swells."""
    rate = recording.rate
    hop = max(1, round(rate / 1000))
    gaps = np.diff(positions, append=np.inf) * 1000 / rate
    onset, rise = np.full(len(positions), np.nan), np.full(len(positions), np.nan)
    kernel = np.hanning(2 * SMOOTH_MS + 3)[1:-1]
    for row, (position, gap) in enumerate(zip(positions, gaps, strict=True)):
        before, after = AROUND_MS, min(2 * AROUND_MS, 0.9 * gap)
        first = int(position + (lag_ms - before - SMOOTH_MS) * rate / 1000)
        count = round(before + after) + 2 * SMOOTH_MS
        power = recording.piece(curve.side, first, first + count * hop).astype(np.float64)
        level = np.sqrt(np.convolve((power.reshape(count, hop) ** 2).mean(axis=1), kernel / kernel.sum(), "valid"))
        peak_at = round(before / 2) + int(level[round(before / 2) :].argmax())
        low_at = int(level[: peak_at + 1].argmin())
        low, peak = level[low_at], level[peak_at]
        if peak < SWELLS_BY * max(low, 1e-9):
            continue
        up = level[low_at : peak_at + 1]
        tenth, most = (low_at + _passing(up, low + share * (peak - low)) for share in (0.1, 0.9))
        onset[row] = first + (tenth + SMOOTH_MS) * hop
        rise[row] = (most - tenth) * hop
    return onset, rise


def _passing(level: np.ndarray, threshold: float) -> float:
    """Where a level last comes up to a threshold, between its values."""
    below = np.flatnonzero(level < threshold)
    if len(below) == 0 or below[-1] + 1 >= len(level):
        return 0.0
    at = int(below[-1])
    return at + (threshold - level[at]) / (level[at + 1] - level[at])
