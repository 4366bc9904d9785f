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
"""Level before a hit, as a share of its height, from which the tail before it is taken off first."""
LEARN_MS, QUIET_MS, OWN_PEAK_MS, ORDER = 30.0, 2.0, 25.0, 32
"""What the tail is learnt from, how much of its continuation is checked before the hit, and how far it is trusted."""
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
    hop = curve.hop
    low = max(0, int((around - reach) // hop))
    high = min(len(curve.rises), int((around + reach) // hop) + 1)
    if high <= low:
        return None
    rises = curve.rises[low:high]
    # The first hop that rises nearly as much as the steepest one: a slow attack rises over several.
    steepest = float(rises.max())
    if steepest < MIN_RISE:
        return None
    start = (low + int(np.argmax(rises >= max(MIN_RISE, 0.6 * steepest)))) * hop
    before = round(BEFORE_MS * rate / 1000)
    begin = max(0, start - before - hop)
    end = int(min(len(signal), max(until, start + 2 * hop), start + PEAK_MS * rate / 1000))
    piece = signal[begin:end].astype(np.float64)
    rest = max(1, start - begin - hop)
    height = np.abs(piece - piece[:rest].mean())
    hit = _crossing(height, rest, begin)
    if hit is None or hit.base > RINGING * hit.peak:
        alone = _without_tail(signal, start - hop, end, rate)
        if alone is not None:
            quiet = round(QUIET_MS * rate / 1000)
            hit = _crossing(np.abs(alone), quiet, start - hop - quiet) or hit
    return hit


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


def _without_tail(signal: np.ndarray, until: int, end: int, rate: int) -> np.ndarray | None:
    """The signal from QUIET_MS before `until`, less what went before it rang on as; None without enough of it.

    A ringing tail is a sum of decaying partials, which linear prediction continues (least squares over the stretch
    before, small singular values left out; common practice in spectral estimation). What the prediction does not
    explain is the new hit alone.
    """
    quiet = round(QUIET_MS * rate / 1000)
    learnt = signal[max(0, until - quiet - round(LEARN_MS * rate / 1000)) : until - quiet].astype(np.float64)
    if len(learnt) < 8 * ORDER:
        return None
    rows = np.lib.stride_tricks.sliding_window_view(learnt, ORDER + 1)
    weights = np.linalg.lstsq(rows[:, :-1], rows[:, -1], rcond=1e-7)[0]
    ahead = min(end - until, round(OWN_PEAK_MS * rate / 1000)) + quiet
    # The recursion as a filter: predicted samples depend on predicted ones only.
    coefficients = np.concatenate([[1.0], -weights[::-1]])
    state = lfiltic([1.0], coefficients, learnt[::-1][:ORDER])
    continued, _ = lfilter([1.0], coefficients, np.zeros(ahead), zi=state)
    if not np.isfinite(continued).all() or np.abs(continued).max() > 4 * np.abs(learnt).max():
        return None
    return signal[until - quiet : until - quiet + ahead].astype(np.float64) - continued


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
