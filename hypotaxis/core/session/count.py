"""Which beat is it, and when do the next ones fall? What a count on a screen goes by between two looks at the run.

Times are µs of the session from its zero, or from now; what lies before the first bar of a run is counted down to it.
"""

from dataclasses import dataclass

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
    beats, beat_us = tempo.beats_in_bar(first_bar), _beat_us(tempo, first_bar)
    before = int(-(-(begins_us - at_us) // beat_us))
    return Beat(f"−{-(-before // beats)}", beats - (before - 1) % beats, beats)


def coming_beats(tempo: TempoMap, at_us: float, until_us: float, first_bar: int) -> tuple[ComingBeat, ...]:
    """The beats that fall behind at_us and before until_us."""
    found: list[ComingBeat] = []
    begins_us = float(tempo.us_at(tempo.bar_tick(first_bar)))
    if at_us < begins_us:
        beat_us = _beat_us(tempo, first_bar)
        left = int((begins_us - at_us) // beat_us)
        found += [_coming(tempo, begins_us - number * beat_us, at_us, first_bar) for number in range(left, 0, -1)]
    bar = tempo.position(tempo.tick_at_us(max(at_us, begins_us))).bar
    while len(found) < MOST and float(tempo.us_at(tempo.bar_tick(bar))) < until_us:
        first, last, beats = tempo.bar_tick(bar), tempo.bar_tick(bar + 1), tempo.beats_in_bar(bar)
        for number in range(beats):
            falls_us = float(tempo.us_at(first + (last - first) * number // beats))
            if falls_us > at_us:
                found.append(ComingBeat((falls_us - at_us) / 1000, Beat(str(bar), number + 1, beats)))
        bar += 1
    return tuple(one for one in found[:MOST] if at_us + one.in_ms * 1000 < until_us)


def _coming(tempo: TempoMap, falls_us: float, at_us: float, first_bar: int) -> ComingBeat:
    # Asked a little behind it, since it belongs to the stretch that it begins.
    return ComingBeat((falls_us - at_us) / 1000, beat_at(tempo, falls_us + 1, first_bar))


def _beat_us(tempo: TempoMap, bar: int) -> float:
    begins, ends = (float(tempo.us_at(tempo.bar_tick(one))) for one in (bar, bar + 1))
    return (ends - begins) / tempo.beats_in_bar(bar)
