"""What leaves by one port for boxes that follow the host?

Clock, start, continue, stop, song position and time code along a course. A receiver starts at the first clock after
start or continue, and needs 1 ms for it (MIDI 1.0 Detailed Specification, from memory): start leaves 1.5 ms before, so
that a byte on the wire does not eat into that. Times are ns from the course's first moment.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.midi.messages import CLOCK, CONTINUE, SONG_POSITION, START, STOP
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.sync.course import Course, Stretch, nearest
from hypotaxis.core.sync.timecode import RATES, first_frame, full, label, pieces
from hypotaxis.core.sync.values import POSITION, START_AGAIN, Sending
from hypotaxis.core.units import CLOCKS_A_QUARTER

LAST_SIXTEENTH = 16_383
"""14 bits (MIDI 1.0)."""
SIXTEENTHS_A_QUARTER = 4
BEFORE_NS = 1_500_000
"""Start and continue leave so long before their clock."""
LEAST_BEFORE_NS = 1_000_000
PLACE_NS, STOP_NS = 2_750_000, 3_250_000
"""Song position, 0.96 ms on the wire, and the stop before it."""
NO_ROOM_NS = 2_000_000
"""Where a tick stands in their way the stop goes so long before the wrap, and the rest follows at once."""
FULL_NS = 4_000_000
"""A full message of time code takes 3.2 ms on the wire."""


@dataclass(frozen=True)
class Event:
    """Bytes that leave at a moment. first, place: of a clock, the tick of the first of its stretch and how many have
    gone before it."""

    time_ns: int
    data: bytes
    first: Fraction | None = None
    place: int = 0

    @property
    def tick(self) -> Fraction | None:
        """Of a clock, 24 a quarter from bar 1."""
        return None if self.first is None else self.first + self.place


def events(course: Course, sending: Sending, *, before_ns: int = 0, after_ns: int = 0) -> list[Event]:
    """What leaves along a course, in order, not shifted. before_ns, after_ns: how long clock runs before and after it
    where it always does. Raises CannotSchedule where a song position does not exist."""
    found = [*_start(course, sending)]
    if sending.always:
        found += _clock_outside(course, before_ns, after_ns)
    clocks: list[Event] = []
    for number, stretch in enumerate(course.stretches):
        exact, first = course.ticks(stretch)
        if number:
            sent = list(_wrap(course, sending, int(course.ns(stretch.since)), clocks[-1].time_ns))
            # A clock behind them would be counted as the first of the new round.
            while sent and clocks[-1].time_ns > sent[-1].time_ns:
                clocks.pop()
            found += sent
        clocks += [Event(ns, _CLOCK, first, place) for place, ns in enumerate(course.ns(exact).tolist())]
        if sending.time_code:
            found += _time_code(course, stretch, sending, again=number > 0, goes_on=number < course.times - 1)
    if sending.keys:
        found.append(Event(int(course.ns(course.lasts)), bytes([STOP])))
    # At one moment: stop before a clock that goes on, clock before what only tells the time.
    return sorted(found + clocks, key=lambda one: (one.time_ns, _RANK.get(one.data[0], 2)))


_CLOCK = bytes([CLOCK])
_RANK = {STOP: 0, START: 0, CONTINUE: 0, CLOCK: 1}


def position_of(tempo: TempoMap, tick: int) -> int:
    """The song position at or before a tick of the score, in sixteenths. Raises CannotSchedule beyond the last."""
    sixteenth = tick * SIXTEENTHS_A_QUARTER // tempo.ticks_per_quarter
    if sixteenth > LAST_SIXTEENTH:
        at = tempo.position(LAST_SIXTEENTH * tempo.ticks_per_quarter // SIXTEENTHS_A_QUARTER)
        raise CannotSchedule(
            f"Song position ends at {LAST_SIXTEENTH:,} sixteenths, and bar {tempo.position(tick).bar} lies beyond. "
            f"Start at bar {at.bar} or before it."
        )
    return sixteenth


def song_position(sixteenth: int) -> bytes:
    """The message that names a sixteenth."""
    return bytes([SONG_POSITION, sixteenth & 127, sixteenth >> 7])


def _start(course: Course, sending: Sending) -> Iterator[Event]:
    if not sending.keys:
        return
    if course.begin == 0 or not sending.position:
        yield Event(-BEFORE_NS, bytes([START]))
    else:
        yield Event(-PLACE_NS, song_position(position_of(course.tempo, course.begin)))
        yield Event(-BEFORE_NS, bytes([CONTINUE]))


def _wrap(course: Course, sending: Sending, wrap_ns: int, last_ns: int) -> Iterator[Event]:
    """What is sent at a wrap: between the last clock and 1 ms before the next."""
    if sending.wrap == START_AGAIN:
        early = min(BEFORE_NS, max(LEAST_BEFORE_NS, wrap_ns - last_ns - 1))
        yield Event(wrap_ns - early, bytes([START]))
    elif sending.wrap == POSITION:
        place = song_position(position_of(course.tempo, course.loop[0]))
        room = wrap_ns - last_ns > STOP_NS
        times = (STOP_NS, PLACE_NS, BEFORE_NS) if room else (NO_ROOM_NS, NO_ROOM_NS, LEAST_BEFORE_NS)
        for early, data in zip(times, (bytes([STOP]), place, bytes([CONTINUE])), strict=True):
            yield Event(wrap_ns - early, data)


def _clock_outside(course: Course, before_ns: int, after_ns: int) -> Iterator[Event]:
    """Clocks at the pace of the course's ends, before and behind it."""
    for tick, span, sign in ((course.begin, before_ns, -1), (course.loop[1], after_ns, 1)):
        us = course.tempo.us_of_quarter(tick if sign < 0 else tick - 1)
        ends = 0 if sign < 0 else int(course.ns(course.lasts))
        count = span * CLOCKS_A_QUARTER // (us * 1000)
        first = 1 if sign < 0 else 0
        for number in range(first, count + 1):
            yield Event(ends + sign * round(Fraction(number * us * 1000, CLOCKS_A_QUARTER)), bytes([CLOCK]))


def _time_code(course: Course, stretch: Stretch, sending: Sending, *, again: bool, goes_on: bool) -> Iterator[Event]:
    rate = RATES[sending.time_code]

    def seconds(exact: int) -> Fraction:
        return Fraction(exact, course.per_us * 1_000_000)

    begin, end = seconds(int(course.exact(stretch.begin))), seconds(int(course.exact(stretch.end)))
    since = seconds(stretch.since) - begin
    if again:
        told = label(first_frame(begin, rate) + sending.offset, rate)
        yield Event(int(course.ns(stretch.since)) - FULL_NS, full(told, rate))
    until = end - Fraction(FULL_NS, 1_000_000_000) if goes_on else end
    # In whole numbers: four hours have more than a million pieces.
    quarter = Fraction(1_000_000_000) / (4 * rate.frames)
    below = quarter.denominator * since.denominator
    a_piece = quarter.numerator * since.denominator
    shift = since.numerator * 1_000_000_000 * quarter.denominator
    for number, data in pieces(begin, until, rate, sending.offset):
        yield Event(nearest(number * a_piece + shift, below), data)


def tick_ns(course: Course) -> np.ndarray:
    """When every clock of a course leaves, in ns from its first moment, shape (clocks,): one array for all ports."""
    return np.concatenate([course.ns(course.ticks(stretch)[0]) for stretch in course.stretches])
