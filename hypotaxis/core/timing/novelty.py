"""Roughly when does something begin? A coarse curve of rises, and the lag at which a score fits it.

The curve has one value a millisecond: how far, in natural-log amplitude, the signal rises above what it was just
before, in itself or in its first or second difference, whichever rises most: a note that begins while another rings
as loudly shows in the differences first. Correlating it with the score's moments over every lag in range gives the
lateness to about a millisecond, however loud or soft the hits are; a grid over the drift keeps long recordings sharp.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from hypotaxis.core.timing.levels import Levels, hop_of
from hypotaxis.core.timing.recording import Recording
from hypotaxis.core.timing.running import highest_ending

LOOK_BACK = 22
"""Hops before a moment whose highest level counts as "just before": a period of the lowest usual bass note."""
AHEAD = 8
RISE_CAP = 2.5
"""Rises count up to this (about 22 dB), so that no single loud hit decides."""
SEGMENT_S = 20.0
SELECTED = 200_000
"""Hops, 200 s of them, that say what a longer recording rests at."""
MAX_DRIFT_PPM = 360.0
SEARCH_MS = (-40.0, 290.0)
"""Searched more widely than accepted, so that a lateness outside the range is seen rather than mistaken."""


@dataclass(frozen=True, eq=False)
class Novelty:
    """One side's curve, one value a hop of `hop` samples."""

    side: int
    rises: np.ndarray
    """As above."""
    level: np.ndarray
    """Half the peak-to-peak."""
    floor: float
    """Level of the background."""
    hop: int
    clipped: bool
    """Whether the format's extreme was held."""

    @cached_property
    def swells(self) -> np.ndarray:
        """A curve for sounds that rise slowly out of noise, no single hop of which rises much: how far the highest of
        the next AHEAD hops stands above what was just before."""
        return _swells(self.level)

    @cached_property
    def is_steady(self) -> bool:
        """Whether it is as loud all along, over stretches of 20 hops, as a noise floor or a drone is: within 3.5 dB."""
        if len(self.level) < 400:
            return False
        ends = np.convolve(self.level, np.full(20, 1 / 20), "valid")
        return float(ends.max()) < 1.5 * float(np.median(ends))

    @property
    def loudest(self) -> float:
        """Highest level anywhere."""
        return float(self.level.max(initial=0.0))


@dataclass(frozen=True)
class Lag:
    """A lag that fits: lateness_ms in the middle of the moments, drift_ppm, and its share of the best possible."""

    lateness_ms: float
    drift_ppm: float
    score: float


def novelty(recording: Recording, sides: Sequence[int], levels: Levels) -> list[Novelty]:
    """The curves of some sides, from their levels."""
    hop = hop_of(recording.rate)
    found = []
    for side, rows, clipped in zip(sides, levels.hops, levels.clipped, strict=True):
        rows = np.ascontiguousarray(rows)
        found.append(Novelty(side, _rises_of(rows), rows[0], _floor(rows[0]), hop, clipped))
    return found


def spectral_novelty(recording: Recording, plain: Novelty) -> Novelty:
    """A slower curve for notes that ring into each other: rises of the short-time spectrum, in any of its bins.

    Hann window of about 21 ms every 4 ms, levels on a log scale from 60 dB under the loudest bin; a note that begins
    shows in the bins of its own pitch, however loudly others ring.
    """
    size = 1 << max(6, round(np.log2(recording.rate * 0.021)))
    step = 4 * plain.hop
    frames = (recording.frames - size) // step + 1
    if frames < 2:
        return plain
    window = np.hanning(size).astype(np.float32)
    flux = np.zeros(frames, dtype=np.float32)
    top = max(plain.loudest, 1e-9) * size / 4
    before = None
    for start in range(0, frames, 2048):
        count = min(2048, frames - start)
        signal = recording.piece(plain.side, start * step, (start + count - 1) * step + size)
        views = np.lib.stride_tricks.sliding_window_view(signal, size)[::step]
        loud = np.abs(np.fft.rfft(views * window, axis=1))
        logs = np.log10(np.maximum(loud / top, 1e-3)) + 3
        known = np.concatenate([np.zeros((2, loud.shape[1])) if before is None else before, logs])
        flux[start : start + count] = np.maximum(logs - np.maximum(known[1:-1], known[:-2]), 0).mean(axis=1)
        before = known[-2:]
    peak = max(float(np.percentile(flux, 99.5)), 1e-9)
    centres = (np.arange(frames) * step + size / 2) / plain.hop
    # A frame sees a note when its window has begun to reach over the onset: about a quarter of it early.
    rises = np.interp(np.arange(len(plain.rises)) + size / 8 / plain.hop, centres, np.clip(flux / peak, 0, 1))
    return replace(plain, rises=(rises * RISE_CAP).astype(np.float32))


def _rises_of(levels: np.ndarray) -> np.ndarray:
    rises = np.zeros(levels.shape[1], dtype=np.float32)
    for level in levels if levels.shape[1] else ():
        np.maximum(rises, _rises(level), out=rises)
    return rises


def _rises(level: np.ndarray) -> np.ndarray:
    log, before = _log_levels(level)
    return np.clip(log - before, 0.0, RISE_CAP)


def _swells(level: np.ndarray) -> np.ndarray:
    if len(level) == 0:
        return level
    log, before = _log_levels(level)
    coming = highest_ending(log[::-1], AHEAD)[::-1]
    return np.clip(coming - before, 0.0, RISE_CAP)


def _floor(level: np.ndarray) -> float:
    """The level under which a tenth of it lies; of a long one, of an even selection."""
    return float(np.percentile(level[:: max(1, len(level) // SELECTED)], 10)) if len(level) else 0.0


def _log_levels(level: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(natural log of each level, highest of it over the LOOK_BACK hops before)."""
    top = float(level.max())
    floor = _floor(level)
    # Below 50 dB under the peak, or hardly above the background, a rise is no event.
    ground = max(top * 10 ** (-50 / 20), min(floor * 1.5, top * 0.1), 1e-9)
    log = np.log(level + np.float32(ground))
    before = np.full_like(log, np.log(ground))
    before[1:] = np.maximum(before[1:], highest_ending(log, LOOK_BACK)[:-1])
    return log, before


def best_lags(curve: Novelty, positions: np.ndarray, rate: int) -> list[Lag]:
    """Lags at which the moments fit the curve, best first; empty when nothing rises anywhere.

    Only local peaks of the correlation are listed, at least 12 ms apart.
    """
    hop_ms = curve.hop * 1000 / rate
    first, last = (int(ms / hop_ms) for ms in SEARCH_MS)
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
    turned = _turned(_smooth(table))
    drift = float(max(grid, key=lambda ppm: _sum_along(turned, centres * ppm / 1000 / hop_ms).max()))
    summed = _sum_along(turned, centres * drift / 1000 / hop_ms)
    total = float(summed.max())
    if total <= 0:
        return []
    peaks = []
    order = np.argsort(summed)[::-1]
    for at in order:
        if summed[at] < 0.3 * total or len(peaks) >= 8:
            break
        if all(abs(lags[at] * hop_ms - peak.lateness_ms) >= 12 for peak in peaks):
            peaks.append(Lag(float(lags[at] * hop_ms), float(drift), float(summed[at] / (RISE_CAP * len(hops)))))
    return peaks


def _smooth(table: np.ndarray) -> np.ndarray:
    """A window of five hops over the lags, so that jitter of some ms still adds up."""
    kernel = np.array([0.5, 0.8, 1.0, 0.8, 0.5])
    wide = np.pad(table, ((0, 0), (2, 2)))
    return sum(weight * wide[:, at : at + table.shape[1]] for at, weight in enumerate(kernel))


def _turned(table: np.ndarray) -> np.ndarray:
    """A view of each row moved earlier by 0, 1, 2 … places, shape (rows, places, columns); what leaves at one end comes
    back at the other."""
    twice = np.concatenate([table, table[:, :-1]], axis=1)
    return np.lib.stride_tricks.sliding_window_view(twice, table.shape[1], axis=1)


def _sum_along(turned: np.ndarray, shifts: np.ndarray) -> np.ndarray:
    """Sum of the rows, each moved earlier by its shift."""
    return turned[np.arange(len(turned)), np.rint(shifts).astype(int) % turned.shape[1]].sum(axis=0)
