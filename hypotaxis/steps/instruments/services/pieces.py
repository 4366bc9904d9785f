"""What an opened instrument is made of, as its tables show it: parts, ways home, note maps to take over."""

from dataclasses import dataclass

from hypotaxis.core.midi.shaping import in_words
from hypotaxis.core.patches.general_midi import general_midi
from hypotaxis.core.plan import Instrument, Part, Plan, Return, Voice
from hypotaxis.core.rig.trips import returns_text, way_home
from hypotaxis.core.session.lanes import lanes_of
from hypotaxis.records.models import PatchList
from hypotaxis.records.patch_lists import all_picked, note_maps_of


@dataclass(frozen=True)
class SeatRow:
    """A part as its row shows it."""

    part: Part | None
    """None for the first one."""
    uid: str
    name: str
    channel: int
    send: str
    sound: str
    shaped: str


@dataclass(frozen=True)
class ReturnRow:
    """A way home as its row shows it. leaves: the outs of the box that arrive there."""

    back: Return
    inputs: str
    leaves: str
    voices: str


def seat_rows(plan: Plan, instrument: Instrument) -> list[SeatRow]:
    """The parts of an instrument, the first one first."""
    rows, patches = [], all_picked([instrument])
    for seat, part in zip(instrument.seats, (None, *instrument.parts), strict=True):
        patch = patches.get((instrument.uid, seat.part))
        rows.append(
            SeatRow(
                part,
                seat.part,
                seat.name or "first part",
                seat.channel,
                plan.rig.socket_text(seat.send) if seat.send != instrument.send else "",
                f"{patch.number} {patch.name}" if patch else "",
                in_words(part.shaping) if part else "",
            )
        )
    return rows


def return_rows(plan: Plan, instrument: Instrument) -> list[ReturnRow]:
    """The ways home of an instrument, the main one first."""
    rows = []
    for back in instrument.every_return:
        ways = [way_home(plan.rig, uid, instrument.box) for uid in back.inputs]
        leaves = [plan.rig.find(one[0].source)[1].label for one in ways if one]
        voices = [voice.name for voice in instrument.voices if voice.home == back.uid and back.uid]
        rows.append(ReturnRow(back, returns_text(plan.rig, back.inputs), " and ".join(leaves), ", ".join(voices)))
    return rows


def maps_to_take_over(plan: Plan, instrument: Instrument) -> dict[str, list[Voice]]:
    """Note maps that an instrument's voices can begin with: other instruments', those of the lists, General MIDI."""
    found = {}
    for one in plan.instruments:
        if one.voices and one.uid != instrument.uid:
            found[one.name] = [Voice(note=voice.note, name=voice.name) for voice in one.voices]
    maps = [(kept.name, one) for kept in PatchList.objects.all() for one in note_maps_of(kept)]
    for name, one in maps:
        found[f"{name}: {one.name}"] = [Voice(note=note.note, name=note.name) for note in one.notes]
    (general,) = general_midi().note_maps
    return found | {f"General MIDI: {general.name}": [Voice(note=note.note, name=note.name) for note in general.notes]}


def lanes_text(plan: Plan, instrument: Instrument) -> str:
    """Which lane of which sequencer drives each voice, in words; empty where none has a limit."""
    lanes = lanes_of(plan, instrument)
    driven = [f"{lane.box} {lane.number} {lane.voice.name}" for lane in lanes if lane.number]
    left = [lane.voice.name for lane in lanes if not lane.number]
    without = f"; without a lane: {', '.join(left)}" if left else ""
    return f"Lanes: {', '.join(driven)}{without}." if lanes else ""
