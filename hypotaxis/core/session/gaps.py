"""Frames that the system did not deliver: in which bars, in a sentence, and which notes they leave in doubt. Silence
stands in their place, so that everything else stays where it was."""

from collections.abc import Sequence

import numpy as np

from hypotaxis.core.rig.trips import runs
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Lost

BEFORE_S, BEHIND_S = 0.5, 0.1
"""A note that began so long before a gap may sound in it; one that begins so soon behind it may be taken for the edge
at which the sound comes back."""
MOST_BARS = 6
"""That are named one by one."""


def clear_of(gaps: Sequence[Lost], positions: np.ndarray, rate: int) -> np.ndarray:
    """Which of these moments (frames of the recording) can be measured: those that no gap is near. Shape (n,), bool.

    >>> clear_of([Lost(48_000, 100)], np.array([10_000, 40_000, 49_000, 60_000]), 48_000).tolist()
    [True, False, False, True]
    """
    clear = np.ones(len(positions), dtype=bool)
    for gap in gaps:
        first, last = gap.start - BEFORE_S * rate, gap.start + gap.frames + BEHIND_S * rate
        clear &= (positions < first) | (positions > last)
    return clear


def gaps_told(gaps: Sequence[Lost], tempo: TempoMap, *, first_sample: int, rate: int) -> str:
    """What was lost, "" where nothing was. first_sample: of the recording, from the session's zero, at its rate."""
    if not gaps:
        return ""
    frames = sum(gap.frames for gap in gaps)
    bars: set[int] = set()
    for gap in gaps:
        ends = (gap.start, gap.start + gap.frames - 1)
        first, last = (_bar(tempo, (first_sample + sample) / rate) for sample in ends)
        bars |= set(range(first, last + 1))
    named = [one.removeprefix("bar ") for one in runs(f"bar {bar}" for bar in sorted(bars))]
    shown = ", ".join(named[:MOST_BARS]) + (" and others" if len(named) > MOST_BARS else "")
    word = "bar" if len(bars) == 1 else "bars"
    return f"{frames} frames ({1000 * frames / rate:.1f} ms) did not come, in {word} {shown}; silence stands there."


def _bar(tempo: TempoMap, seconds: float) -> int:
    return tempo.position(max(0, tempo.tick_at_us(seconds * 1e6))).bar
