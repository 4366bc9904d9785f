"""Roughly when does something begin? A coarse curve of rises, and the lag at which a score fits it.

The curve has one value a millisecond: how far, in natural-log amplitude, the signal rises above what it was just
before, in itself or in its first or second difference, whichever rises most: a note that begins while another rings
as loudly shows in the differences first. Correlating it with the score's moments over every lag in range gives the
lateness to about a millisecond, however loud or soft the hits are; a grid over the drift keeps long recordings sharp.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d

HOP_MS = 1.0
LOOK_BACK = 22
"""Hops before a moment whose highest level counts as "just before": a period of the lowest usual bass note."""
RISE_CAP = 2.5
"""Rises count up to this (about 22 dB), so that no single loud hit decides."""
SEGMENT_S = 20.0
MAX_DRIFT_PPM = 320.0
SEARCH_MS = (-40.0, 290.0)
"""Searched more widely than accepted, so that a lateness outside the range is seen rather than mistaken."""


@dataclass(frozen=True, eq=False)
class Novelty:
    """rises: one value a hop; level: half the peak-to-peak in each hop; floor: level of the background."""

    rises: np.ndarray
    level: np.ndarray
    floor: float
    hop: float


@dataclass(frozen=True)
class Lag:
    """A lag that fits: lateness_ms in the middle of the moments, drift_ppm, and its share of the best possible."""

    lateness_ms: float
    drift_ppm: float
    score: float


def novelty(signal: np.ndarray, rate: int) -> Novelty:
    """The curve of a mono signal (frames,)."""
    hop = round(rate * HOP_MS / 1000)
    count = len(signal) // hop
    if count == 0:
        return Novelty(np.zeros(0), np.zeros(0), 0.0, hop)
    rises = np.zeros(count)
    level = _level(signal, count, hop)
    band, band_level = signal, level
    for _ in range(3):
        rises = np.maximum(rises, _rises(band_level))
        band = np.diff(band, prepend=band[:1])
        band_level = _level(band, count, hop)
    return Novelty(rises, level, float(np.percentile(level, 10)), hop)


def spectral_novelty(signal: np.ndarray, rate: int) -> Novelty:
    """A slower curve for notes that ring into each other: rises of the short-time spectrum, in any of its bins.

    Hann window of about 21 ms every 4 ms, levels on a log scale from 60 dB under the loudest bin; a note that begins
    shows in the bins of its own pitch, however loudly others ring.
    """
    plain = novelty(signal, rate)
    size = 1 << max(6, round(np.log2(rate * 0.021)))
    step = 4 * plain.hop
    if len(signal) < size + step:
        return plain
    window = np.hanning(size).astype(np.float32)
    frames = np.lib.stride_tricks.sliding_window_view(signal.astype(np.float32), size)[::step]
    flux = np.zeros(len(frames))
    before = None
    for start in range(0, len(frames), 2048):
        loud = np.abs(np.fft.rfft(frames[start : start + 2048] * window, axis=1))
        if before is None:
            top = max(float(loud.max()), 1e-12)
            before = np.zeros((2, loud.shape[1]))
        logs = np.log10(np.maximum(loud / top, 1e-3)) + 3
        known = np.concatenate([before, logs])
        flux[start : start + len(logs)] = np.maximum(logs - np.maximum(known[1:-1], known[:-2]), 0).mean(axis=1)
        before = known[-2:]
    peak = max(float(np.percentile(flux, 99.5)), 1e-9)
    centres = (np.arange(len(frames)) * step + size / 2) / plain.hop
    # A frame sees a note when its window has begun to reach over the onset: about a quarter of it early.
    rises = np.interp(np.arange(len(plain.rises)) + size / 8 / plain.hop, centres, np.clip(flux / peak, 0, 1))
    return Novelty(rises * RISE_CAP, plain.level, plain.floor, plain.hop)


def _level(signal: np.ndarray, count: int, hop: int) -> np.ndarray:
    blocks = signal[: count * hop].reshape(count, hop)
    return (blocks.max(axis=1) - blocks.min(axis=1)).astype(np.float64) / 2


def _rises(level: np.ndarray) -> np.ndarray:
    top = float(level.max())
    floor = float(np.percentile(level, 10))
    # Below 50 dB under the peak, or hardly above the background, a rise is no event.
    ground = max(top * 10 ** (-50 / 20), min(floor * 1.5, top * 0.1), 1e-9)
    log = np.log(level + ground)
    # The filter's window is shifted so that it ends just before each hop.
    padded = np.concatenate([np.full(LOOK_BACK, np.log(ground)), log])[:-1]
    before = maximum_filter1d(padded, LOOK_BACK, origin=0)[LOOK_BACK // 2 :][: len(level)]
    return np.clip(log - before, 0.0, RISE_CAP)


def best_lags(curve: Novelty, positions: np.ndarray, rate: int) -> list[Lag]:
    """Lags at which the moments fit the curve, best first; empty when nothing rises anywhere.

    Only local peaks of the correlation are listed, at least 12 ms apart.
    """
    first, last = (int(ms / HOP_MS) for ms in SEARCH_MS)
    lags = np.arange(first, last + 1)
    times = positions / rate
    middle = float((times[0] + times[-1]) / 2)
    segments = np.floor((times - times[0]) / SEGMENT_S).astype(int)
    table = np.zeros((segments[-1] + 1, len(lags)))
    padded = np.concatenate([np.zeros(-first + 8), curve.rises, np.zeros(last + 8)])
    hops = np.rint(positions / curve.hop).astype(int)
    for start in range(0, len(hops), 4096):
        part = hops[start : start + 4096]
        index = part[:, None] + (lags - first)[None, :] + 8
        index = np.clip(index, 0, len(padded) - 1)
        np.add.at(table, segments[start : start + 4096], padded[index])
    table = _smooth(table)
    centres = (
        np.array(
            [times[segments == number].mean() if (segments == number).any() else 0.0 for number in range(len(table))]
        )
        - middle
    )
    span = max(float(times[-1] - times[0]), 1e-3)
    step = max(4.0 * 1000 / span, 1.0)
    grid = np.arange(-MAX_DRIFT_PPM, MAX_DRIFT_PPM + step, step) if span > 10 else np.zeros(1)
    grid = grid - grid[np.argmin(np.abs(grid))]
    # Of equal fits the smallest drift is the likeliest.
    grid = grid[np.argsort(np.abs(grid), kind="stable")]
    drift = float(max(grid, key=lambda ppm: _sum_along(table, centres, ppm).max()))
    summed = _sum_along(table, centres, drift)
    total = float(summed.max())
    if total <= 0:
        return []
    peaks = []
    order = np.argsort(summed)[::-1]
    for at in order:
        if summed[at] < 0.3 * total or len(peaks) >= 8:
            break
        if all(abs(lags[at] - peak.lateness_ms) >= 12 for peak in peaks):
            peaks.append(Lag(float(lags[at] * HOP_MS), float(drift), float(summed[at] / (RISE_CAP * len(hops)))))
    return peaks


def _smooth(table: np.ndarray) -> np.ndarray:
    """A window of five hops over the lags, so that jitter of some ms still adds up."""
    kernel = np.array([0.5, 0.8, 1.0, 0.8, 0.5])
    wide = np.pad(table, ((0, 0), (2, 2)))
    return sum(weight * wide[:, at : at + table.shape[1]] for at, weight in enumerate(kernel))


def _sum_along(table: np.ndarray, centres: np.ndarray, drift: float) -> np.ndarray:
    total = np.zeros(table.shape[1])
    for row, centre in zip(table, centres, strict=True):
        shift = round(drift * centre / 1000 / HOP_MS)
        total += np.roll(row, -shift)
    return total
