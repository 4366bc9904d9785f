"""Ports: the host's MIDI ends as the computer sees them, and what each is for.

Ports go one way: seen from the host, "out" leaves it and "in" comes to it. A port is a MIDI socket of an interface, or
a MIDI end inside the USB or network link of any box. What the studio reports is matched to them by system name.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.rig.links import host_of, takes_devices, upstream
from hypotaxis.core.rig.shapes import SHAPES, is_interface
from hypotaxis.core.rig.values import LINKS, Box, Rig, Socket
from hypotaxis.core.studio import Port

CHANNELS = 16
"""Channels a port carries (MIDI 1.0 Detailed Specification)."""
DEEPEST_HUBS = 5
"""Hubs in a row (USB 2.0 specification)."""


@dataclass(frozen=True)
class PortEnd:
    """A port of the plan. direction: seen from the host."""

    box: Box
    socket: Socket
    direction: str

    @property
    def is_spare(self) -> bool:
        return self.socket.duty in ("spare", "editor")


@dataclass(frozen=True)
class Matching:
    """What the studio reports beside what the plan knows.

    missing: ports of the plan with a system name that is not reported; unmatched: reported ports that belong to no
    socket; copies: reported ports that are another's copy, by system name; proposed: socket uid → system name.
    """

    missing: tuple[PortEnd, ...]
    unmatched: tuple[Port, ...]
    copies: dict[str, str]
    proposed: dict[str, str]


def reported_name(box_uid: str, shape: str, label: str, kind: str) -> str:
    """How the system names an end of a device that nobody has named: what it is, its serial digits, the end."""
    title = SHAPES[shape].title.split(",")[0] if shape in SHAPES else "Device"
    return f"{title} USB {'MIDI' if kind == 'midi' else 'Audio'} 2.0: {label} [{box_uid[:4]}]"


def host_direction(box: Box, socket: Socket) -> str:
    """A port's direction seen from the host: an interface's sockets look outward, ends inside a link at the host."""
    if is_interface(box.shape) and not socket.carried_by:
        return socket.direction
    return "in" if socket.direction == "out" else "out"


def is_port(rig: Rig, box: Box, socket: Socket) -> bool:
    """Whether the computer sees this socket as a port. What is inside a link that a USB host takes belongs to that
    host; inside one that is not cabled yet it will be a port."""
    if socket.kind != "midi":
        return False
    return host_of(rig, box, socket) is None if socket.carried_by else is_interface(box.shape)


def ports_of(rig: Rig, direction: str = "") -> list[PortEnd]:
    """The ports of a rig in its order, of one direction or both."""
    return [end for end in _every_port(rig) if direction in ("", end.direction)]


@kept_with_it
def _every_port(rig: Rig) -> tuple[PortEnd, ...]:
    sockets = ((box, socket) for box, socket in rig.each_socket() if is_port(rig, box, socket))
    return tuple(PortEnd(box, socket, host_direction(box, socket)) for box, socket in sockets)


def keys_in(rig: Rig) -> list[PortEnd]:
    """The ports merged into one stream for the selected instrument."""
    return [end for end in ports_of(rig, "in") if end.socket.duty.startswith("played from")]


def leads(rig: Rig) -> list[PortEnd]:
    """The ports from which the host takes clock."""
    return [end for end in ports_of(rig, "in") if end.socket.duty.endswith("clock from")]


def channel_count(rig: Rig) -> int:
    """How many channels leave the host on ports that send to boxes."""
    return CHANNELS * sum(end.socket.duty == "sends to boxes" for end in ports_of(rig, "out"))


def hubs_between(rig: Rig, box: Box, by: str = "") -> int | None:
    """How many hubs stand between a box and the computer; None when no link leads there. by: label of the one link
    to follow, otherwise any."""
    links = [one for one in box.sockets if one.kind in LINKS and not takes_devices(box, one) and by in ("", one.label)]
    goals = (upstream(rig, link.uid) for link in links)
    return min((goal.hubs for goal in goals if goal and goal.box.shape == "host"), default=None)


def is_seen(rig: Rig, end: PortEnd) -> bool:
    """Whether a link leads from the port's box to the computer."""
    return hubs_between(rig, end.box, end.socket.carried_by) is not None


@kept_with_it
def match(rig: Rig, reported: tuple[Port, ...]) -> Matching:
    """Lay what the studio reports beside the plan; proposals are by likeness of names, best first, each used once."""
    ends = ports_of(rig)
    there = {(port.system_name, port.direction) for port in reported}
    taken = {(end.socket.system_name, end.direction) for end in ends if end.socket.system_name}
    copies = _copies(reported)
    open_ports = [p for p in reported if (p.system_name, p.direction) not in taken and p.system_name not in copies]
    missing = [end for end in ends if end.socket.system_name and (end.socket.system_name, end.direction) not in there]
    wanting = [end for end in ends if not end.socket.system_name] + missing
    names = [f"{end.box.name} {end.box.note} {end.socket.label}" for end in wanting]
    scored = (
        (_likeness(names[at], port.system_name), at, place)
        for at, end in enumerate(wanting)
        for place, port in enumerate(open_ports)
        if port.direction == end.direction
    )
    proposed: dict[str, str] = {}
    used: set[int] = set()
    for _, at, place in sorted((one for one in scored if one[0] > 0), key=lambda one: -one[0]):
        uid = wanting[at].socket.uid
        if uid not in proposed and place not in used:
            proposed[uid] = open_ports[place].system_name
            used.add(place)
    return Matching(tuple(missing), tuple(open_ports), copies, proposed)


def match_audio(rig: Rig, inputs: Iterable[str], outputs: Iterable[str]) -> dict[str, str]:
    """Proposals for the interfaces' audio sockets that are matched to nothing, socket uid to reported name: by likeness
    of names, otherwise the first that is free, in the order of both."""
    proposed: dict[str, str] = {}
    for direction, reported in (("in", list(inputs)), ("out", list(outputs))):
        ends = [
            (box, socket)
            for box, socket in rig.each_socket()
            if is_interface(box.shape) and socket.kind == "audio" and socket.direction == direction
        ]
        held = {socket.system_name for _, socket in ends}
        free = [name for name in reported if name not in held]
        for box, socket in ends:
            if not free or socket.system_name in reported:
                continue
            likest = max(free, key=lambda name: _likeness(f"{box.name} {socket.label}", name))
            proposed[socket.uid] = likest
            free.remove(likest)
    return proposed


def _copies(reported: list[Port]) -> dict[str, str]:
    """Ports that the system reports once more: the same name with a number of a copy behind it."""
    names = {port.system_name for port in reported}
    found = {}
    for name in names:
        stem = re.sub(r"\s*(\(\d+\)|#\d+)$", "", name)
        if stem != name and stem in names:
            found[name] = stem
    return found


def _likeness(ours: str, theirs: str) -> float:
    """Share of our words that stand in a system name, whole words only; 0 = nothing in common."""
    words = _words(ours)
    return len(words & _words(theirs)) / len(words) if words else 0.0


@lru_cache(4096)
def _words(name: str) -> frozenset[str]:
    """Of a name that is laid beside hundreds of others."""
    return frozenset(re.findall(r"[a-z]+|\d+", name.casefold()))
