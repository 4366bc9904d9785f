"""Who answers to what is sent, and on which channel?

A box hears whatever cables, thrus and routes bring it; it answers on the channels it is set to. Those are the ones its
plan names, all sixteen when it is set to omni, and where nothing is named the ones its instruments arrive on.
"""

from collections import defaultdict
from dataclasses import dataclass

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.plan import Instrument, Plan, Seat
from hypotaxis.core.rig.links import host_of
from hypotaxis.core.rig.ports import PortEnd, is_port, leads
from hypotaxis.core.rig.trips import Reached, arriving, heard_from
from hypotaxis.core.rig.values import Box, Rig, Socket


@dataclass(frozen=True)
class Answer:
    """A box that sounds when a seat is played. channel: on which it arrives there; by_omni: only because it answers to
    every channel."""

    box: Box
    reached: Reached
    channel: int
    by_omni: bool


@kept_with_it
def seats_of(plan: Plan) -> tuple[tuple[Instrument, Seat, str], ...]:
    """Every seat of every instrument, with how it is spoken of: the instrument's name, and the part's."""
    return tuple(
        (instrument, seat, f"{instrument.name}, {seat.name}" if seat.name else instrument.name)
        for instrument in plan.instruments
        for seat in instrument.seats
    )


@kept_with_it
def seated(plan: Plan) -> dict[tuple[str, int], tuple[tuple[Instrument, Seat], ...]]:
    """The seats on each (port, channel) with their instruments, in their order."""
    found: dict[tuple[str, int], list[tuple[Instrument, Seat]]] = defaultdict(list)
    for instrument, seat, _ in seats_of(plan):
        found[seat.send, seat.channel].append((instrument, seat))
    return {place: tuple(sharers) for place, sharers in found.items()}


def arrivals(plan: Plan, instrument: Instrument, seat: Seat) -> list[Reached]:
    """Where a seat's channel arrives at the instrument's own box, nearest first."""
    return arriving(plan.rig, instrument.box, seat)


def held_back(plan: Plan, instrument: Instrument, seat: Seat) -> bool:
    """Whether the box is cabled to the seat's port, and a route on every way there holds the channel back."""
    heard = heard_from(plan.rig, seat.send)
    return any(one.box == instrument.box for one in heard) and not arrivals(plan, instrument, seat)


@kept_with_it
def _channels_played(plan: Plan, box: str) -> frozenset[int]:
    """The channels on which a box's own instruments arrive."""
    channels = set()
    for instrument in plan.instruments_of(box):
        for seat in instrument.seats:
            near = next(iter(arrivals(plan, instrument, seat)), None)
            channels.add(near.channels[seat.channel - 1] if near else seat.channel)
    return frozenset(channels)


def listener(plan: Plan, reached: Reached) -> Box:
    """The box whose channel setting counts: the box that is reached, or the converter that turns notes into voltages
    for it."""
    box = plan.rig.box(reached.box)
    last = reached.hops[-1] if reached.hops else None
    by_voltage = last is not None and plan.rig.find(reached.socket)[1].kind == "cv"
    return plan.rig.find(last.source)[0] if by_voltage else box


def named_channels(plan: Plan, reached: Reached) -> frozenset[int]:
    """The channels that a box is there for, omni or not: those it is set to, otherwise those its instruments play. A
    converter that names none and is no instrument itself turns into voltages what the boxes behind it play."""
    box = listener(plan, reached)
    named = frozenset(box.setup.receives) or _channels_played(plan, box.uid)
    return named or _channels_played(plan, reached.box)


def answers_to(plan: Plan, reached: Reached, channel: int) -> bool:
    """Whether what arrives on this channel makes a box sound."""
    return listener(plan, reached).setup.omni or channel in named_channels(plan, reached)


def answers(plan: Plan, seat: Seat) -> list[Answer]:
    """Every box that sounds when a seat is played, nearest first, once for each way."""
    found = []
    for reached in heard_from(plan.rig, seat.send):
        channel = reached.channels[seat.channel - 1]
        if channel and answers_to(plan, reached, channel):
            by_omni = channel not in named_channels(plan, reached)
            found.append(Answer(plan.rig.box(reached.box), reached, channel, by_omni))
    return found


def midi_outs(rig: Rig, box: Box) -> list[Socket]:
    """The outs by which a box plays others: not its thrus, and not ends inside a link to the computer."""
    outs = [s for s in box.sockets if s.kind == "midi" and s.direction == "out" and not s.thru_of]
    return [one for one in outs if not one.carried_by or host_of(rig, box, one)]


def players_into(rig: Rig, port: str) -> list[tuple[Box, Reached | None]]:
    """The boxes that play into a port of the host, each with the way its notes come; None = the port is its own."""
    found = rig.find(port)
    if found is None:
        return []
    if found[1].carried_by and is_port(rig, *found):
        return [(found[0], None)]
    return [
        (box, reached)
        for box in rig.boxes
        if box.uid != found[0].uid and box.shape != "host"
        for out in midi_outs(rig, box)
        if not any(route.target == out.uid for route in box.routes)
        for reached in heard_from(rig, out.uid)
        if reached.socket == port
    ]


def leading_boxes(rig: Rig) -> dict[str, PortEnd]:
    """The boxes from which the host takes clock, by uid, each with its port: those that send clock into it, and where
    none is known to, the nearest that plays into it."""
    found: dict[str, PortEnd] = {}
    for end in leads(rig):
        players = [(box, way) for box, way in players_into(rig, end.socket.uid) if way is None or way.clock]
        sending = [box for box, _ in players if box.setup.sends_clock]
        near = sorted(players, key=lambda one: len(one[1].hops) if one[1] else 0)[:1]
        for box in sending or [box for box, _ in near]:
            found.setdefault(box.uid, end)
    return found
