"""Which beat is it, and when do the next ones fall? What a count on a screen goes by between two looks at the run.

Times are µs of the session from its zero, or from now; what lies before the first bar of a run is counted down to it.
"""

import math
from dataclasses import dataclass

from hypotaxis.core.playing.count_in import beats, count_in_s
from hypotaxis.core.session.tempo import TempoMap

MOST = 16
"""Beats that are told ahead at the most."""


@dataclass(frozen=True)
class Beat:
    """A beat of a bar. bar: as it is written, "−1" for the last of those that are counted in; beat: from 1; beats: how
    many the bar has."""

    bar: str
    beat: int
    beats: int


@dataclass(frozen=True)
class ComingBeat:
    """A beat that falls in so many ms."""

    in_ms: float
    beat: Beat


def beat_at(tempo: TempoMap, at_us: float, first_bar: int) -> Beat:
    """The beat that a run which begins with first_bar has reached."""
    begins_us = float(tempo.us_at(tempo.bar_tick(first_bar)))
    if at_us >= begins_us:
        where = tempo.position(tempo.tick_at_us(at_us))
        return Beat(str(where.bar), where.beat, tempo.beats_in_bar(where.bar))
    number = tempo.beats_in_bar(first_bar)
    beat_us = count_in_s(tempo, first_bar=first_bar, bars=1) * 1e6 / number
    before = math.ceil((begins_us - at_us) / beat_us)
    return Beat(f"−{-(-before // number)}", number - (before - 1) % number, number)


def coming_beats(tempo: TempoMap, at_us: float, until_us: float, first_bar: int) -> tuple[ComingBeat, ...]:
    """The beats that fall behind at_us and before until_us."""
    begins_us = float(tempo.us_at(tempo.bar_tick(first_bar)))
    count_in = max(0, math.ceil((begins_us - at_us) / (count_in_s(tempo, first_bar=first_bar, bars=1) * 1e6)))
    first, last = (tempo.position(tempo.tick_at_us(max(us, begins_us))).bar for us in (at_us, until_us))
    begins_s = float(tempo.us_at(tempo.bar_tick(first))) / 1e6
    clicks = beats(tempo, first_bar=first, last_bar=last, count_in=count_in, first_s=begins_s)
    falls = [one.at_s * 1e6 for one in clicks if at_us < one.at_s * 1e6 < until_us]
    # Asked a little behind it, since it belongs to the stretch that it begins.
    return tuple(ComingBeat((us - at_us) / 1000, beat_at(tempo, us + 1, first_bar)) for us in falls[:MOST])
