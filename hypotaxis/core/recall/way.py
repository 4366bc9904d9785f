"""What did the sound of an instrument or effect loop go through: which boxes, sockets, cables and routes?"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.loops import loop_trip
from hypotaxis.core.rig.trips import arriving, heard_from, way_home
from hypotaxis.core.rig.values import Box, Cable, Rig, Route, Socket


@dataclass(frozen=True)
class Way:
    """All that stands on the way out and back, each once, in the order in which a signal meets it. sends: the host's
    sockets by which it leaves; routes: each with its box."""

    boxes: tuple[Box, ...]
    sockets: tuple[tuple[Box, Socket], ...]
    cables: tuple[Cable, ...]
    routes: tuple[tuple[Box, Route], ...]
    sends: tuple[Socket, ...]


def way_of(plan: Plan, owner: Instrument | Loop) -> Way:
    """The way of an instrument, with the clock that its box is sent, or of an effect loop."""
    cables = _loop_cables(plan, owner) if isinstance(owner, Loop) else _cables(plan, owner)
    return _gathered(plan.rig, owner, cables)


def _cables(plan: Plan, owner: Instrument) -> Iterator[Cable]:
    rig = plan.rig
    for seat in owner.seats:
        for reached in arriving(rig, owner.box, seat)[:1]:
            yield from (hop.cable for hop in reached.hops)
    yield from _clock_cables(rig, owner.box)
    for uid in owner.inputs:
        yield from way_home(rig, uid, owner.box)


def _clock_cables(rig: Rig, box: str) -> Sequence[Cable]:
    """Those by which clock comes to a box that takes it."""
    owner = rig.box(box)
    return _clocked(rig).get(box, ()) if owner and owner.setup.takes_clock else ()


@kept_with_it
def _clocked(rig: Rig) -> Mapping[str, Sequence[Cable]]:
    """Those by which clock comes to each box, by its uid."""
    found: dict[str, list[Cable]] = {}
    for _, socket in rig.each_socket():
        if socket.clock:
            for reached in heard_from(rig, socket.uid):
                if reached.clock:
                    found.setdefault(reached.box, []).extend(hop.cable for hop in reached.hops)
    return found


def _loop_cables(plan: Plan, owner: Loop) -> Iterator[Cable]:
    trip = loop_trip(plan.rig, owner)
    for way in (*trip.outward, *trip.home):
        yield from way


def _gathered(rig: Rig, owner: Instrument | Loop, cables: Iterable[Cable]) -> Way:
    cables = tuple({cable.uid: cable for cable in cables}.values())
    sends = [one.send for one in owner.seats] if isinstance(owner, Instrument) else list(owner.sends)
    homes = owner.inputs if isinstance(owner, Instrument) else owner.returns
    ends = dict.fromkeys([*sends, *(end for one in cables for end in (one.source, one.target)), *homes])
    found = {uid: rig.find(uid) for uid in ends if rig.find(uid)}
    boxes = {box.uid: box for box, _ in found.values()}
    if own := rig.box(owner.box):
        boxes[own.uid] = own
    # What is inside a box is on the way where both of its ends are.
    inside = ((box, route) for box in boxes.values() for route in box.routes)
    routes = tuple((box, route) for box, route in inside if {route.source, route.target} <= found.keys())
    leave = dict.fromkeys([*sends, *(one.source for one in cables)])
    sent = tuple(found[uid][1] for uid in leave if uid in found and found[uid][1].kind in ("midi", "usb"))
    return Way(tuple(boxes.values()), tuple(found.values()), cables, routes, sent)
