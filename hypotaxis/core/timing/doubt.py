"""Does a recording hold what it should not? Then it is kept and shown, and never used as a number by itself.

Moments and spans are samples of the recording. Thresholds: a few odd hits are hands or rattles; from one in six on the
recording is of something else (common practice). 12 dB above what rests there is a sound that is meant to be heard.
"""

import math
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.timing.belief import many_extra, many_missed
from hypotaxis.core.timing.measurement import Measurement
from hypotaxis.core.timing.recording import Recording

ABOVE_DB = 12.0
FALLS_DB = 3.0
"""A sound that rings on falls by more than this in a beat; one that is played on does not."""
REST_PERCENTILE = 5.0
"""Of the levels of all windows: what the input rests at."""
LOWEST_DB = -90.0
WINDOW_S = 0.02
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


def sound_unwritten(recording: Recording, spans: np.ndarray, beat: float) -> float | None:
    """Where sound begins that no note accounts for, lasting longer than a beat; None where there is none.

    spans: (begin, end) of the notes as they sound, shape (n, 2); beat: in samples. Looked for in rests longer than a
    beat: what only rings on there falls from beat to beat; what stays as loud, or grows, is played.
    """
    size = max(1, round(WINDOW_S * recording.rate))
    count = recording.frames // size
    written = np.zeros(count + 1)
    settle = SETTLE_S * recording.rate
    for begin, end in spans:
        first, last = (int(np.clip(at / size, 0, count)) for at in (begin - size, end + settle))
        written[first] += 1
        written[last] -= 1
    windows = max(1, math.ceil(beat / size))
    rests = _runs(np.cumsum(written[:-1]) == 0, windows + 1)
    if not rests:
        # Nothing to look into: the recording need not be read once more.
        return None
    levels = _levels(recording, size)
    rest = max(float(np.percentile(levels, REST_PERCENTILE)), LOWEST_DB)
    for first, last in rests:
        loudest = _held(levels[first:last], windows)
        # The first beat shows what rings on; what comes after is held against it.
        for place in range(windows, len(loudest)):
            stays = loudest[place] > loudest[place - windows] - FALLS_DB
            if stays and loudest[place] >= rest + ABOVE_DB and loudest[place - windows] >= rest + ABOVE_DB:
                return float((first + place - windows) * size)
    return None


def _levels(recording: Recording, size: int) -> np.ndarray:
    """RMS of consecutive windows in dBFS, of the louder channel."""
    found, left = [], np.zeros((0, recording.channels), dtype=np.float32)
    for block in recording.blocks(size * 512):
        joined = np.concatenate([left, block]) if len(left) else block
        whole = len(joined) // size * size
        pieces = joined[:whole].reshape(-1, size, joined.shape[1]).astype(np.float64)
        found.append(np.sqrt((pieces**2).mean(axis=1)).max(axis=1))
        left = joined[whole:]
    rms = np.concatenate(found) if found else np.zeros(0)
    return 20 * np.log10(np.maximum(rms, 1e-7))


def _held(levels: np.ndarray, windows: int) -> np.ndarray:
    """The loudest of each beat-long stretch of windows, shape (len − windows + 1,)."""
    return np.lib.stride_tricks.sliding_window_view(levels, windows).max(axis=1)


def _runs(free: np.ndarray, least: int) -> list[tuple[int, int]]:
    """(first, last excluded) of every run of True that is at least so long."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], free.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a >= least]
