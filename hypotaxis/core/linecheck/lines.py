"""What is a line, in which order are lines played, and when? Each part, voice with a way home of its own, and effect
loop, out and back; one after the other in slots of one length."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.midi.messages import note_off, note_on
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.playing.tryout import usual_note
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.studio import Message, Sound

QUIET_S, NOTE_S, SLOT_S = 0.15, 0.25, 0.95
"""Of a slot: before its note, how long the note is held, and all of it: room for a lateness of 250 ms and an attack."""
PROBE_S = 0.4
"""Of a slot in which a silent box is looked for on another channel."""
VELOCITY = 100
CLICK_DB, CLICK_S, CLICK_HZ = -12.0, 0.02, 1000.0
"""What is sent through an effect: a short tone."""


@dataclass(frozen=True)
class Line:
    """A line. key: names it in a rig; owner, box: uids; port: system name of where its note leaves, "" = an effect;
    inputs: where it should come home (socket uids, left first); outputs: system names of where an effect is sent;
    late_ms: how late it is known to be, None = not known."""

    key: str
    name: str
    owner: str
    box: str
    send: str
    port: str
    channel: int
    note: int
    inputs: tuple[str, ...]
    colour: str = ""
    outputs: tuple[str, ...] = ()
    late_ms: float | None = None

    @property
    def is_effect(self) -> bool:
        return bool(self.outputs)


def lines_of(plan: Plan, late_ms: Mapping[str, float | None] | None = None) -> tuple[Line, ...]:
    """The lines of a plan in the order of its instruments; what has no way out or no way home is none. late_ms: by the
    uid of instrument or loop."""
    late_ms = late_ms or {}
    found = [line for one in plan.instruments for line in _of_instrument(plan, one, late_ms.get(one.uid))]
    found += [line for one in plan.loops if (line := _of_loop(plan, one, late_ms.get(one.uid)))]
    return tuple(found)


def _of_instrument(plan: Plan, one: Instrument, late_ms: float | None):
    for seat in one.seats:
        found = plan.rig.find(seat.send)
        if not found or not found[1].system_name:
            continue
        common = {"owner": one.uid, "box": one.box, "send": seat.send, "port": found[1].system_name}
        common |= {"channel": seat.channel, "colour": one.colour, "late_ms": late_ms}
        name = f"{one.name}: {seat.name}" if seat.name else one.name
        if one.returns:
            yield Line(f"{one.uid}/{seat.part}", name, note=usual_note(plan, one), inputs=one.returns, **common)
        if seat.part:
            continue
        for back in one.further:
            voice = next((voice for voice in one.voices if voice.home == back.uid), None)
            if voice and back.inputs:
                named = f"{one.name}: {voice.name}"
                yield Line(f"{one.uid}/{back.uid}", named, note=voice.note, inputs=back.inputs, **common)


def _of_loop(plan: Plan, one: Loop, late_ms: float | None) -> Line | None:
    outs = [plan.rig.find(uid) for uid in one.sends]
    names = tuple(found[1].system_name for found in outs if found and found[1].system_name)
    if not names or not one.returns:
        return None
    return Line(one.uid, one.name, one.uid, one.box, "", "", 0, 0, one.returns, one.colour, names, late_ms)


@dataclass(frozen=True)
class Slot:
    """When a line is played, in s from the run's start: from its beginning to its end; note_s: when its note leaves."""

    line: Line
    begins_s: float
    note_s: float
    ends_s: float
    channel: int


def slots_of(lines: Sequence[Line]) -> tuple[Slot, ...]:
    """One line after the other."""
    return tuple(_slot(line, number * SLOT_S, SLOT_S, line.channel) for number, line in enumerate(lines))


def probes_of(lines: Sequence[Line]) -> tuple[Slot, ...]:
    """Each line on all the channels that are not its own."""
    asked = [(line, channel) for line in lines for channel in range(1, 17) if channel != line.channel]
    return tuple(_slot(line, number * PROBE_S, PROBE_S, channel) for number, (line, channel) in enumerate(asked))


def slots_on(lines: Sequence[tuple[Line, int]]) -> tuple[Slot, ...]:
    """Lines one after the other, each on this channel instead of its own."""
    return tuple(_slot(line, number * SLOT_S, SLOT_S, channel) for number, (line, channel) in enumerate(lines))


def free_channel(plan: Plan, line: Line) -> int:
    """A channel of a line's port on which nothing that hears it is meant to listen; 0 where there is none."""
    return _free_on(plan, line.send)


@kept_with_it
def _free_on(plan: Plan, send: str) -> int:
    there = [one for one in heard_from(plan.rig, send) if not is_interface(plan.rig.box(one.box).shape)]
    meant = _meant(plan)
    return next(
        (
            channel
            for channel in range(16, 0, -1)
            if all(one.channels[channel - 1] not in meant.get(one.box, set()) for one in there)
        ),
        0,
    )


@kept_with_it
def _meant(plan: Plan) -> dict[str, set[int]]:
    """The channels on which boxes (uids) are meant to listen, as they arrive there."""
    meant: dict[str, set[int]] = {}
    for instrument in plan.instruments:
        for seat in instrument.seats:
            for one in heard_from(plan.rig, seat.send):
                if one.box == instrument.box:
                    meant.setdefault(one.box, set()).add(one.channels[seat.channel - 1])
    return meant


def _slot(line: Line, begins_s: float, lasts_s: float, channel: int) -> Slot:
    quiet = min(QUIET_S, lasts_s / 4)
    return Slot(line, begins_s, begins_s + quiet, begins_s + lasts_s, channel)


def messages_of(slots: Sequence[Slot]) -> list[Message]:
    """The notes of lines that are sent notes."""
    found = []
    for slot in slots:
        if slot.line.is_effect:
            continue
        on, held = round(slot.note_s * 1e9), min(NOTE_S, (slot.ends_s - slot.note_s) / 2)
        found.append(Message(on, slot.line.port, note_on(slot.channel, slot.line.note, VELOCITY)))
        found.append(Message(on + round(held * 1e9), slot.line.port, note_off(slot.channel, slot.line.note)))
    return found


def sounds_of(slots: Sequence[Slot], rate: int) -> dict[str, Sound]:
    """What is played on the outputs of effects, by system name."""
    at: dict[str, list[int]] = {}
    for slot in slots:
        for name in slot.line.outputs:
            at.setdefault(name, []).append(round(slot.note_s * rate))
    time_s = np.arange(round(CLICK_S * rate)) / rate
    click = 10 ** (CLICK_DB / 20) * np.sin(2 * np.pi * CLICK_HZ * time_s) * np.hanning(len(time_s))

    def sound(starts: Sequence[int]) -> Sound:
        def read(first: int, frames: int) -> np.ndarray:
            played = np.zeros(frames)
            for start in starts:
                low, high = max(first, start), min(first + frames, start + len(click))
                if high > low:
                    played[low - first : high - first] += click[low - start : high - start]
            return played

        return read

    return {name: sound(starts) for name, starts in at.items()}
