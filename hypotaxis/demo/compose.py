"""Writes the demo's files anew: `python -m hypotaxis.demo.compose`.

saltmarsh-room.json is the rig, tide-tables.mid the session: sixteen bars at 96 BPM; sedge.csv and alder.midnam name the
sounds of two boxes. All invented for this purpose.
"""

import uuid
from dataclasses import replace
from pathlib import Path

import numpy as np

from hypotaxis.core.findings.meant import mark_meant
from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.namedoc import write_name_document
from hypotaxis.core.formats.patchcsv import write_patch_table
from hypotaxis.core.formats.rigfile import write_rig_file
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.patches.values import Bank, NoteMap, NoteName, Patch, PatchList
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.build import box_from_shape
from hypotaxis.core.rig.change import set_box, set_sockets, set_up, with_cable
from hypotaxis.core.rig.values import Box, Rig, Socket
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.sync.values import Following, Sending

HERE = Path(__file__).parent
TPQ = 480
BARS = 16
KICK = 36
_NAMESPACE = uuid.UUID("5a17a45c-0000-4000-8000-000000000000")


def _uid(name: str) -> str:
    return str(uuid.uuid5(_NAMESPACE, name))


def _socket(box: Box, label: str) -> Socket:
    socket = box.socket(label)
    if socket is None:
        raise KeyError(f"{box.name} has no socket {label}")
    return socket


BOXES = [
    # shape, name, tab, note
    ("host", "host", "", ""),
    ("keyboard", "Heron 61", "", ""),
    ("faders", "Causeway", "", ""),
    ("router-6", "Junction 6", "", ""),
    ("interface-18", "Quayside 18", "", ""),
    ("poly-synth", "Sedge", "#1F7F78", ""),
    ("mono-synth", "Bittern", "#4A83AB", ""),
    ("modular-midi", "Withy", "#4F7F43", ""),
    ("level-converter", "Sluice", "#4F7F43", ""),
    ("module", "Reedbed", "#8B8A22", ""),
    ("drum-machine", "Alder", "#7A6B5C", ""),
    ("effect-midi", "Eelgrass", "#6FA8A2", "outboard delay"),
    ("speakers", "Speakers", "", ""),
]
CABLES = [
    # from box, its socket, to box, its socket, metres, colour
    ("Heron 61", "USB", "host", "USB 1", 2.0, ""),
    ("Causeway", "USB", "host", "USB 2", 1.5, ""),
    ("Junction 6", "USB", "host", "USB 3", 1.5, ""),
    ("Quayside 18", "USB", "host", "USB 4", 1.5, ""),
    ("Junction 6", "out 2", "Sedge", "MIDI in", 3.0, "black"),
    ("Sedge", "thru", "Bittern", "MIDI in", 1.0, "black"),
    ("Junction 6", "out 3", "Withy", "MIDI in", 5.0, "black"),
    ("Junction 6", "out 4", "Reedbed", "MIDI in", 3.0, "grey"),
    ("Junction 6", "out 5", "Alder", "MIDI in", 3.0, "grey"),
    ("Junction 6", "out 6", "Eelgrass", "MIDI in", 3.0, "grey"),
    ("Sedge", "L", "Quayside 18", "line in 1", 3.0, "white"),
    ("Sedge", "R", "Quayside 18", "line in 2", 3.0, "red"),
    ("Bittern", "out", "Quayside 18", "line in 3", 3.0, "blue"),
    ("Withy", "out", "Sluice", "in", 0.6, "yellow"),
    ("Reedbed", "L", "Quayside 18", "line in 5", 3.0, "white"),
    ("Reedbed", "R", "Quayside 18", "line in 6", 3.0, "red"),
    ("Alder", "L", "Quayside 18", "line in 7", 3.0, "white"),
    ("Alder", "R", "Quayside 18", "line in 8", 3.0, "red"),
    ("Alder", "kick", "Quayside 18", "mic 1", 3.0, "brown"),
    ("Eelgrass", "out", "Quayside 18", "mic 2", 2.0, "green"),
    ("Quayside 18", "line out 3", "Eelgrass", "in", 2.0, "green"),
    ("Quayside 18", "line out 1", "Speakers", "L", 4.0, "white"),
    ("Quayside 18", "line out 2", "Speakers", "R", 4.0, "red"),
]
INSTRUMENTS = [
    # name, box, output of the junction, channel, inputs
    ("Sedge upper", "Sedge", 2, 1, ("line in 1", "line in 2")),
    ("Sedge lower", "Sedge", 2, 2, ("line in 1", "line in 2")),
    ("Bittern", "Bittern", 2, 3, ("line in 3",)),
    ("Withy", "Withy", 3, 4, ("line in 4",)),
    ("Reedbed", "Reedbed", 4, 1, ("line in 5", "line in 6")),
    ("Alder kit", "Alder", 5, 10, ("line in 7", "line in 8")),
    ("Alder kick", "Alder", 5, 10, ("mic 1",)),
]


FOLLOWERS = (
    ("Alder", "out 5", "position", Following(plays="pattern", length_ticks=4 * 96)),
    ("Withy", "out 3", "start", Following(plays="pattern", length_ticks=3 * 96)),
    ("Sedge", "out 2", "nothing", Following(plays="arpeggio", length_ticks=96)),
)
"""(box, socket of the router that leads to it, what is sent at the wrap, what it makes of clock)."""


def saltmarsh_room() -> Plan:
    """The demo rig. Sluice's way home is left unplugged, so that there is a cable to draw."""
    boxes = {}
    for order, (shape, name, colour, note) in enumerate(BOXES):
        box = box_from_shape(shape, name, colour=colour, order=order, uid=_uid(name))
        boxes[name] = replace(box, note=note or box.note)
    rig = Rig(uid=_uid("Saltmarsh Room"), name="Saltmarsh Room", boxes=tuple(boxes.values()))
    plan = Plan(rig=rig)
    for one, out, other, into, length, colour in CABLES:
        uid = _uid(f"{one} {out} to {other} {into}")
        ends = _socket(boxes[one], out).uid, _socket(boxes[other], into).uid
        plan = with_cable(plan, *ends, uid=uid, length_m=length, colour=colour)
    names = {_socket(boxes["Junction 6"], f"out {n}").uid: {"port_name": f"Junction out {n}"} for n in range(1, 7)}
    # Both mic inputs take line level with their pads in.
    names |= {_socket(boxes["Quayside 18"], f"mic {n}").uid: {"max_dbu": 21.0} for n in (1, 2)}
    plan = set_sockets(plan, names)
    plan = set_up(plan, boxes["Alder"].uid, uses=("kick",))
    instruments = tuple(
        Instrument(
            uid=_uid(f"instrument {name}"),
            name=name,
            box=boxes[box].uid,
            send=_socket(boxes["Junction 6"], f"out {send}").uid,
            channel=channel,
            returns=tuple(_socket(boxes["Quayside 18"], label).uid for label in inputs),
            colour=boxes[box].colour,
        )
        for name, box, send, channel, inputs in INSTRUMENTS
    )
    delay = Loop(
        uid=_uid("loop Eelgrass"),
        name="Eelgrass delay",
        box=boxes["Eelgrass"].uid,
        sends=(_socket(boxes["Quayside 18"], "line out 3").uid,),
        returns=(_socket(boxes["Quayside 18"], "mic 2").uid,),
        colour=boxes["Eelgrass"].colour,
    )
    plan = replace(plan, instruments=instruments, loops=(delay,))
    (shared,) = (finding for finding in check(plan) if finding.rule == "channel-shared")
    return mark_meant(plan, shared, "The kick comes home on an input of its own.")


def in_step(plan: Plan) -> Plan:
    """The demo rig with clock sent to the three boxes that play by it. What Withy is sent at the wrap puts it a bar
    early, so that there is something to cure."""
    for name, out, wrap, following in FOLLOWERS:
        box = next(box for box in plan.rig.boxes if box.name == name)
        router = next(box for box in plan.rig.boxes if box.name == "Junction 6")
        plan = set_sockets(plan, {_socket(router, out).uid: {"clock": True, "sending": Sending(wrap=wrap)}})
        plan = set_up(set_box(plan, box.uid, following=following), box.uid, clock="external")
    return plan


def tide_tables() -> Score:
    """The demo session: a kit with its kick apart, a bass line, plucked chords and a slow pad."""
    tempo = TempoMap(TPQ, ((0, 625_000),), ((0, 4, 4),))
    parts = (
        _part("Alder kit", 10, [row for row in _kit() if row[2] != KICK], None),
        _part("Alder kick", 10, [row for row in _kit() if row[2] == KICK], None),
        _part("Bittern", 3, _bass(), 0),
        _part("Sedge upper", 1, _chords(), 0),
        _part("Sedge lower", 2, _pad(), 1),
    )
    return Score(tempo, parts, BARS * 4 * TPQ)


def sedge_sounds() -> PatchList:
    """Sedge's sounds, in two banks as its display counts them: A1 to B8."""
    names = ("Reed pluck", "Wide water", "Chapel", "Buoy bell", "Salt pluck", "Low tide", "Small chapel", "Far bell")
    kinds = ("Pluck", "Pad", "Organ", "Bell")
    patches = tuple(
        Patch(name=f"{name}{'' if bank == 0 else ' II'}", program=bank * 8 + place, number=f"{'AB'[bank]}{place + 1}",
              bank=bank, msb=0, lsb=bank, category=kinds[place % 4])
        for bank in (0, 1)
        for place, name in enumerate(names)
    )  # fmt: skip
    banks = (Bank(name="A", msb=0, lsb=0), Bank(name="B", msb=0, lsb=1))
    return PatchList(name="Sedge", banks=banks, patches=patches)


def alder_kit() -> PatchList:
    """Alder's one kit, with the names of its notes."""
    names = {36: "Kick", 38: "Snare", 39: "Clap", 42: "Closed hat", 46: "Open hat", 48: "Tom"}
    notes = tuple(NoteName(note=note, name=name) for note, name in names.items())
    return PatchList(
        name="Alder",
        banks=(Bank(name="Kits"),),
        patches=(Patch(name="Marsh kit", program=0, number="1"),),
        note_maps=(NoteMap(name="Marsh kit", notes=notes),),
    )


def _part(name: str, channel: int, rows: list[tuple[int, int, int, int]], program: int | None) -> ScorePart:
    notes = np.array(rows, dtype=NOTE)
    notes = notes[np.argsort(notes, order=("tick", "note"), kind="stable")]
    return ScorePart(name, channel, notes, no_controls(), program)


_SIXTEENTH = TPQ // 4
_BAR = TPQ * 4
# D minor, B flat, F, C: root of the bass and the chord above it.
_HARMONY = [(38, (62, 65, 69)), (34, (58, 62, 65)), (41, (57, 60, 65)), (36, (55, 60, 64))]


def _kit() -> list[tuple[int, int, int, int]]:
    rows = []
    for bar in range(BARS):
        start = bar * _BAR
        kicks = (0, 7, 8, 11) if bar % 2 else (0, 6, 8)
        rows += [(start + step * _SIXTEENTH, 60, 36, 112 if step == 0 else 96) for step in kicks]
        rows += [(start + step * _SIXTEENTH, 60, 38, 104) for step in (4, 12)]
        hats = range(0, 16, 2) if bar < 8 else range(16)
        rows += [
            (start + step * _SIXTEENTH, 40, 46 if step == 14 and bar % 4 == 3 else 42, 92 if step % 4 == 0 else 66)
            for step in hats
        ]
        if bar % 8 == 7:
            rows.append((start + 15 * _SIXTEENTH, 60, 38, 84))
    return rows


def _bass() -> list[tuple[int, int, int, int]]:
    steps = [(0, 3, 0), (3, 2, 0), (6, 2, 12), (8, 2, 0), (11, 1, 7), (12, 2, 10), (14, 2, 12)]
    rows = []
    for bar in range(BARS):
        root = _HARMONY[bar // 2 % 4][0]
        for at, length, lift in steps:
            rows.append((bar * _BAR + at * _SIXTEENTH, length * _SIXTEENTH - 20, root + lift, 100 if at == 0 else 88))
    return rows


def _chords() -> list[tuple[int, int, int, int]]:
    rows = []
    for bar in range(BARS):
        chord = _HARMONY[bar // 2 % 4][1]
        for at, length in ((0, 6), (6, 4), (10, 6)) if bar % 2 == 0 else ((0, 8), (8, 3), (11, 5)):
            rows += [(bar * _BAR + at * _SIXTEENTH, length * _SIXTEENTH - 30, note, 86) for note in chord]
    return rows


def _pad() -> list[tuple[int, int, int, int]]:
    return [(bar * _BAR, 2 * _BAR - 60, _HARMONY[bar // 2 % 4][1][0] - 12, 74) for bar in range(0, BARS, 2)]


if __name__ == "__main__":
    (HERE / "saltmarsh-room.json").write_text(write_rig_file(saltmarsh_room()), encoding="utf-8")
    (HERE / "tide-tables.mid").write_bytes(write_smf(tide_tables()))
    (HERE / "sedge.csv").write_text(write_patch_table(sedge_sounds()), encoding="utf-8")
    (HERE / "alder.midnam").write_text(write_name_document(alder_kit()), encoding="utf-8")
