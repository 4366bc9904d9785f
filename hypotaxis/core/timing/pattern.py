"""The test pattern: what to play to a box so that its lateness can be read without doubt.

Gaps are at least 300 ms, so that every shift in the range considered is told from every other, and uneven, so that no
shift by a gap fits: each block of eight hits stands on the marks of a Golomb ruler (order 8: 0 1 4 9 15 22 32 34, all
differences distinct), every other block mirrored, in units that change from block to block.
"""

import numpy as np

from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap

MARKS = (0, 1, 4, 9, 15, 22, 32, 34)
TICKS_PER_QUARTER = 480
US_PER_QUARTER = 480_000
"""One tick is one millisecond."""
LEAD_MS = 1000
SHORTEST_MS = 300
EXTRA_MS = (7, 11, 5, 13, 9, 6, 12, 8)
"""Unit of each block of marks, added to the shortest gap."""
HIT_MS = 100


def pattern_ms(hits: int = 64) -> np.ndarray:
    """Milliseconds (whole) of the hits from the pattern's zero; the first after a second of silence.

    >>> pattern_ms(8).tolist()
    [1000, 1307, 1628, 1963, 2305, 2654, 3024, 3338]
    """
    gaps: list[int] = []
    block = 0
    while len(gaps) < hits - 1:
        steps = np.diff(MARKS) if block % 2 == 0 else np.diff(MARKS)[::-1]
        gaps += [SHORTEST_MS + EXTRA_MS[block % len(EXTRA_MS)] * int(step) for step in steps]
        # Between two blocks a gap that stands nowhere else.
        gaps.append(SHORTEST_MS + 101 + 17 * block)
        block += 1
    return LEAD_MS + np.concatenate([[0], np.cumsum(gaps[: hits - 1])])


def pattern_score(*, hits: int = 64, note: int = 36, channel: int = 10, velocity: int = 100) -> Score:
    """The pattern as a score of one track at 125 BPM, on which one tick is one millisecond."""
    notes = np.zeros(hits, dtype=NOTE)
    notes["tick"] = pattern_ms(hits)
    notes["duration"], notes["note"], notes["velocity"] = HIT_MS, note, velocity
    tempo = TempoMap(TICKS_PER_QUARTER, ((0, US_PER_QUARTER),), ((0, 4, 4),))
    part = ScorePart("Test pattern", channel, notes, no_controls())
    return Score(tempo, (part,), int(notes["tick"][-1]) + 2000)


def loop_signal(rate: int = 48_000, *, hits: int = 64, level: float = 0.5) -> np.ndarray:
    """The pattern as band-limited impulses, for a loop from an audio output to an input, shape (frames,).

    Windowed sinc at 0.8 of the band, so that converters' filters leave its shape alone.
    """
    moments = pattern_ms(hits) * rate / 1000
    signal = np.zeros(int(moments[-1]) + rate)
    half = 32
    for moment in moments.tolist():
        at = np.arange(round(moment) - half, round(moment) + half + 1)
        away = at - moment
        signal[at] += level * np.sinc(0.8 * away) * np.cos(np.pi * np.clip(away / (half + 1), -1, 1) / 2) ** 2
    return signal
