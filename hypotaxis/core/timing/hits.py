"""Exactly when does a hit begin?

A hit's onset is the first point where the rectified signal, its local mean removed and counted from the level in
the 5 ms before the rise, passes 10 % of the hit's own peak, interpolated between samples. The peak is the highest
point within 150 ms or before the next moment. Nothing that shifts or smears time is applied to the signal.
"""

from dataclasses import dataclass

import numpy as np
from scipy.signal import lfilter, lfiltic

from hypotaxis.core.timing.novelty import Novelty

BEFORE_MS = 5.0
PEAK_MS = 150.0
THRESHOLD = 0.10
RINGING = 0.12
"""Level before a hit, as a share of its height, from which what rings is taken off first."""
LEARN_MS, QUIET_MS, OWN_PEAK_MS, ORDER = 30.0, 2.0, 60.0, 32
"""What the ringing is learnt from, the stretch just before the hit, and how far the continuation is trusted."""
SURPRISE = 6.0
"""How far a sample must depart from its prediction, against the largest departure before, to begin something new."""
MIN_RISE = 0.35
"""Smallest rise of the coarse curve (natural log, 3 dB) that is taken for the beginning of a hit."""


@dataclass(frozen=True)
class Hit:
    """onset: position in samples (float); peak: height above the level before; base: that level."""

    onset: float
    peak: float
    base: float


def find_hit(signal: np.ndarray, curve: Novelty, rate: int, *, around: float, reach: float, until: float) -> Hit | None:
    """The hit that begins within `reach` samples of `around`, its peak before `until`; None when nothing rises."""
    first, last = max(0, int(around - reach)), int(around + reach) + 1
    plain = _plain_hit(signal, curve, rate, first, last, until)
    if plain is not None and plain.base <= RINGING * plain.peak:
        return plain
    return _hit_in_ringing(signal, rate, first, last, until) or plain


def _plain_hit(signal: np.ndarray, curve: Novelty, rate: int, first: int, last: int, until: float) -> Hit | None:
    """The hit where the coarse curve rises between two samples, read straight from the signal."""
    hop = curve.hop
    low = first // hop
    rises = curve.rises[low : last // hop + 1]
    # The first hop that rises nearly as much as the steepest one: a slow attack rises over several.
    steepest = float(rises.max(initial=0.0))
    if steepest < MIN_RISE:
        return None
    start = (low + int(np.argmax(rises >= max(MIN_RISE, 0.6 * steepest)))) * hop
    before = round(BEFORE_MS * rate / 1000)
    begin = max(0, start - before - hop)
    end = int(min(len(signal), max(until, start + 2 * hop), start + PEAK_MS * rate / 1000))
    piece = signal[begin:end].astype(np.float64)
    rest = max(1, start - begin - hop)
    return _crossing(np.abs(piece - piece[:rest].mean()), rest, begin)


def _hit_in_ringing(signal: np.ndarray, rate: int, first: int, last: int, until: float) -> Hit | None:
    """The hit that begins between two samples while something rings on; None when nothing new begins there.

    What rings is a sum of decaying partials, which linear prediction continues (least squares over the stretch
    before, small singular values left out; common practice in spectral estimation). The hit begins where the signal
    first departs from what was predicted, and is read from the signal less the continued ringing.
    """
    weights = _predictor(signal, first, rate)
    if weights is None:
        return None
    rows = np.lib.stride_tricks.sliding_window_view(signal[first - ORDER : last].astype(np.float64), ORDER + 1)
    surprise = np.abs(rows[:, -1] - rows[:, :-1] @ weights)
    learnt = signal[first - 4 * ORDER : first].astype(np.float64)
    known = np.lib.stride_tricks.sliding_window_view(learnt, ORDER + 1)
    usual = float(np.abs(known[:, -1] - known[:, :-1] @ weights).max())
    top = float(surprise.max(initial=0.0))
    if top < SURPRISE * usual:
        return None
    begins = first + int(np.argmax(surprise > max(SURPRISE * usual, 0.05 * top)))
    quiet = round(QUIET_MS * rate / 1000)
    weights = _predictor(signal, begins - quiet, rate)
    if weights is None:
        return None
    end = int(min(len(signal), max(until, begins + quiet), begins + OWN_PEAK_MS * rate / 1000))
    alone = _less_ringing(signal, begins - quiet, end, weights)
    # The prediction is checked on the stretch just before the hit; half a millisecond is left out of it.
    rest = max(1, quiet - rate // 2000)
    return None if alone is None else _crossing(np.abs(alone), rest, begins - quiet)


def _predictor(signal: np.ndarray, until: int, rate: int) -> np.ndarray | None:
    """Weights that predict a sample from the ORDER samples before it, learnt from what ends at `until`."""
    learnt = signal[max(0, until - round(LEARN_MS * rate / 1000)) : max(0, until)].astype(np.float64)
    if len(learnt) < 8 * ORDER:
        return None
    rows = np.lib.stride_tricks.sliding_window_view(learnt, ORDER + 1)
    return np.linalg.lstsq(rows[:, :-1], rows[:, -1], rcond=1e-7)[0]


def _less_ringing(signal: np.ndarray, start: int, end: int, weights: np.ndarray) -> np.ndarray | None:
    """The signal from start to end less what went before `start`, continued; None when it cannot be continued."""
    coefficients = np.concatenate([[1.0], -weights[::-1]])
    before = signal[start - ORDER : start].astype(np.float64)
    state = lfiltic([1.0], coefficients, before[::-1])
    continued, _ = lfilter([1.0], coefficients, np.zeros(end - start), zi=state)
    if not np.isfinite(continued).all() or np.abs(continued).max(initial=0.0) > 4 * np.abs(before).max():
        return None
    return signal[start:end].astype(np.float64) - continued


def _crossing(height: np.ndarray, rest: int, begin: int) -> Hit | None:
    """First passing of the threshold after `rest` samples of the level before; height[0] stands at `begin`."""
    base = float(height[:rest].max())
    peak = float(height[rest:].max(initial=0.0))
    if peak <= base * 1.05:
        return None
    threshold = base + THRESHOLD * (peak - base)
    over = int(np.argmax(height[rest:] > threshold)) + rest
    below, above = height[over - 1], height[over]
    fraction = (threshold - below) / (above - below) if above > below else 0.0
    return Hit(begin + over - 1 + min(max(fraction, 0.0), 1.0), peak - base, base)


def loose_hits(curve: Novelty, claimed: np.ndarray, typical_peak: float) -> list[float]:
    """Positions (samples) of hits within 20 dB of the typical one that lie near no claimed onset."""
    rises, level = curve.rises, curve.level
    found: list[float] = []
    ahead = 20
    strong = np.flatnonzero(rises >= np.log(4.0))
    for at in strong:
        position = at * curve.hop
        if found and position - found[-1] < 30 * curve.hop:
            continue
        if level[at : at + ahead].max() < typical_peak * 0.1:
            continue
        if len(claimed) and np.abs(claimed - position).min() < 15 * curve.hop:
            continue
        found.append(float(position))
    return found
