"""Where does a signal go, out and back?

A trip is followed from the send socket along cables and hardware thrus to the box, and from the box's audio outs
to the host's inputs. It never raises: where it stops, it says so.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from hypotaxis.core.plan import Instrument
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.values import Cable, Rig, Socket


@dataclass(frozen=True)
class Hop:
    """One cable on the way: from a socket to a socket, and whether the source repeats in hardware (thru)."""

    cable: Cable
    by_thru: bool


@dataclass(frozen=True)
class Reached:
    """A box that hears a send socket: its input socket and the hops that lead there."""

    box: str
    socket: str
    hops: tuple[Hop, ...]


@dataclass(frozen=True)
class Trip:
    """An instrument's way out and back. Empty `outward` or a shorter `homeward` than the returns: it is broken."""

    instrument: Instrument
    outward: tuple[Hop, ...]
    reaches: bool
    homeward: tuple[Cable, ...]
    listeners: tuple[Reached, ...]

    @property
    def whole(self) -> bool:
        """Whether notes reach the box and every return is cabled from it."""
        return self.reaches and bool(self.homeward) and len(self.homeward) == len(self.instrument.returns)

    @property
    def cables(self) -> frozenset[str]:
        """Uids of every cable on the trip."""
        return frozenset([hop.cable.uid for hop in self.outward] + [cable.uid for cable in self.homeward])

    @property
    def sockets(self) -> frozenset[str]:
        """Uids of every socket on the trip, those of the definition included."""
        ends = {end for hop in self.outward for end in (hop.cable.source, hop.cable.target)}
        ends |= {end for cable in self.homeward for end in (cable.source, cable.target)}
        return frozenset(ends | {self.instrument.send, *self.instrument.returns} - {""})


def heard_from(rig: Rig, send: str) -> tuple[Reached, ...]:
    """Every box input that hears what leaves the socket `send`, nearest first.

    The wire's own delay per hardware thru is microseconds (MIDI 1.0 Detailed Specification), so order is all.
    """
    found: list[Reached] = []
    open_ends: list[tuple[str, tuple[Hop, ...], bool]] = [(send, (), False)]
    seen: set[str] = set()
    while open_ends:
        source, hops, by_thru = open_ends.pop(0)
        cable = rig.cable_at(source)
        if cable is None or cable.uid in seen or cable.source != source:
            continue
        seen.add(cable.uid)
        end = rig.find(cable.target)
        if end is None:
            continue
        box, socket = end
        way = (*hops, Hop(cable, by_thru))
        found.append(Reached(box.uid, socket.uid, way))
        open_ends += [
            (out.uid, way, True)
            for out in box.sockets
            if out.kind == "midi" and out.direction == "out" and out.thru_of == socket.label
        ]
    return tuple(found)


def trip_of(rig: Rig, instrument: Instrument) -> Trip:
    """The trip of an instrument as far as it is cabled."""
    listeners = heard_from(rig, instrument.send) if instrument.send else ()
    mine = next((reached for reached in listeners if reached.box == instrument.box), None)
    homeward = []
    for uid in instrument.returns:
        cable = rig.cable_at(uid)
        source = rig.find(cable.source) if cable else None
        if cable and source and source[0].uid == instrument.box:
            homeward.append(cable)
    return Trip(
        instrument=instrument,
        outward=mine.hops if mine else (),
        reaches=mine is not None,
        homeward=tuple(homeward),
        listeners=listeners,
    )


def send_sockets(rig: Rig) -> list[tuple[str, Socket]]:
    """The host's MIDI outputs that go to boxes, as (box name, socket): what an instrument may send on."""
    return [
        (box.name, socket)
        for box, socket in rig.each_socket()
        if is_interface(box.shape)
        and socket.kind == "midi"
        and socket.direction == "out"
        and socket.duty in ("", "sends to boxes")
    ]


def return_sockets(rig: Rig) -> list[tuple[str, Socket]]:
    """The host's audio inputs, as (box name, socket): where sound may come home."""
    return [
        (box.name, socket)
        for box, socket in rig.each_socket()
        if is_interface(box.shape) and socket.kind == "audio" and socket.direction == "in"
    ]


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
