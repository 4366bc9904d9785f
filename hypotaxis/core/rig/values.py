"""What stands on the desk: boxes with sockets, joined by cables, and the routes inside the boxes.

A socket has one direction seen from its own box: "out" leaves the box, "in" enters it, "both" (USB, network) does
both. The host (the computer) is a box of shape "host"; it is drawn as the barlines of the sheet. Sockets of a box
whose shape is an interface are the host's own ends: its MIDI sockets are ports, its audio sockets are
the host's outputs and inputs. A box that the computer reaches by USB or network has ports too: MIDI sockets that are
carried by its USB or network socket and take no cable of their own. Uids are strings (UUID4) and never change.
"""

from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property, wraps
from typing import Any, Concatenate, ParamSpec, TypeVar

_Asked = ParamSpec("_Asked")
_Answer = TypeVar("_Answer")

DIRECTIONS = ("in", "out", "both")
KINDS = ("midi", "audio", "cv", "usb", "network")
LINKS = ("usb", "network")
"""Kinds of sockets that lead to the computer."""
CONNECTORS = {
    "": "not noted",
    "din": "5-pin DIN",
    "trs-midi": "3.5 mm TRS, MIDI",
    "usb-a": "USB A (takes devices)",
    "usb-b": "USB B",
    "usb-c": "USB C",
    "firewire": "FireWire",
    "card": "inside the computer",
    "rj45": "network (RJ45)",
    "wireless": "wireless",
    "ts": "6.3 mm TS",
    "trs": "6.3 mm TRS",
    "mini-ts": "3.5 mm TS",
    "mini-trs": "3.5 mm TRS",
    "xlr": "XLR",
    "combo": "XLR and 6.3 mm",
    "rca": "RCA",
}
LEVELS = ("", "line +4", "line -10", "instrument", "microphone", "modular")
OUT_DUTIES = ("sends to boxes", "surface", "editor", "spare")
IN_DUTIES = ("played from", "clock from", "played from and clock from", "surface", "editor", "spare")
LOCAL = ("", "on", "off", "always on")
CLOCK = ("", "internal", "external")
SET_BY = ("menu", "switches", "editor")
TOGETHER = ("as it is", "sent earlier", "held to the slowest")


@dataclass(frozen=True, kw_only=True)
class Socket:
    """A place to plug in.

    label: as printed on the panel. kind: one of KINDS. connector: a key of CONNECTORS. thru_of: label of the input
    whose bytes this socket repeats in hardware. separate: the voice that leaves the main outs when a cable sits here
    ("" = none). stereo: label of the other side of a pair; both_sides: one socket carries left and right. level: one
    of LEVELS; max_dbu: the most it gives or takes in dBu, None = the usual of its level. carried_by: label of the USB
    or network socket of the box through which the computer reaches this end. port_name: the owner's short name of a
    port; system_name: what the studio calls it; duty: what the port is for; clock: whether the host sends clock there.
    """

    uid: str
    label: str
    direction: str
    kind: str
    connector: str = ""
    thru_of: str = ""
    separate: str = ""
    stereo: str = ""
    both_sides: bool = False
    level: str = ""
    max_dbu: float | None = None
    carried_by: str = ""
    port_name: str = ""
    system_name: str = ""
    duty: str = ""
    clock: bool = False

    @property
    def name(self) -> str:
        """The owner's name where there is one, otherwise the printed label."""
        return self.port_name or self.label

    @property
    def is_left(self) -> bool:
        """Whether it is the left one of a stereo pair: L before R, 9 before 10."""
        return bool(self.stereo) and (len(self.label), self.label) < (len(self.stereo), self.stereo)

    @property
    def pluggable(self) -> bool:
        """Whether a cable goes in: ports inside a USB or network link take none."""
        return not self.carried_by

    @property
    def balanced(self) -> bool:
        """Whether its connector carries balanced audio (three contacts for one side)."""
        return self.connector in ("trs", "xlr", "combo") and not self.both_sides


@dataclass(frozen=True, kw_only=True)
class Route:
    """A path inside a box from one of its sockets to another, by uid; done by the box's processor or circuit, unlike a
    hardware thru.

    channels: those that pass (empty = all sixteen). remap: (from, to) channels. clock: whether clock and start keys
    pass. gain_db: of audio.
    """

    uid: str
    source: str
    target: str
    channels: tuple[int, ...] = ()
    remap: tuple[tuple[int, int], ...] = ()
    clock: bool = True
    gain_db: float = 0.0

    def passes(self, channel: int) -> int:
        """The channel on which what came on `channel` (1–16) leaves; 0 when it is held back."""
        if channel == 0 or (self.channels and channel not in self.channels):
            return 0
        return dict(self.remap).get(channel, channel)


@dataclass(frozen=True, kw_only=True)
class Setup:
    """What a box can do and what the plan takes it to be set to.

    receives, transmits: channels 1–16, empty = as its instruments say. local: local control, one of LOCAL. clock:
    where its tempo comes from, one of CLOCK. uses: separate outs that are switched on, by voice. set_by: how its
    settings are made, one of SET_BY. parts: how many channels it can answer on, None = as its shape. lanes: rows of its
    sequencer, each of which drives one sound; None = it has none, or no limit.
    """

    receives: tuple[int, ...] = ()
    omni: bool = False
    transmits: tuple[int, ...] = ()
    local: str = ""
    clock: str = ""
    takes_clock: bool = False
    sends_clock: bool = False
    takes_time_code: bool = False
    sends_time_code: bool = False
    uses: tuple[str, ...] = ()
    set_by: str = "menu"
    parts: int | None = None
    lanes: int | None = None


@dataclass(frozen=True, kw_only=True)
class Delays:
    """What is known of a box's delays, typed from its data sheet or measured elsewhere; None = not known.

    reaction_ms: of a sounding box, from the end of a note's message to the first sound. through_ms: of a box that
    sound or messages pass on their way, from in to out. Of an interface: out_ms, its driver and link on the way out;
    converter_samples and driver_samples on the way home, at the rig's rate.
    """

    reaction_ms: float | None = None
    through_ms: float | None = None
    out_ms: float | None = None
    converter_samples: float | None = None
    driver_samples: float | None = None


@dataclass(frozen=True, kw_only=True)
class Box:
    """A unit with sockets. shape: a key of shapes.SHAPES. order: place within its column, from the top; by_hand: the
    owner put it there, so the layout keeps it. icon: a key of shapes.ICONS ("" = its shape's); picture: name (content
    hash) of an uploaded picture; identity: maker, family and model as it answers (midi.identity), "" = not asked."""

    uid: str
    name: str
    shape: str
    note: str = ""
    colour: str = ""
    order: int = 0
    by_hand: bool = False
    icon: str = ""
    picture: str = ""
    identity: str = ""
    setup: Setup = field(default_factory=Setup)
    delays: Delays = field(default_factory=Delays)
    sockets: tuple[Socket, ...] = ()
    routes: tuple[Route, ...] = ()

    def socket(self, label: str) -> Socket | None:
        """The socket with this printed label, or None."""
        return next((socket for socket in self.sockets if socket.label == label), None)

    def at(self, uid: str) -> Socket | None:
        """The socket with this uid, or None."""
        return next((socket for socket in self.sockets if socket.uid == uid), None)


@dataclass(frozen=True, kw_only=True)
class Cable:
    """Joins an out socket (source) to an in socket (target), named by uid. kind: how it is made, a key of
    plug.CABLE_KINDS ("" = what the sockets ask for); adapter: what sits between. length_m: metres, None = unknown."""

    uid: str
    source: str
    target: str
    kind: str = ""
    adapter: str = ""
    length_m: float | None = None
    colour: str = ""
    label: str = ""


@dataclass(frozen=True, kw_only=True)
class Rig:
    """Everything on the desk. sample_rate in Hz and buffer in samples are the interface's settings; echo: the host
    passes what is played on to the selected instrument; leader: uid of the box whose clock all follow ("" = the host).
    driver: kind of driver in use, stamps: where time stamps of messages come from, both in the owner's words. together:
    how instruments of different lateness are brought together while they play, one of TOGETHER.

    Cables have no order of their own; they are kept by uid, so that equal rigs are equal.
    """

    uid: str
    name: str
    sample_rate: int = 48000
    buffer: int = 256
    echo: bool = True
    leader: str = ""
    driver: str = ""
    stamps: str = ""
    together: str = TOGETHER[0]
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

    @cached_property
    def _onward(self) -> dict[str, list[tuple[Socket, Route | None]]]:
        found: dict[str, list[tuple[Socket, Route | None]]] = defaultdict(list)
        for box in self.boxes:
            labelled = {socket.label: socket for socket in box.sockets}
            for socket in box.sockets:
                if socket.thru_of in labelled and socket.direction == "out":
                    found[labelled[socket.thru_of].uid].append((socket, None))
            for route in box.routes:
                target = self.find(route.target)
                if target:
                    found[route.source].append((target[1], route))
        return found

    @cached_property
    def _routes_into(self) -> dict[str, list[Route]]:
        found: dict[str, list[Route]] = defaultdict(list)
        for box in self.boxes:
            for route in box.routes:
                found[route.target].append(route)
        return found

    @cached_property
    def kept(self) -> dict[Callable, dict[tuple, Any]]:
        """What functions have worked out about this rig, kept as long as it is (see `kept_with_rig`)."""
        return defaultdict(dict)

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

    def onward(self, socket_uid: str) -> list[tuple[Socket, Route | None]]:
        """Where a box passes on what comes in here: its out sockets, each with the route, None for a hardware thru."""
        return self._onward.get(socket_uid, [])

    def routes_into(self, socket_uid: str) -> list[Route]:
        """The routes of a box that end at this socket."""
        return self._routes_into.get(socket_uid, [])

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


def kept_with_rig(work: Callable[Concatenate[Rig, _Asked], _Answer]) -> Callable[Concatenate[Rig, _Asked], _Answer]:
    """A function of a rig and hashable values that is worked out once for each as long as the rig stays as it is. What
    it answers is shared, so nobody may change it."""

    @wraps(work)
    def answer(rig: Rig, *asked: _Asked.args) -> _Answer:
        answers = rig.kept[work]
        if asked not in answers:
            answers[asked] = work(rig, *asked)
        return answers[asked]

    return answer
