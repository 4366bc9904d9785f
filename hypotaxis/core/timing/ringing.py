"""A hit that begins while something rings on: where, and how does it look alone?

What rings is a sum of decaying partials, which linear prediction continues (least squares over the stretch before,
small singular values left out; common practice in spectral estimation). The hit begins where the signal first departs
from what was predicted, and is read from the signal less the continued ringing.
"""

import numpy as np

from hypotaxis.core.timing.recording import Recording

LEARN_MS, QUIET_MS, OWN_PEAK_MS, ORDER = 30.0, 2.0, 60.0, 32
"""What the ringing is learnt from, the stretch just before the hit, and how far the continuation is trusted."""
SURPRISE = 6.0
"""How far a sample must depart from its prediction, against the largest departure before, to begin something new."""
SMALLEST = 1e-13
"""Eigenvalues below this share of the largest are left out (singular values below 3·10⁻⁷)."""


def hit_alone(
    recording: Recording, side: int, first: int, last: int, until: float
) -> tuple[np.ndarray, int, int] | None:
    """The hit that begins between two samples, less what rings: (its rectified samples, the position of the first of
    them, how many of them stand before the hit); None when nothing new begins there."""
    rate = recording.rate
    learn, quiet = round(LEARN_MS * rate / 1000), round(QUIET_MS * rate / 1000)
    end = int(min(recording.frames, until, last + OWN_PEAK_MS * rate / 1000))
    start = first - learn
    if start < 0 or learn < 8 * ORDER or end - first < 2 * quiet:
        return None
    signal = recording.piece(side, start, end).astype(np.float64)
    at = first - start
    weights = _predictor(signal[at - learn : at])
    surprise = np.abs(_departures(signal[at - ORDER : last - start], weights))
    usual = float(np.abs(_departures(signal[at - 5 * ORDER : at], weights)).max())
    top = float(surprise.max(initial=0.0))
    if top < SURPRISE * usual:
        return None
    begins = at + int(np.argmax(surprise > max(SURPRISE * usual, 0.05 * top)))
    turn = begins - quiet
    weights = _predictor(signal[max(0, turn - learn) : turn])
    stop = min(len(signal), begins + round(OWN_PEAK_MS * rate / 1000))
    alone = _less_ringing(signal, turn, stop, weights)
    # The prediction is checked on the stretch just before the hit; half a millisecond is left out of it.
    return None if alone is None else (np.abs(alone), start + turn, max(1, quiet - rate // 2000))


def _rows(signal: np.ndarray) -> np.ndarray:
    return np.lib.stride_tricks.sliding_window_view(signal, ORDER + 1)


def _predictor(learnt: np.ndarray) -> np.ndarray:
    """Weights that predict a sample from the ORDER samples before it."""
    rows = np.ascontiguousarray(_rows(learnt))
    square = rows.T @ rows
    values, vectors = np.linalg.eigh(square[:-1, :-1])
    kept = values > SMALLEST * max(values[-1], 1e-300)
    return vectors[:, kept] @ ((vectors[:, kept].T @ square[:-1, -1]) / values[kept])


def _departures(signal: np.ndarray, weights: np.ndarray) -> np.ndarray:
    rows = _rows(signal)
    return rows[:, -1] - rows[:, :-1] @ weights


def _continued(before: np.ndarray, weights: np.ndarray, count: int) -> np.ndarray:
    """The samples that follow by prediction alone, ORDER at a time: each of those is a sum of the ORDER before them."""
    # By hand, since the library that has recursive filters takes longer to load than most measurements.
    sums = np.concatenate([np.eye(ORDER), np.zeros((ORDER, ORDER))])
    for place in range(ORDER):
        sums[ORDER + place] = weights @ sums[place : place + ORDER]
    blocks = [before]
    for _ in range(-(-count // ORDER)):
        blocks.append(sums[ORDER:] @ blocks[-1])
    return np.concatenate(blocks[1:])[:count]


def _less_ringing(signal: np.ndarray, start: int, end: int, weights: np.ndarray) -> np.ndarray | None:
    """The signal from start to end less what went before `start`, continued; None when it cannot be continued."""
    before = signal[start - ORDER : start]
    with np.errstate(all="ignore"):
        continued = _continued(before, weights, end - start)
    if not np.isfinite(continued).all() or np.abs(continued).max(initial=0.0) > 4 * np.abs(before).max():
        return None
    return signal[start:end] - continued
