"""Who hears the host's clock, and does it stay in step with the song?

How far a box's pattern is ahead of where the host counts it, stretch by stretch of a course, in ticks, 24 a quarter,
from 0 up to the pattern's length as the host counts it. The host's patterns count from bar 1.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from math import floor

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.midi.messages import CLOCK
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.rig.values import Rig, Socket
from hypotaxis.core.studio import Message
from hypotaxis.core.sync.course import Course
from hypotaxis.core.sync.misstep import TICKS_A_SIXTEENTH
from hypotaxis.core.sync.values import (
    CONTINUE,
    NOTHING,
    PATTERN,
    POSITION,
    SONG_POSITION,
    START,
    START_AGAIN,
    STOP,
    WRAPS,
    Following,
    Sending,
)
from hypotaxis.core.units import BYTE_US, CLOCKS_A_QUARTER


@dataclass(frozen=True)
class Clocked:
    """A box that the host's clock reaches. port: uid of the port it comes from; ears: kind of the socket by which it
    hears it, "midi" or "usb"."""

    box: str
    port: str
    ears: str
    wires: int
    """DIN wires one after the other, each sent anew; a hardware thru sends nothing anew."""

    @property
    def jitter_ms(self) -> float:
        """What a clock may wait for on its way: on each wire for the byte that is going there (MIDI 1.0 Detailed
        Specification)."""
        return self.wires * BYTE_US / 1000


def clocked(plan: Plan) -> dict[str, list[Clocked]]:
    """Every box that the host's clock reaches, by its uid, with each way by which it does."""
    return _clocked(plan.rig)


@kept_with_it
def _clocked(rig: Rig) -> dict[str, list[Clocked]]:
    found: dict[str, list[Clocked]] = {}
    for end in ports_of(rig, "out"):
        if end.socket.clock:
            for reached in heard_from(rig, end.socket.uid):
                if reached.clock:
                    socket = rig.find(reached.socket)[1]
                    ears = "usb" if socket.carried_by else socket.kind
                    wires = (not end.socket.carried_by) + len(reached.routes)
                    found.setdefault(reached.box, []).append(Clocked(reached.box, end.socket.uid, ears, wires))
    return found


def ports_that_send(plan: Plan) -> list[tuple[Socket, Sending]]:
    """The ports by which clock leaves, with what they send besides; none while a box leads."""
    if plan.rig.leader:
        return []
    ends = (end.socket for end in ports_of(plan.rig, "out"))
    return [(port, port.sending or Sending()) for port in ends if port.clock and port.system_name]


def standing_clock(plan: Plan, us_of_quarter: int, seconds: float, *, but: str = "") -> list[Message]:
    """Clock on every port that always sends it, at one tempo, for a run in which the song stands. but: uid of a port
    whose clock is another matter."""
    sends = ports_that_send(plan)
    ports = [port.system_name for port, sending in sends if sending.always and port.uid != but]
    count = int(seconds * 1e6 * CLOCKS_A_QUARTER // us_of_quarter) + 1
    return [
        Message(round(number * us_of_quarter * 1000 / CLOCKS_A_QUARTER), port, bytes([CLOCK]))
        for port in ports
        for number in range(count)
    ]


def sending_of(plan: Plan, port: str) -> Sending:
    """What a port (uid) sends besides clock."""
    return plan.rig.find(port)[1].sending or Sending()


def walk(course: Course, sending: Sending, following: Following) -> list[Fraction]:
    """How far the pattern is ahead in each stretch; empty where its length is not known, or it has no pattern."""
    parts = course.tempo.ticks_per_quarter
    return [Fraction(one, parts) for one in _walk(course, sending, following)]


def _walk(course: Course, sending: Sending, following: Following) -> list[int]:
    """The same in whole parts of a tick, as many as the score has ticks a quarter."""
    parts = course.tempo.ticks_per_quarter
    lasts, sixteenth = (following.lasts_ticks or 0) * parts, TICKS_A_SIXTEENTH * parts
    if not lasts:
        return []
    found: list[int] = []
    before = None
    for number, stretch in enumerate(course.stretches):
        here = CLOCKS_A_QUARTER * stretch.begin
        sent = _sent_at_first(course, sending) if number == 0 else sending.wrap
        obeyed = _obeyed(sent, sending, following, running=number > 0)
        if obeyed == START_AGAIN:
            ahead = -here
        elif obeyed == POSITION:
            ahead = -(here % sixteenth)
        elif number == 0:
            ahead = 0
        else:
            # Its count went on by the clocks that were really sent, and the host's went back.
            ahead = found[-1] + course.count(before) * parts + CLOCKS_A_QUARTER * before.begin - here
        found.append(ahead % lasts)
        before = stretch
    return found


def _sent_at_first(course: Course, sending: Sending) -> str:
    if not sending.keys:
        return NOTHING
    return POSITION if course.begin and sending.position else START_AGAIN


def _obeyed(sent: str, sending: Sending, following: Following, *, running: bool) -> str:
    """What a box makes of what is sent: one that ignores song position goes on where it stopped."""
    if sent == START_AGAIN:
        return START_AGAIN if START in following.obeys and (following.restarts or not running) else NOTHING
    if sent == POSITION:
        return POSITION if {SONG_POSITION, CONTINUE} <= set(following.obeys) else NOTHING
    return NOTHING


def in_step(course: Course, sending: Sending, following: Following) -> bool | None:
    """Whether a pattern stands where the host counts it all the way; None where that is not known."""
    walked = _walk(course, sending, following)
    return not any(walked) if walked else None


def cures(course: Course, sending: Sending, following: Following) -> list[str]:
    """What may be sent at the wrap so that it stays in step, the least first."""
    return [wrap for wrap in WRAPS if in_step(course, replace(sending, wrap=wrap), following)]


def needs_clock(following: Following) -> bool:
    """Whether it stands still, or swings wrongly, without clock."""
    return following.plays not in ("", PATTERN)


def bar_ticks(course: Course | None) -> Fraction:
    """Ticks of the loop's first bar, 24 a quarter; of 4/4 where there is no song."""
    if course is None:
        return Fraction(4 * CLOCKS_A_QUARTER)
    tempo = course.tempo
    bar = tempo.position(course.loop[0]).bar
    return Fraction(CLOCKS_A_QUARTER * (tempo.bar_tick(bar + 1) - tempo.bar_tick(bar)), tempo.ticks_per_quarter)


def misstep_told(ticks: Fraction, a_bar: Fraction, lasts: int) -> str:
    """How far it is off, in words, by the shorter way.

    >>> misstep_told(Fraction(96), Fraction(96), 288)
    '1 bar 0/16 early'
    """
    early = ticks * 2 <= lasts
    off = ticks if early else lasts - ticks
    way = "early" if early else "late"
    if off % TICKS_A_SIXTEENTH:
        return f"{float(off):.4g} ticks {way}"
    bars = floor(off / a_bar)
    rest = (off - bars * a_bar) / TICKS_A_SIXTEENTH
    whole = f"{bars} bar{'' if bars == 1 else 's'} " if bars else ""
    return f"{whole}{float(rest):.4g}/16 {way}"


def costs(wrap: str, following: Sequence[Following]) -> str:
    """What a send at the wrap costs, in a sentence."""
    if wrap == START_AGAIN:
        return "It begins at its bar 1: what it was playing is cut."
    if wrap == POSITION:
        stops = any(STOP in one.obeys for one in following)
        return "It stops for 2 ms and goes where the song is." if stops else "It goes where the song is."
    return "The clock runs on, and its pattern with it."
