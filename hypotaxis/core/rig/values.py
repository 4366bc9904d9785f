"""What stands on the desk: boxes with sockets, joined by cables, and the routes inside the boxes.

A socket has one direction seen from its own box: "out" leaves the box, "in" enters it, "both" (USB, network) does
both. The host (the computer) is a box of shape "host"; it is drawn as the barlines of the sheet. Sockets of a box
whose shape is an interface are the host's own ends: its MIDI sockets are ports, its audio sockets are
the host's outputs and inputs. A box that the computer reaches by USB or network has ports too: MIDI sockets that are
carried by its USB or network socket and take no cable of their own. Uids are strings (UUID4) and never change.
"""

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

from hypotaxis.core.kept import Keeping
from hypotaxis.core.sync.values import Following, Sending

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
    """A place to plug in."""

    uid: str
    label: str
    """As printed on the panel."""
    direction: str
    kind: str
    """One of KINDS."""
    connector: str = ""
    """A key of CONNECTORS."""
    thru_of: str = ""
    """Label of the input whose bytes this socket repeats in hardware."""
    separate: str = ""
    """The voice that leaves the main outs when a cable sits here ("" = none)."""
    stereo: str = ""
    """Label of the other side of a pair."""
    both_sides: bool = False
    """One socket carries left and right."""
    level: str = ""
    """One of LEVELS."""
    max_dbu: float | None = None
    """The most it gives or takes in dBu, None = the usual of its level."""
    carried_by: str = ""
    """Label of the USB or network socket of the box through which the computer reaches this end."""
    port_name: str = ""
    """The owner's short name of a port."""
    system_name: str = ""
    """What the studio calls it."""
    duty: str = ""
    """What the port is for."""
    clock: bool = False
    """Whether the host sends clock there."""
    sending: Sending | None = None
    """What it sends besides to boxes that follow, None = as usual."""

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
    """A path inside a box from one of its sockets to another, by uid; done by the box's processor or circuit,
    unlike a hardware thru."""

    uid: str
    source: str
    target: str
    channels: tuple[int, ...] = ()
    """Those that pass (empty = all sixteen)."""
    remap: tuple[tuple[int, int], ...] = ()
    """(from, to) channels."""
    clock: bool = True
    """Whether clock and start keys pass."""
    gain_db: float = 0.0
    """Of audio."""

    def passes(self, channel: int) -> int:
        """The channel on which what came on `channel` (1–16) leaves; 0 when it is held back."""
        if channel == 0 or (self.channels and channel not in self.channels):
            return 0
        return dict(self.remap).get(channel, channel)


@dataclass(frozen=True, kw_only=True)
class Setup:
    """What a box can do and what the plan takes it to be set to."""

    receives: tuple[int, ...] = ()
    """Channels 1–16, empty = as its instruments say."""
    omni: bool = False
    transmits: tuple[int, ...] = ()
    """Channels 1–16, empty = as its instruments say."""
    local: str = ""
    """Local control, one of LOCAL."""
    clock: str = ""
    """Where its tempo comes from, one of CLOCK."""
    takes_clock: bool = False
    sends_clock: bool = False
    takes_time_code: bool = False
    sends_time_code: bool = False
    uses: tuple[str, ...] = ()
    """Separate outs that are switched on, by voice."""
    set_by: str = "menu"
    """How its settings are made, one of SET_BY."""
    parts: int | None = None
    """How many channels it can answer on, None = as its shape."""
    lanes: int | None = None
    """Rows of its sequencer, each of which drives one sound; None = it has none, or no limit."""
    polyphony: int | None = None
    """How many notes it sounds at once; None = not known."""
    routing: int | None = None
    """Of a router: the stored routing that this rig needs, as the program 0–127 that calls it up; None = it is not
    called up."""
    routing_by: str = ""
    """Label of the socket at which the router takes that call."""
    routing_channel: int = 1
    """The channel of the call, 1–16."""
    dump_request: str = ""
    """What asks it for its memory, as hexadecimal bytes (midi.dumps); "" = it is sent from its panel."""
    dump_pause_ms: float = 20.0
    """Left between messages when its memory is sent back."""
    dump_bytes_s: int = 0
    """How many bytes a second it bears on the average, 0 = as the wire carries them."""


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
    """A unit with sockets."""

    uid: str
    name: str
    shape: str
    """A key of shapes.SHAPES."""
    note: str = ""
    colour: str = ""
    order: int = 0
    """Place within its column, from the top."""
    by_hand: bool = False
    """The owner put it there, so the layout keeps it."""
    icon: str = ""
    """A key of shapes.ICONS ("" = its shape's)."""
    picture: str = ""
    """Name (content hash) of an uploaded picture."""
    identity: str = ""
    """Maker, family and model as it answers (midi.identity), "" = not asked."""
    setup: Setup = field(default_factory=Setup)
    delays: Delays = field(default_factory=Delays)
    following: Following = field(default_factory=Following)
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
    """Joins an out socket (source) to an in socket (target), named by uid."""

    uid: str
    source: str
    target: str
    kind: str = ""
    """How it is made, a key of plug.CABLE_KINDS ("" = what the sockets ask for)."""
    adapter: str = ""
    """What sits between."""
    length_m: float | None = None
    """Metres, None = unknown."""
    colour: str = ""
    label: str = ""


@dataclass(frozen=True, kw_only=True)
class Rig(Keeping):
    """Everything on the desk. sample_rate in Hz and buffer in samples are the interface's settings."""

    uid: str
    name: str
    sample_rate: int = 48000
    buffer: int = 256
    echo: bool = True
    """The host passes what is played on to the selected instrument."""
    leader: str = ""
    """Uid of the box whose clock all follow ("" = the host)."""
    driver: str = ""
    """Kind of driver in use."""
    stamps: str = ""
    """Where time stamps of messages come from, both in the owner's words."""
    together: str = TOGETHER[0]
    """How instruments of different lateness are brought together while they play, one of TOGETHER. Cables have no
    order of their own; they are kept by uid, so that equal rigs are equal."""
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
