"""Where does a signal go, out and back?

A trip is followed from the send socket along cables, hardware thrus and routes to the box, and from the host's inputs
back along cables and the boxes that stand on the way home (converters, direct boxes, mixers, effects). It never
raises: where it stops, it says so.
"""

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.plan import Instrument, Seat
from hypotaxis.core.rig.links import entered, is_usb_host
from hypotaxis.core.rig.ports import is_port, ports_of
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.values import Box, Cable, Rig, Route, Socket

ALL_CHANNELS = tuple(range(1, 17))
MOST_STEPS = 4000
"""Cables followed at most from one socket; more is a tangle of routers that no one can want."""


@dataclass(frozen=True)
class Hop:
    """One cable on the way: from the socket it leaves by to the one it enters. by_thru: the source repeats in hardware;
    route: the path inside the box that led to the source, None for the first hop and for a thru."""

    cable: Cable
    source: str
    target: str
    by_thru: bool
    route: Route | None = None


@dataclass(frozen=True)
class Reached:
    """A box that hears a send socket: its input socket and the hops that lead there. channels: on which channel each of
    the host's sixteen arrives, 0 = held back; clock: whether clock arrives."""

    box: str
    socket: str
    hops: tuple[Hop, ...]
    channels: tuple[int, ...] = ALL_CHANNELS
    clock: bool = True

    @property
    def routes(self) -> tuple[Route, ...]:
        """The routes on the way: each is a processor that takes a whole message in before it passes it on."""
        return tuple(hop.route for hop in self.hops if hop.route)


@dataclass(frozen=True)
class Trip:
    """An instrument's way out and back. Empty `outward` or a shorter `homeward` than the returns: it is broken."""

    instrument: Instrument
    outward: tuple[Hop, ...]
    reaches: bool
    homeward: tuple[tuple[Cable, ...], ...]
    """For each return at which the box arrives the cables from the box to it."""
    listeners: tuple[Reached, ...]
    arrives_on: int = 0
    held_back: bool = False
    """A router on the way does not let the instrument's channel pass."""

    @property
    def whole(self) -> bool:
        """Whether notes reach the box and every return is cabled from it."""
        return self.reaches and bool(self.homeward) and len(self.homeward) == len(self.instrument.returns)

    @property
    def cables(self) -> frozenset[str]:
        """Uids of every cable on the trip."""
        home = [cable.uid for way in self.homeward for cable in way]
        return frozenset([hop.cable.uid for hop in self.outward] + home)

    @property
    def sockets(self) -> frozenset[str]:
        """Uids of every socket on the trip, those of the definition included."""
        ends = {end for hop in self.outward for end in (hop.source, hop.target)}
        ends |= {end for way in self.homeward for cable in way for end in (cable.source, cable.target)}
        return frozenset(ends | {self.instrument.send, *self.instrument.inputs} - {""})


@kept_with_it
def heard_from(rig: Rig, send: str) -> tuple[Reached, ...]:
    """Every box input that hears what leaves the socket `send`, nearest first; a box that is reached on two ways is
    told twice.

    The wire's own delay per hardware thru is microseconds (MIDI 1.0 Detailed Specification), so order is all.
    """
    start = rig.find(send)
    if start is None:
        return ()
    found: list[Reached] = []
    open_ends: list[tuple[str, tuple[Hop, ...], bool, Route | None, tuple[int, ...], bool]] = []
    if start[1].carried_by and is_port(rig, *start):
        found.append(Reached(start[0].uid, send, ()))
        open_ends += [
            (out.uid, (), route is None, route, *_through(route, ALL_CHANNELS, True)) for out, route in rig.onward(send)
        ]
    else:
        open_ends.append((send, (), False, None, ALL_CHANNELS, True))
    for _ in range(MOST_STEPS):
        if not open_ends:
            break
        source, hops, by_thru, route, channels, clock = open_ends.pop(0)
        for cable, target in entered(rig, source):
            end = rig.find(target)
            if end is None or any(hop.target == target for hop in hops):
                continue
            box, socket = end
            way = (*hops, Hop(cable, source, target, by_thru, route))
            found.append(Reached(box.uid, target, way, channels, clock))
            for out, onward in rig.onward(target):
                passing, ticks = _through(onward, channels, clock)
                if _passes_midi(rig, socket, out) and (any(passing) or ticks):
                    open_ends.append((out.uid, way, onward is None, onward, passing, ticks))
    return tuple(found)


def _passes_midi(rig: Rig, entry: Socket, out: Socket) -> bool:
    """Whether what comes in at one socket of a box and leaves by the other is MIDI, or was until it left."""
    by_device, to_device = (is_usb_host(*rig.find(one.uid)) for one in (entry, out))
    return (entry.kind == "midi" or by_device) and (out.kind in ("midi", "cv") or to_device)


def arriving(rig: Rig, box: str, sender: Instrument | Seat) -> list[Reached]:
    """The ways on which what is sent on the sender's channel arrives at a box, nearest first."""
    heard = heard_from(rig, sender.send)
    return [reached for reached in heard if reached.box == box and reached.channels[sender.channel - 1]]


def _through(route: Route | None, channels: tuple[int, ...], clock: bool) -> tuple[tuple[int, ...], bool]:
    if route is None:
        return channels, clock
    return tuple(route.passes(channel) for channel in channels), clock and route.clock


def listeners(rig: Rig, send: str, channel: int) -> tuple[Reached, ...]:
    """The box inputs at which a message on this channel (1–16) of a send socket arrives, nearest first."""
    return tuple(reached for reached in heard_from(rig, send) if reached.channels[channel - 1])


def way_home(rig: Rig, uid: str, box_uid: str) -> tuple[Cable, ...]:
    """The cables from a box to an input of the host, through what stands between; empty when it does not arrive."""
    return _begins(rig, uid).get(box_uid, ())


@kept_with_it
def _begins(rig: Rig, uid: str) -> dict[str, tuple[Cable, ...]]:
    """The boxes from which ways lead into an audio input, each with its shortest."""
    found: dict[str, tuple[Cable, ...]] = {}
    for way in ways_into(rig, uid):
        found.setdefault(rig.find(way[0].source)[0].uid, way)
    return found


@kept_with_it
def ways_into(rig: Rig, uid: str) -> tuple[tuple[Cable, ...], ...]:
    """Every way that ends at this audio input, as the cables from its beginning, the shortest first. A box that passes
    audio on is the beginning of one way and stands in the middle of others."""
    found: list[tuple[Cable, ...]] = []
    open_ends: list[tuple[str, tuple[Cable, ...]]] = [(uid, ())]
    while open_ends and len(found) < MOST_STEPS:
        here, way = open_ends.pop(0)
        cable = rig.cable_at(here)
        if cable is None or cable.target != here or cable in way or rig.find(cable.source) is None:
            continue
        way = (cable, *way)
        found.append(way)
        open_ends += [(route.source, way) for route in rig.routes_into(cable.source)]
    return tuple(found)


def homes_of(rig: Rig, box_uid: str) -> list[str]:
    """The host's inputs at which a box arrives by its main outs, in the order of its sockets."""
    found = {}
    for uid, source in _arrivals(rig).get(box_uid, ()):
        if not source.separate:
            found[rig.box(box_uid).sockets.index(source)] = uid
    return [found[place] for place in sorted(found)]


@kept_with_it
def _arrivals(rig: Rig) -> dict[str, list[tuple[str, Socket]]]:
    """For each box the host's inputs at which it arrives, in their order, each with the socket that it leaves by."""
    found: dict[str, list[tuple[str, Socket]]] = defaultdict(list)
    for _, socket in host_audio(rig, "in"):
        for box, way in _begins(rig, socket.uid).items():
            found[box].append((socket.uid, rig.find(way[0].source)[1]))
    return found


@kept_with_it
def trip_of(rig: Rig, instrument: Instrument) -> Trip:
    """The trip of an instrument as far as it is cabled."""
    heard = heard_from(rig, instrument.send)
    first = next(iter(arriving(rig, instrument.box, instrument)), None)
    ways = (way_home(rig, uid, instrument.box) for uid in instrument.returns)
    return Trip(
        instrument=instrument,
        outward=first.hops if first else (),
        reaches=first is not None,
        homeward=tuple(way for way in ways if way),
        listeners=heard,
        arrives_on=first.channels[instrument.channel - 1] if first else 0,
        held_back=first is None and any(reached.box == instrument.box for reached in heard),
    )


def send_sockets(rig: Rig) -> list[tuple[str, Socket]]:
    """The host's MIDI outputs that go to boxes, as (box name, socket): what an instrument may send on."""
    ends = ports_of(rig, "out")
    return [(end.box.name, end.socket) for end in ends if end.socket.duty in ("", "sends to boxes")]


def return_sockets(rig: Rig) -> list[tuple[str, Socket]]:
    """The host's audio inputs, as (box name, socket): where sound may come home."""
    return [(box.name, socket) for box, socket in host_audio(rig, "in")]


@kept_with_it
def host_audio(rig: Rig, direction: str) -> list[tuple[Box, Socket]]:
    """The interfaces' audio sockets of one direction, seen from the interface."""
    interfaces = [box for box in rig.boxes if is_interface(box.shape)]
    return [(box, s) for box in interfaces for s in box.sockets if s.kind == "audio" and s.direction == direction]


def recording_interface(rig: Rig) -> Box | None:
    """The interface that sound is recorded by: the first that has audio inputs."""
    return next((box for box, _ in host_audio(rig, "in")), None)


def returns_text(rig: Rig, returns: tuple[str, ...]) -> str:
    """Returns as they are spoken of: "line in 1–2" for a pair of one row, otherwise joined with "and".

    >>> returns_text(Rig(uid="r", name="r"), ())
    'no return'
    """
    names = []
    for uid in returns:
        found = rig.find(uid)
        names.append(found[1].name if found else "an input that is gone")
    return " and ".join(runs(names)) or "no return"


def runs(names: Iterable[str]) -> list[str]:
    """Names in their order, those that count on from each other drawn together.

    >>> runs(["line in 1", "line in 2", "line in 4", "MIDI in"])
    ['line in 1–2', 'line in 4', 'MIDI in']
    """
    found: list[list[str]] = []
    for name in names:
        stem, _, count = name.rpartition(" ")
        last_stem, _, last = found[-1][-1].rpartition(" ") if found else ("", "", "")
        if stem and stem == last_stem and count.isdecimal() and last.isdecimal() and int(count) == int(last) + 1:
            found[-1].append(name)
        else:
            found.append([name])
    return [run[0] if len(run) == 1 else f"{run[0]}–{run[-1].rpartition(' ')[2]}" for run in found]
