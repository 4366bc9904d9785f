"""Frames that the system did not deliver: in which bars, in a sentence. Silence stands in their place, so that
everything else stays where it was."""

from collections.abc import Sequence

from hypotaxis.core.rig.trips import runs
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Lost

MOST_BARS = 6
"""That are named one by one."""


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
