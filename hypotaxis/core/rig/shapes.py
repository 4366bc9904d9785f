"""Ready generic boxes: which sockets a kind of box usually has.

One table; a shape is a starting point and names no product. `column` says where on the sheet the box stands:
hands (played), interface (twice: sending and receiving side), boxes, host (the barlines).
"""

from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(frozen=True)
class SocketShape:
    """A socket as a shape has it; fields as in values.Socket."""

    label: str
    direction: str
    kind: str
    thru_of: str = ""
    separate: str = ""
    stereo: str = ""


@dataclass(frozen=True)
class Shape:
    """A generic box. parts: how many channels it can answer on; sounds: whether it makes sound of its own."""

    title: str
    note: str
    column: str
    sockets: tuple[SocketShape, ...]
    parts: int = 0

    @property
    def sounds(self) -> bool:
        return self.parts > 0


def _midi_in_thru() -> tuple[SocketShape, ...]:
    return (
        SocketShape("MIDI in", "in", "midi"),
        SocketShape("thru", "out", "midi", thru_of="MIDI in"),
    )


def _pair(direction: str, left: str, right: str) -> tuple[SocketShape, ...]:
    return (
        SocketShape(left, direction, "audio", stereo=right),
        SocketShape(right, direction, "audio", stereo=left),
    )


def _line(direction: str, count: int) -> Iterator[SocketShape]:
    for odd in range(1, count, 2):
        yield from _pair(direction, f"line {direction} {odd}", f"line {direction} {odd + 1}")


def _interface(count: int) -> tuple[SocketShape, ...]:
    return (
        SocketShape("USB", "both", "usb"),
        SocketShape("MIDI out", "out", "midi"),
        *_line("out", count),
        *_line("in", count),
        SocketShape("MIDI in", "in", "midi"),
    )


SHAPES: dict[str, Shape] = {
    "host": Shape(
        "Computer",
        "the host",
        "host",
        tuple(SocketShape(f"USB {number}", "both", "usb") for number in range(1, 5)),
    ),
    "keyboard": Shape("Keyboard", "keyboard", "hands", (SocketShape("USB", "both", "usb"),)),
    "interface-2": Shape("Interface, 2 in and 2 out", "interface", "interface", _interface(2)),
    "interface-8": Shape("Interface, 8 in and 8 out", "interface", "interface", _interface(8)),
    "poly-synth": Shape(
        "Poly synth with two parts",
        "8 voices, 2 parts",
        "boxes",
        (*_midi_in_thru(), *_pair("out", "L", "R")),
        parts=2,
    ),
    "mono-synth": Shape(
        "Mono synth",
        "mono bass",
        "boxes",
        (*_midi_in_thru(), SocketShape("out", "out", "audio")),
        parts=1,
    ),
    "drum-machine": Shape(
        "Drum machine with separate outs",
        "drum machine",
        "boxes",
        (
            *_midi_in_thru(),
            *_pair("out", "L", "R"),
            SocketShape("kick", "out", "audio", separate="kick"),
            SocketShape("snare", "out", "audio", separate="snare"),
        ),
        parts=1,
    ),
    "effect": Shape(
        "Outboard effect",
        "outboard effect",
        "boxes",
        (SocketShape("in", "in", "audio"), SocketShape("out", "out", "audio")),
    ),
}
"""Shapes by key. Socket sets are common practice; thru repeats the input in hardware (MIDI 1.0)."""

ADDABLE = tuple(key for key, shape in SHAPES.items() if shape.column != "host")


def column_of(shape: str) -> str:
    """The sheet column of a shape; a shape from a newer file that is not in the table stands with the boxes."""
    return SHAPES[shape].column if shape in SHAPES else "boxes"


def is_interface(shape: str) -> bool:
    """Whether the box's sockets are the host's own ends."""
    return column_of(shape) == "interface"
