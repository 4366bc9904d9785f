"""What stands on the desk: boxes with sockets, joined by cables.

A socket has one direction seen from its own box: "out" leaves the box, "in" enters it, "both" (USB) does both.
The host (the computer) is a box of shape "host"; it is drawn as the barlines of the sheet. Sockets of a box
whose shape is an interface are the host's own ends: its MIDI sockets are ports, its audio sockets are
the host's outputs and inputs. Uids are strings (UUID4) and never change.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

DIRECTIONS = ("in", "out", "both")
KINDS = ("midi", "audio", "usb")
OUT_DUTIES = ("sends to boxes", "surface", "editor", "spare")
IN_DUTIES = ("played from", "clock from", "surface", "editor", "spare")


@dataclass(frozen=True, kw_only=True)
class Socket:
    """A place to plug in.

    label: as printed on the panel. kind: one of KINDS. thru_of: label of the input whose bytes this socket
    repeats in hardware. separate: the voice that leaves the main outs when a cable sits here ("" = none).
    stereo: label of the other side of a pair. port_name: the owner's short name of a port;
    system_name: what the studio calls it; duty: what the port is for.
    """

    uid: str
    label: str
    direction: str
    kind: str
    thru_of: str = ""
    separate: str = ""
    stereo: str = ""
    port_name: str = ""
    system_name: str = ""
    duty: str = ""

    @property
    def name(self) -> str:
        """The owner's name where there is one, otherwise the printed label."""
        return self.port_name or self.label

    @property
    def is_left(self) -> bool:
        """Whether it is the left one of a stereo pair: L before R, 9 before 10."""
        return bool(self.stereo) and (len(self.label), self.label) < (len(self.stereo), self.stereo)


@dataclass(frozen=True, kw_only=True)
class Box:
    """A unit with sockets. shape: a key of shapes.SHAPES. order: place within its column, from the top."""

    uid: str
    name: str
    shape: str
    note: str = ""
    colour: str = ""
    order: int = 0
    sockets: tuple[Socket, ...] = ()

    def socket(self, label: str) -> Socket | None:
        """The socket with this printed label, or None."""
        return next((socket for socket in self.sockets if socket.label == label), None)


@dataclass(frozen=True, kw_only=True)
class Cable:
    """Joins an out socket (source) to an in socket (target), named by uid. length_m: metres, None = unknown."""

    uid: str
    source: str
    target: str
    length_m: float | None = None
    colour: str = ""
    label: str = ""


@dataclass(frozen=True, kw_only=True)
class Rig:
    """Everything on the desk. sample_rate in Hz and buffer in samples are the interface's settings.

    Cables have no order of their own; they are kept by uid, so that equal rigs are equal.
    """

    uid: str
    name: str
    sample_rate: int = 48000
    buffer: int = 256
    boxes: tuple[Box, ...] = ()
    cables: tuple[Cable, ...] = ()

    def __post_init__(self) -> None:
        object.__setattr__(self, "cables", tuple(sorted(self.cables, key=lambda cable: cable.uid)))

    @cached_property
    def _sockets(self) -> dict[str, tuple[Box, Socket]]:
        return {socket.uid: (box, socket) for box in self.boxes for socket in box.sockets}

    @cached_property
    def _cable_at(self) -> dict[str, Cable]:
        return {end: cable for cable in self.cables for end in (cable.source, cable.target)}

    @cached_property
    def _boxes(self) -> dict[str, Box]:
        return {box.uid: box for box in self.boxes}

    def box(self, uid: str) -> Box | None:
        """The box with this uid, or None."""
        return self._boxes.get(uid)

    def find(self, socket_uid: str | None) -> tuple[Box, Socket] | None:
        """The box and the socket with this socket uid, or None when there is no such socket."""
        return self._sockets.get(socket_uid or "")

    def cable_at(self, socket_uid: str) -> Cable | None:
        """The one cable plugged in here, or None."""
        return self._cable_at.get(socket_uid)

    def far_end(self, socket_uid: str) -> tuple[Box, Socket] | None:
        """The box and the socket at the other end of the cable plugged in here, or None."""
        cable = self.cable_at(socket_uid)
        return self.find(cable.target if cable.source == socket_uid else cable.source) if cable else None

    def each_socket(self) -> Iterator[tuple[Box, Socket]]:
        """Every socket with its box, in the order of the rig."""
        return iter(self._sockets.values())

    def socket_text(self, socket_uid: str) -> str:
        """A socket as it is spoken of: box and name, "Quayside line in 3"; "a socket that is gone" if missing."""
        found = self.find(socket_uid)
        if found is None:
            return "a socket that is gone"
        box, socket = found
        return socket.port_name if socket.port_name else f"{box.name} {socket.label}"
