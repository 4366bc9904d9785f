"""Ready generic boxes: which sockets a kind of box usually has, and what it passes on inside.

One table; a shape is a starting point and names no product. `column` says where on the sheet the box stands:
hands (played), interface (twice: sending and receiving side), boxes, outside (what only listens: told beside the
socket that feeds it), host (the barlines). Socket sets, connectors and
levels are common practice; a thru repeats the input in hardware (MIDI 1.0 Detailed Specification).
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from hypotaxis.core.rig.values import Setup


@dataclass(frozen=True)
class SocketShape:
    """A socket as a shape has it; fields as in values.Socket."""

    label: str
    direction: str
    kind: str
    connector: str = ""
    thru_of: str = ""
    separate: str = ""
    stereo: str = ""
    both_sides: bool = False
    level: str = ""
    carried_by: str = ""
    duty: str = ""


@dataclass(frozen=True)
class RouteShape:
    """A path inside a box, by the labels of its ends."""

    source: str
    target: str
    gain_db: float = 0.0


@dataclass(frozen=True)
class Shape:
    """A generic box."""

    title: str
    note: str
    column: str
    sockets: tuple[SocketShape, ...]
    parts: int = 0
    """How many channels it can answer on."""
    routes: tuple[RouteShape, ...] = ()
    setup: Setup = field(default_factory=Setup)
    group: str = "Boxes that sound"
    """Where it stands in the list of kinds."""
    icon: str = ""

    @property
    def sounds(self) -> bool:
        return self.parts > 0


INTERFACES, ON_THE_WAY, PLAYED = "Interfaces and links", "On the way", "What is played"
CONVERTER_GAIN_DB = 12.0
"""What a level converter takes off a modular signal, and adds to a line signal (common practice)."""
DIRECT_BOX_DB = -20.0
"""Loss of a passive direct box (common practice, turns ratio about 10:1)."""


def _din_in() -> SocketShape:
    return SocketShape("MIDI in", "in", "midi", "din")


def _midi_in_thru() -> tuple[SocketShape, ...]:
    return (_din_in(), SocketShape("thru", "out", "midi", "din", thru_of="MIDI in"))


def _pair(direction: str, left: str, right: str, level: str = "line +4") -> tuple[SocketShape, ...]:
    connector = "trs" if level == "line +4" else "ts"
    return (
        SocketShape(left, direction, "audio", connector, stereo=right, level=level),
        SocketShape(right, direction, "audio", connector, stereo=left, level=level),
    )


def _lines(direction: str, count: int, stem: str = "line") -> Iterator[SocketShape]:
    for odd in range(1, count, 2):
        yield from _pair(direction, f"{stem} {direction} {odd}", f"{stem} {direction} {odd + 1}")


def _mic(number: int) -> SocketShape:
    return SocketShape(f"mic {number}", "in", "audio", "combo", level="microphone")


def _usb() -> SocketShape:
    return SocketShape("USB", "both", "usb", "usb-b")


def _port(label: str, direction: str, duty: str, by: str = "USB") -> SocketShape:
    return SocketShape(label, direction, "midi", carried_by=by, duty=duty)


def _numbered(label: str, count: int, direction: str, duty: str = "") -> Iterator[SocketShape]:
    for number in range(1, count + 1):
        yield SocketShape(f"{label} {number}", direction, "midi", "din", duty=duty)


def _interface(lines: int, mics: int = 0, midi: bool = True) -> tuple[SocketShape, ...]:
    return (
        _usb(),
        *([SocketShape("MIDI out", "out", "midi", "din", duty="sends to boxes")] if midi else []),
        *_lines("out", lines),
        *_lines("in", lines),
        *(_mic(number) for number in range(1, mics + 1)),
        *([_din_in()] if midi else []),
    )


def _interface_shape(title: str, sockets: Iterable[SocketShape], note: str = "interface", icon: str = "interface"):
    return Shape(title, note, "interface", tuple(sockets), group=INTERFACES, icon=icon)


def _router(count: int) -> Shape:
    sockets = (_usb(), *_numbered("out", count, "out", "sends to boxes"), *_numbered("in", count, "in"))
    return _interface_shape(f"MIDI interface and router, {count} DIN in and out", sockets, "MIDI router", "router")


def _hands(title: str, note: str, sockets: Iterable[SocketShape], icon: str, **setup) -> Shape:
    return Shape(title, note, "hands", tuple(sockets), group=PLAYED, icon=icon, setup=Setup(**setup))


_FOLLOWS = Setup(takes_clock=True)
_SEQUENCES = Setup(takes_clock=True, sends_clock=True, clock="internal")

SHAPES: dict[str, Shape] = {
    "host": Shape(
        "Computer",
        "the host",
        "host",
        (
            *(SocketShape(f"USB {number}", "both", "usb", "usb-a") for number in range(1, 9)),
            SocketShape("network", "both", "network", "rj45"),
        ),
    ),
    "speakers": Shape(
        "Speakers or headphones",
        "speakers",
        "outside",
        _pair("in", "L", "R"),
        group=ON_THE_WAY,
        icon="speakers",
    ),
    # Interfaces and links
    "interface-2": _interface_shape("Interface, 2 in and 2 out, MIDI", _interface(2)),
    "interface-2-audio": _interface_shape("Interface, 2 in and 2 out, no MIDI", _interface(2, midi=False)),
    "interface-8": _interface_shape("Interface, 8 in and 8 out, MIDI", _interface(8)),
    "interface-18": _interface_shape("Interface, 8 line and 2 mic in, 8 out, MIDI", _interface(8, mics=2)),
    "interface-16": _interface_shape("Interface, 16 in and 16 out, no MIDI", _interface(16, midi=False)),
    "router-2": _router(2),
    "router-4": _router(4),
    "router-6": _router(6),
    "router-8": _router(8),
    "network-midi": _interface_shape(
        "Network MIDI end, 2 DIN in and out",
        (
            SocketShape("network", "both", "network", "rj45"),
            *_numbered("out", 2, "out", "sends to boxes"),
            *_numbered("in", 2, "in"),
        ),
        "network MIDI",
        "router",
    ),
    "usb-midi-host": Shape(
        "USB host for MIDI devices, with DIN",
        "USB to DIN",
        "boxes",
        (
            *(SocketShape(f"USB {number}", "both", "usb", "usb-a") for number in (1, 2)),
            _din_in(),
            SocketShape("MIDI out", "out", "midi", "din"),
        ),
        # What comes in goes to every device, and what devices send goes out together (common practice).
        routes=(
            *(RouteShape("MIDI in", f"USB {number}") for number in (1, 2)),
            *(RouteShape(f"USB {number}", "MIDI out") for number in (1, 2)),
        ),
        group=INTERFACES,
        icon="router",
    ),
    "usb-hub": Shape(
        "USB hub, powered",
        "USB hub",
        "hands",
        (
            SocketShape("to the computer", "both", "usb", "usb-b"),
            *(SocketShape(f"USB {number}", "both", "usb", "usb-a") for number in range(1, 5)),
        ),
        group=INTERFACES,
        icon="hub",
    ),
    # What is played
    "keyboard": _hands(
        "Keyboard",
        "keyboard",
        (_usb(), _port("keys", "out", "played from"), SocketShape("MIDI out", "out", "midi", "din")),
        "keyboard",
        transmits=(1,),
    ),
    "pads": _hands("Pads", "pads", (_usb(), _port("pads", "out", "played from")), "pads", transmits=(10,)),
    "pedals": _hands(
        "Pedal board",
        "pedals",
        (_usb(), _port("pedals", "out", "played from"), SocketShape("MIDI out", "out", "midi", "din")),
        "pedals",
        transmits=(1,),
    ),
    "faders": _hands(
        "Fader surface",
        "transport only",
        (_usb(), _port("surface", "out", "surface"), _port("lamps", "in", "surface")),
        "faders",
    ),
    "tablet": _hands(
        "Tablet",
        "tablet",
        (
            SocketShape("network", "both", "network", "wireless"),
            _port("tablet", "out", "played from", "network"),
            _port("to the tablet", "in", "spare", "network"),
        ),
        "tablet",
        sends_clock=True,
        takes_clock=True,
        clock="external",
    ),
    "step-sequencer": _hands(
        "Step sequencer",
        "sequencer",
        (_usb(), _port("steps", "out", "clock from"), SocketShape("MIDI out", "out", "midi", "din")),
        "pads",
        takes_clock=True,
        sends_clock=True,
        clock="external",
    ),
    # Boxes that sound
    "poly-synth": Shape(
        "Poly synth with two parts",
        "8 voices, 2 parts",
        "boxes",
        (*_midi_in_thru(), *_pair("out", "L", "R")),
        parts=2,
        setup=_FOLLOWS,
        icon="synth",
    ),
    "mono-synth": Shape(
        "Mono synth",
        "mono bass",
        "boxes",
        (*_midi_in_thru(), SocketShape("out", "out", "audio", "ts", level="line +4")),
        parts=1,
        icon="synth",
    ),
    "workstation": Shape(
        "Keyboard that sounds, with DIN in, out and thru",
        "keyboard synth",
        "boxes",
        (
            *_midi_in_thru(),
            SocketShape("MIDI out", "out", "midi", "din"),
            _usb(),
            _port("keys", "out", "played from"),
            _port("from the host", "in", "sends to boxes"),
            *_pair("out", "L", "R"),
        ),
        parts=16,
        setup=Setup(local="on", takes_clock=True, transmits=(1,)),
        icon="keyboard",
    ),
    "desktop-synth": Shape(
        "Desktop synth, USB that passes MIDI on",
        "desktop synth",
        "boxes",
        (
            _usb(),
            _port("notes by USB", "in", "sends to boxes"),
            _port("knobs by USB", "out", "spare"),
            _din_in(),
            SocketShape("MIDI out", "out", "midi", "din"),
            *_pair("out", "L", "R"),
        ),
        parts=1,
        routes=(RouteShape("notes by USB", "MIDI out"),),
        setup=_FOLLOWS,
        icon="desktop",
    ),
    "drum-machine": Shape(
        "Drum machine with separate outs",
        "drum machine",
        "boxes",
        (
            *_midi_in_thru(),
            *_pair("out", "L", "R"),
            SocketShape("kick", "out", "audio", "ts", separate="kick", level="line +4"),
            SocketShape("snare", "out", "audio", "ts", separate="snare", level="line +4"),
        ),
        parts=1,
        setup=_SEQUENCES,
        icon="drum",
    ),
    "module": Shape(
        "Sound module with 16 parts",
        "16-part module",
        "boxes",
        (*_midi_in_thru(), *_pair("out", "L", "R")),
        parts=16,
        icon="module",
    ),
    "sampler": Shape(
        "Sampler",
        "sampler",
        "boxes",
        (
            *_midi_in_thru(),
            *_pair("in", "in L", "in R"),
            *_pair("out", "L", "R"),
            *(SocketShape(f"out {n}", "out", "audio", "ts", separate=f"out {n}", level="line +4") for n in range(3, 7)),
        ),
        parts=16,
        setup=_FOLLOWS,
        icon="module",
    ),
    "modular-midi": Shape(
        "Modular voice with its own MIDI-to-CV",
        "modular",
        "boxes",
        (_din_in(), SocketShape("out", "out", "audio", "mini-ts", level="modular")),
        parts=1,
        setup=_SEQUENCES,
        icon="modular",
    ),
    "modular-voice": Shape(
        "Modular voice, played by voltage",
        "modular voice",
        "boxes",
        (
            SocketShape("pitch", "in", "cv", "mini-ts", level="modular"),
            SocketShape("gate", "in", "cv", "mini-ts", level="modular"),
            SocketShape("out", "out", "audio", "mini-ts", level="modular"),
        ),
        parts=1,
        icon="modular",
    ),
    # On the way
    "effect": Shape(
        "Outboard effect",
        "outboard effect",
        "boxes",
        (
            SocketShape("in", "in", "audio", "trs", level="line +4"),
            SocketShape("out", "out", "audio", "trs", level="line +4"),
        ),
        routes=(RouteShape("in", "out"),),
        group=ON_THE_WAY,
        icon="effect",
    ),
    "effect-midi": Shape(
        "Outboard effect with MIDI",
        "outboard effect",
        "boxes",
        (
            _din_in(),
            SocketShape("in", "in", "audio", "trs", level="line +4"),
            SocketShape("out", "out", "audio", "trs", level="line +4"),
        ),
        routes=(RouteShape("in", "out"),),
        setup=_FOLLOWS,
        group=ON_THE_WAY,
        icon="effect",
    ),
    "thru-splitter": Shape(
        "Thru splitter, 1 to 4",
        "splitter",
        "boxes",
        (_din_in(), *(SocketShape(f"thru {n}", "out", "midi", "din", thru_of="MIDI in") for n in range(1, 5))),
        group=ON_THE_WAY,
        icon="splitter",
    ),
    "merger": Shape(
        "Merger, 2 to 1",
        "merger",
        "boxes",
        (*_numbered("in", 2, "in"), SocketShape("out", "out", "midi", "din")),
        routes=(RouteShape("in 1", "out"), RouteShape("in 2", "out")),
        group=ON_THE_WAY,
        icon="merger",
    ),
    "midi-router": Shape(
        "MIDI router without the computer, 4 in and 4 out",
        "router",
        "boxes",
        (*_numbered("in", 4, "in"), *_numbered("out", 4, "out")),
        group=ON_THE_WAY,
        icon="router",
    ),
    "level-converter": Shape(
        "Level converter, modular to line",
        "converter",
        "boxes",
        (
            SocketShape("in", "in", "audio", "mini-ts", level="modular"),
            SocketShape("out", "out", "audio", "trs", level="line +4"),
        ),
        routes=(RouteShape("in", "out", -CONVERTER_GAIN_DB),),
        group=ON_THE_WAY,
        icon="converter",
    ),
    "level-converter-both": Shape(
        "Level converter, modular to line and back",
        "converter",
        "boxes",
        (
            SocketShape("in", "in", "audio", "mini-ts", level="modular"),
            SocketShape("line in", "in", "audio", "trs", level="line +4"),
            SocketShape("out", "out", "audio", "trs", level="line +4"),
            SocketShape("modular out", "out", "audio", "mini-ts", level="modular"),
        ),
        routes=(
            RouteShape("in", "out", -CONVERTER_GAIN_DB),
            RouteShape("line in", "modular out", CONVERTER_GAIN_DB),
        ),
        group=ON_THE_WAY,
        icon="converter",
    ),
    "direct-box": Shape(
        "Direct box",
        "direct box",
        "boxes",
        (
            SocketShape("in", "in", "audio", "ts", level="line +4"),
            SocketShape("out", "out", "audio", "xlr", level="microphone"),
        ),
        routes=(RouteShape("in", "out", DIRECT_BOX_DB),),
        group=ON_THE_WAY,
        icon="converter",
    ),
    "midi-to-cv": Shape(
        "MIDI-to-CV converter",
        "MIDI to CV",
        "boxes",
        (
            *_midi_in_thru(),
            SocketShape("pitch", "out", "cv", "mini-ts", level="modular"),
            SocketShape("gate", "out", "cv", "mini-ts", level="modular"),
        ),
        routes=(RouteShape("MIDI in", "pitch"), RouteShape("MIDI in", "gate")),
        group=ON_THE_WAY,
        icon="converter",
    ),
    "mixer": Shape(
        "Mixer, 8 to 2",
        "mixer",
        "boxes",
        (
            *(SocketShape(f"channel {n}", "in", "audio", "trs", level="line +4") for n in range(1, 9)),
            *_pair("out", "main L", "main R"),
        ),
        routes=tuple(RouteShape(f"channel {n}", f"main {side}") for n in range(1, 9) for side in "LR"),
        group=ON_THE_WAY,
        icon="mixer",
    ),
}
"""Shapes by key."""

ADDABLE = tuple(key for key, shape in SHAPES.items() if shape.column != "host")
ICONS = tuple(sorted({shape.icon for shape in SHAPES.values()} - {""}))
BY_GROUP: dict[str, list[tuple[str, str]]] = {
    group: [(key, SHAPES[key].title) for key in ADDABLE if SHAPES[key].group == group]
    for group in (INTERFACES, PLAYED, "Boxes that sound", ON_THE_WAY)
}


def column_of(shape: str) -> str:
    """The sheet column of a shape; a shape from a newer file that is not in the table stands with the boxes."""
    return SHAPES[shape].column if shape in SHAPES else "boxes"


def is_interface(shape: str) -> bool:
    """Whether the box's sockets are the host's own ends."""
    return column_of(shape) == "interface"


def parts_of(shape: str, setup: Setup) -> int:
    """How many channels a box can answer on: as set for it, otherwise as its shape has; 0 = it makes no sound."""
    if setup.parts is not None:
        return setup.parts
    return SHAPES[shape].parts if shape in SHAPES else 1
