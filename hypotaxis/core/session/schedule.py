"""What goes out when, in one pass?

Run time is the computer's clock from the start of the run, in ns; session time counts from bar 1. They differ by
the position of the run's first frame, an integer number of samples of the interface's nominal rate that is
negative when the lead-in reaches before the session's zero.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.midi.messages import (
    CONTROL_CHANGE,
    DATA_BYTES,
    KEY_PRESSURE,
    PROGRAM_CHANGE,
    kind_of,
    note_off,
    note_on,
    status_of,
)
from hypotaxis.core.midi.programs import change_messages, is_bank_select, program_in_force
from hypotaxis.core.session.score import BEGINS, BRIEF, CONTROLS, ENDS
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message
from hypotaxis.core.sync.course import Course, course_of_bars
from hypotaxis.core.sync.sending import events as sent
from hypotaxis.core.sync.values import Sending

LEAD_IN_S = 0.5
"""Recorded before the first bar: room for program changes and for the box to take them (common practice)."""
TAIL_S = 1.5
"""Recorded after the last bar, for what rings on (common practice)."""
CLOCKED = -1
"""Rank of what boxes follow by, ahead of all else at one moment."""
MAX_SECONDS = 4 * 3600
"""Longest pass."""


@dataclass(frozen=True, eq=False)
class PlayedPart:
    """A part bound to a port (system name) and a channel (1–16)."""

    port: str
    channel: int
    notes: np.ndarray
    controls: np.ndarray
    calls: tuple[bytes, ...] = ()
    """The messages that call up its sound, sent in the lead-in."""
    gap_ms: float = 0.0
    """What its box needs after a change of sound before the next note."""
    shift_ms: float = 0.0
    """Added to the times of all of it, − earlier."""


@dataclass(frozen=True)
class Round:
    """One time round in a loop, as it stands in the run: a take of its own. first_sample: session position of its first
    frame, to the nearest sample."""

    start: int
    frames: int
    first_sample: int


@dataclass(frozen=True, eq=False)
class Schedule:
    """One run: messages in order of time."""

    messages: tuple[Message, ...]
    first_sample: int
    """Session position of the run's first frame."""
    frames: int
    sample_rate: int
    first_tick: int
    end_tick: int
    rounds: tuple[Round, ...] = ()

    @property
    def seconds(self) -> float:
        """How long the run takes in real time."""
        return self.frames / self.sample_rate


def plan_run(
    parts: Sequence[PlayedPart],
    tempo: TempoMap,
    *,
    first_bar: int,
    last_bar: int,
    sample_rate: int,
    clocks: Sequence[tuple[str, Sending]] = (),
    times: int = 1,
    run_in: int = 0,
    count_in_s: float = 0.0,
    tail_s: float = TAIL_S,
) -> Schedule:
    """The schedule of bars first_bar to last_bar, both included, played `times` times in a loop, run in to from so many
    bars before. clocks: (port, what it sends to boxes that follow); count_in_s: how long before the
    first of them the run begins besides its lead-in; the first time round begins behind it; tail_s: recorded behind
    the last bar, for what rings on.

    Notes that begin in those bars are played and end with them at the latest; controls in force at the first bar
    are sent in the lead-in, after the sound with its bank. Raises CannotSchedule for bars that make no sense.
    """
    if first_bar < 1 or last_bar < first_bar:
        raise CannotSchedule(
            f"Bars {first_bar} to {last_bar} cannot be recorded: the first bar is 1 or later, the last not before it."
        )
    if not 0 <= run_in < first_bar:
        raise CannotSchedule(f"{run_in} bars cannot be run in: before bar {first_bar} there are {first_bar - 1}.")
    begin_bar = first_bar - run_in
    begin_tick, loop_tick, end_tick = (tempo.bar_tick(bar) for bar in (begin_bar, first_bar, last_bar + 1))
    begins = float(tempo.samples_at(begin_tick, sample_rate))
    counted = round(count_in_s * sample_rate)
    first_sample = int(begins) - round(LEAD_IN_S * sample_rate) - counted
    bars = last_bar - first_bar + 1
    course = course_of_bars(tempo, first_bar=first_bar, bars=bars, times=times, begin_bar=begin_bar)
    since_us = [one.since / course.per_us for one in course.stretches]
    run_in_us = float(tempo.us_at(loop_tick) - tempo.us_at(begin_tick))
    ends = begins + course.lasts / course.per_us * sample_rate / 1e6
    end_sample = int(np.ceil(round(ends, 6))) + round(tail_s * sample_rate)
    if end_sample - first_sample > MAX_SECONDS * sample_rate:
        often = f", {times} times," if times > 1 else ""
        raise CannotSchedule(f"Bars {first_bar} to {last_bar}{often} last longer than four hours. Choose fewer.")
    zero_ns = first_sample * 1e9 / sample_rate

    def ns(ticks: np.ndarray) -> np.ndarray:
        return np.rint(tempo.us_at(ticks) * 1000 - zero_ns).astype(np.int64)

    events: list[tuple[int, int, int, Message]] = []
    for number, part in enumerate(parts):
        shift = round(part.shift_ms * 1e6)
        for turn, since in enumerate(since_us):
            again = turn > 0
            by = shift + round((since - run_in_us) * 1000) if again else shift
            from_tick = loop_tick if again else begin_tick
            events += _part_events(part, number, lambda ticks, by=by: ns(ticks) + by, from_tick, end_tick, again=again)
    lasts_ns = (end_sample - first_sample) * 1e9 / sample_rate
    events += _clock_events(clocks, course, int(ns(np.array(begin_tick))), lasts_ns)
    events.sort(key=lambda event: event[:3])
    return Schedule(
        messages=tuple(_once(events)),
        first_sample=first_sample,
        frames=end_sample - first_sample,
        sample_rate=sample_rate,
        first_tick=begin_tick,
        end_tick=end_tick,
        rounds=_rounds(
            begins - first_sample,
            [since * sample_rate / 1e6 for since in since_us],
            first_sample,
            end_sample - first_sample,
            run_in_us * sample_rate / 1e6,
            counted,
        ),
    )


def _rounds(
    lead: float, since: Sequence[float], first_sample: int, frames: int, run_in: float, counted: int
) -> tuple[Round, ...]:
    """Where each time round stands in the run: the first with the lead-in and what is run in, but without the count-in,
    the last with what rings on. All in samples; lead: before the first bar; since: from there to each time; counted:
    the count-in."""
    cuts = [int(np.floor(round(lead + one, 6))) for one in since]
    starts, ends = [counted, *cuts[1:]], [*cuts[1:], frames]
    back = [0.0, *(one - run_in for one in since[1:])]
    return tuple(
        Round(start, end - start, round(first_sample + start - one))
        for start, end, one in zip(starts, ends, back, strict=True)
    )


def _once(events: Sequence[tuple[int, int, int, Message]]) -> Iterator[Message]:
    """What leaves, in order; what several parts say alike of one channel (single voices of a box) leaves once."""
    first: dict[tuple[int, str, bytes], int] = {}
    for time_ns, rank, number, message in events:
        if rank != CONTROLS or first.setdefault((time_ns, message.port, message.data), number) == number:
            yield message


def _clock_events(
    clocks: Sequence[tuple[str, Sending]], course: Course, begins_ns: int, lasts_ns: float
) -> Iterator[tuple[int, int, int, Message]]:
    """What leaves for boxes that follow, ahead of notes of the same moment."""
    after_ns = int(lasts_ns) - begins_ns - int(course.ns(course.lasts))
    # Ports that send alike differ by their shift alone.
    unshifted = [replace(sending, shift_ms=0.0) for _, sending in clocks]
    alike = {one: sent(course, one, before_ns=begins_ns, after_ns=after_ns) for one in set(unshifted)}
    for (port, sending), like in zip(clocks, unshifted, strict=True):
        shift = begins_ns + round(sending.shift_ms * 1e6)
        for one in alike[like]:
            at = max(0, one.time_ns + shift)
            yield at, CLOCKED, 0, Message(at, port, one.data)


def _part_events(part: PlayedPart, number: int, ns, first_tick: int, end_tick: int, *, again: bool = False):
    """What a part sends in one time round; again: the loop has gone back, and what was set before it is set again."""
    channel = part.channel

    def event(time_ns: int, rank: int, data: bytes):
        return int(time_ns), rank, number, Message(int(time_ns), part.port, data)

    begins = int(ns(np.array(first_tick)))
    for call in _in_force(part, first_tick, sound=not again or _changes_sound(part, first_tick, end_tick)):
        yield event(max(0, begins - round(part.gap_ms * 1e6)) if again else 0, CONTROLS, call)
    notes = part.notes
    notes = notes[(notes["tick"] >= first_tick) & (notes["tick"] < end_tick)]
    starts = ns(notes["tick"])
    controls = part.controls
    controls = controls[(controls["tick"] >= first_tick) & (controls["tick"] < end_tick)]
    sent = _sent_with_their_program(controls, ns(controls["tick"]), np.sort(starts), part.gap_ms)
    for time_ns, (_, status, *data) in zip(sent, controls.tolist(), strict=True):
        yield event(time_ns, CONTROLS, bytes([status_of(status, channel), *data[: DATA_BYTES[status]]]))
    ends = ns(np.minimum(notes["tick"] + notes["duration"], end_tick))
    for note, velocity, start, end in zip(notes["note"], notes["velocity"], starts, ends, strict=True):
        brief = end <= start
        yield event(start, BRIEF if brief else BEGINS, note_on(channel, int(note), int(velocity)))
        yield event(max(start, end), BRIEF if brief else ENDS, note_off(channel, int(note)))


def _changes_sound(part: PlayedPart, first_tick: int, end_tick: int) -> bool:
    """Whether a part has another sound at its end than at its beginning."""
    inside = part.controls[(part.controls["tick"] >= first_tick) & (part.controls["tick"] < end_tick)]
    return bool((inside["status"] == PROGRAM_CHANGE).any())


def _in_force(part: PlayedPart, first_tick: int, *, sound: bool = True) -> list[bytes]:
    """What is sent in the lead-in: the sound in force at first_tick as one thing, bank and program, then what else was
    set before, its last value only. sound: whether the sound is among it."""
    rows = [(kind_of(call[0]), *call[1:], 0)[:3] for call in part.calls]
    rows += [row[1:] for row in part.controls[part.controls["tick"] < first_tick].tolist()]
    called, settled = program_in_force(rows)
    others: dict[tuple[int, ...], bytes] = {}
    for place, (status, *data) in enumerate(rows):
        if place not in settled:
            key = (status, data[0]) if status in (KEY_PRESSURE, CONTROL_CHANGE) else (status,)
            others.pop(key, None)
            others[key] = bytes([status_of(status, part.channel), *data[: DATA_BYTES[status]]])
    return [*(change_messages(part.channel, called) if called and sound else ()), *others.values()]


def _sent_with_their_program(controls: np.ndarray, due: np.ndarray, starts: np.ndarray, gap_ms: float) -> list[int]:
    """When controls due at these times (ns) are sent: a program so early that the gap is left before the next note
    (starts, ascending), a bank select no later than the program it belongs to, all else when it is due."""
    sent = due.tolist()
    program_ns = None
    for place in reversed(range(len(sent))):
        status, number = int(controls["status"][place]), int(controls["data1"][place])
        if status == PROGRAM_CHANGE:
            program_ns = sent[place] = _before_next_note(sent[place], starts, gap_ms)
        elif is_bank_select(status, number) and program_ns is not None:
            sent[place] = min(sent[place], program_ns)
    return sent


def _before_next_note(time_ns: int, starts: np.ndarray, gap_ms: float) -> int:
    """When a program due at time_ns is sent so that the gap is left before the next note: earlier, but not before the
    note that comes before it, nor before the run."""
    place = int(np.searchsorted(starts, time_ns))
    if place == len(starts):
        return time_ns
    latest = int(starts[place]) - int(gap_ms * 1e6)
    floor = int(starts[place - 1]) + 1 if place else 0
    return max(floor, min(time_ns, latest), 0)
