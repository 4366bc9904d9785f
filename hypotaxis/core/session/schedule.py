"""What goes out when, in one pass?

Run time is the computer's clock from the start of the run, in ns; session time counts from bar 1. They differ by
the position of the run's first frame, an integer number of samples of the interface's nominal rate that is
negative when the lead-in reaches before the session's zero.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.session.score import DATA_BYTES
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message

LEAD_IN_S = 0.5
"""Recorded before the first bar: room for program changes and for the box to take them (common practice)."""
TAIL_S = 1.5
"""Recorded after the last bar, for what rings on (common practice)."""
MAX_SECONDS = 4 * 3600
"""Longest pass."""


@dataclass(frozen=True, eq=False)
class PlayedPart:
    """A part bound to a port (system name) and a channel (1–16). calls: the messages that call up its sound, sent in
    the lead-in; gap_ms: what its box needs after a change of sound before the next note; shift_ms: added to the times
    of all of it, − earlier."""

    port: str
    channel: int
    notes: np.ndarray
    controls: np.ndarray
    calls: tuple[bytes, ...] = ()
    gap_ms: float = 0.0
    shift_ms: float = 0.0


@dataclass(frozen=True, eq=False)
class Schedule:
    """One run: messages in order of time; first_sample: session position of the run's first frame."""

    messages: tuple[Message, ...]
    first_sample: int
    frames: int
    sample_rate: int
    first_tick: int
    end_tick: int

    @property
    def seconds(self) -> float:
        """How long the run takes in real time."""
        return self.frames / self.sample_rate


def plan_run(
    parts: Sequence[PlayedPart], tempo: TempoMap, *, first_bar: int, last_bar: int, sample_rate: int
) -> Schedule:
    """The schedule of bars first_bar to last_bar, both included.

    Notes that begin in those bars are played and end with them at the latest; controls in force at the first bar
    are sent in the lead-in, after the program. Raises CannotSchedule for bars that make no sense.
    """
    if first_bar < 1 or last_bar < first_bar:
        raise CannotSchedule(
            f"Bars {first_bar} to {last_bar} cannot be recorded: the first bar is 1 or later, the last not before it."
        )
    first_tick, end_tick = tempo.bar_tick(first_bar), tempo.bar_tick(last_bar + 1)
    first_sample = int(tempo.samples_at(first_tick, sample_rate)) - round(LEAD_IN_S * sample_rate)
    end_sample = int(np.ceil(tempo.samples_at(end_tick, sample_rate))) + round(TAIL_S * sample_rate)
    if end_sample - first_sample > MAX_SECONDS * sample_rate:
        raise CannotSchedule(f"Bars {first_bar} to {last_bar} last longer than four hours. Choose fewer.")
    zero_ns = first_sample * 1e9 / sample_rate

    def ns(ticks: np.ndarray) -> np.ndarray:
        return np.rint(tempo.us_at(ticks) * 1000 - zero_ns).astype(np.int64)

    events: list[tuple[int, int, int, Message]] = []
    for number, part in enumerate(parts):
        shift = round(part.shift_ms * 1e6)
        events += _part_events(part, number, lambda ticks, by=shift: ns(ticks) + by, first_tick, end_tick)
    events.sort(key=lambda event: event[:3])
    return Schedule(
        messages=tuple(event[3] for event in events),
        first_sample=first_sample,
        frames=end_sample - first_sample,
        sample_rate=sample_rate,
        first_tick=first_tick,
        end_tick=end_tick,
    )


# At one time: offs first, so that a repeated note is not cut by the end of the one before; then controls, then ons.
_OFF, _CONTROL, _ON = 0, 1, 2


def _part_events(part: PlayedPart, number: int, ns, first_tick: int, end_tick: int):
    channel = part.channel - 1

    def event(time_ns: int, rank: int, status: int, *data: int):
        return int(time_ns), rank, number, Message(int(time_ns), part.port, bytes([status | channel, *data]))

    for call in part.calls:
        yield 0, _CONTROL, number, Message(0, part.port, call)
    notes = part.notes
    notes = notes[(notes["tick"] >= first_tick) & (notes["tick"] < end_tick)]
    starts = ns(notes["tick"])
    for time_ns, control in _controls_in(part.controls, ns, first_tick, end_tick):
        status = int(control["status"])
        data = (int(control["data1"]), int(control["data2"]))[: DATA_BYTES[status]]
        early = _before_next_note(int(time_ns), starts, part.gap_ms) if _changes_sound(status, data) else time_ns
        yield event(early, _CONTROL, status, *data)
    ends = ns(np.minimum(notes["tick"] + notes["duration"], end_tick))
    for note, velocity, start, end in zip(notes["note"], notes["velocity"], starts, ends, strict=True):
        yield event(start, _ON, 0x90, int(note), int(velocity))
        # A note of no length still needs its end after its beginning.
        yield event(end if end > start else start + 1, _OFF, 0x80, int(note), 64)


def _changes_sound(status: int, data: tuple[int, ...]) -> bool:
    """Whether a message is a program change or a bank select (controllers 0 and 32)."""
    return status == 0xC0 or (status == 0xB0 and data[0] in (0, 32))


def _before_next_note(time_ns: int, starts: np.ndarray, gap_ms: float) -> int:
    """When a change of sound is sent so that the gap is left before the next note: earlier, but not before the note
    that comes before it, nor before the run."""
    place = int(np.searchsorted(np.sort(starts), time_ns))
    ordered = np.sort(starts)
    if place == len(ordered):
        return time_ns
    latest = int(ordered[place]) - int(gap_ms * 1e6)
    floor = int(ordered[place - 1]) + 1 if place else 0
    return max(floor, min(time_ns, latest), 0)


def _controls_in(controls: np.ndarray, ns, first_tick: int, end_tick: int):
    """Controls of the bars at their times, those in force before them at run time 0, last value only."""
    in_force = {}
    for control in controls[controls["tick"] < first_tick]:
        kind = int(control["status"])
        key = (kind, int(control["data1"])) if kind in (0xA0, 0xB0) else (kind,)
        in_force.pop(key, None)
        in_force[key] = control
    for control in in_force.values():
        yield 0, control
    inside = controls[(controls["tick"] >= first_tick) & (controls["tick"] < end_tick)]
    yield from zip(ns(inside["tick"]), inside, strict=True)
