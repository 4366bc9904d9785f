"""Does a recording hold what it should not? Then it is kept and shown, and never used as a number by itself.

Moments and spans are samples of the recording. Thresholds: a few odd hits are hands or rattles; from one in six on the
recording is of something else (common practice). 12 dB above what rests there is a sound that is meant to be heard.
"""

import math
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.timing.belief import many_extra, many_missed
from hypotaxis.core.timing.levels import Levels, hop_of
from hypotaxis.core.timing.measurement import Measurement

ABOVE_DB = 12.0
FALLS_DB = 3.0
"""A sound that rings on falls by more than this in a beat; one that is played on does not."""
REST_PERCENTILE = 5.0
"""Of the levels of all windows: what the input rests at."""
LOWEST_DB = -90.0
WINDOW_HOPS = 20
SETTLE_S = 0.25
"""After a note's end a box may go on as loud as before: room for its release and its own lateness."""


@dataclass(frozen=True)
class Doubt:
    """Why a take is doubtful."""

    what: str
    """What it holds, in a sentence."""
    cause: str = ""
    """The likeliest cause, in a sentence; "" where none is found."""


def of_measurement(found: Measurement) -> tuple[str, ...]:
    """What a measurement says against its recording, in sentences."""
    told = []
    if many_extra(found.matched, found.extra):
        told.append(f"{found.extra} hits belong to none of its notes, beside {found.matched} that do.")
    if many_missed(found.matched, found.missed):
        told.append(f"{found.missed} of {found.looked_for} notes have no sound.")
    return tuple(told)


def sound_unwritten(levels: Levels, rate: int, spans: np.ndarray, beat: float) -> float | None:
    """Where sound begins that no note accounts for, lasting longer than a beat; None where there is none.

    levels: of every side; spans: (begin, end) of the notes as they sound, shape (n, 2); beat: in samples. Looked for in
    rests longer than a beat: what only rings on there falls from beat to beat; what stays as loud, or grows, is played.
    """
    size = WINDOW_HOPS * hop_of(rate)
    loud = _windows(levels)
    count = len(loud)
    written = np.zeros(count + 1)
    edges = np.clip((spans + np.array([-size, SETTLE_S * rate])) / size, 0, count).astype(np.int64)
    np.add.at(written, edges[:, 0], 1)
    np.subtract.at(written, edges[:, 1], 1)
    windows = max(1, math.ceil(beat / size))
    rest = max(float(np.percentile(loud, REST_PERCENTILE)), LOWEST_DB) if count else LOWEST_DB
    for first, last in _runs(np.cumsum(written[:-1]) == 0, windows + 1):
        loudest = _held(loud[first:last], windows)
        # The first beat shows what rings on; what comes after is held against it.
        for place in range(windows, len(loudest)):
            stays = loudest[place] > loudest[place - windows] - FALLS_DB
            if stays and loudest[place] >= rest + ABOVE_DB and loudest[place - windows] >= rest + ABOVE_DB:
                return float((first + place - windows) * size)
    return None


def _windows(levels: Levels) -> np.ndarray:
    """RMS of consecutive windows in dBFS, of the louder side."""
    sides, hops = levels.power.shape
    whole = hops // WINDOW_HOPS * WINDOW_HOPS
    # A product with a row of ones sums short rows far quicker than a reduction does.
    power = levels.power[:, :whole].astype(np.float64).reshape(sides, -1, WINDOW_HOPS) @ np.full(WINDOW_HOPS, 1.0)
    power = power.max(axis=0) / WINDOW_HOPS
    return 10 * np.log10(np.maximum(power, 1e-14))


def _held(levels: np.ndarray, windows: int) -> np.ndarray:
    """The loudest of each beat-long stretch of windows, shape (len − windows + 1,)."""
    return np.lib.stride_tricks.sliding_window_view(levels, windows).max(axis=1)


def _runs(free: np.ndarray, least: int) -> list[tuple[int, int]]:
    """(first, last excluded) of every run of True that is at least so long."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], free.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= least]
