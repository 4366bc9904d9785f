"""Where does a trip's lateness come from, before anything is measured?

A budget is a row of legs out and home, each in ms with the half-width of what is not known about it and where its value
comes from: "standard" (follows from a published standard), "setting" (of the rig), "typed" (by the owner, on the box),
"usual" (common practice, to be measured), "reported" (by a studio of real devices), "measured" (what a measurement
leaves for this leg). Half-widths of independent legs add as squares.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.loops import loop_trip
from hypotaxis.core.rig.trips import heard_from, way_home
from hypotaxis.core.rig.values import Box, Cable, Rig, Socket
from hypotaxis.core.units import BYTE_US, samples_to_ms

NOTE_BYTES = 3
HOST_MS = (0.5, 0.5)
"""(value, half-width) of what a host takes to hand a message to its driver (common practice)."""
OUT_MS = (1.0, 0.8)
"""Driver and link of an interface on the way out: up to two frames of USB 2.0 full speed (1 ms each)."""
BOX_MS = (4.0, 3.5)
"""Reaction of a sounding box: 1 to 8 ms (common practice)."""
SOFT_MS = (0.5, 0.5)
"""A processor that passes messages on, beyond the time of a whole message (common practice)."""
THRU_MS = (0.002, 0.002)
"""A hardware thru: rise and fall of its opto-isolator, under 2 µs each (MIDI 1.0 Detailed Specification)."""
CONVERTER_SAMPLES = (40.0, 25.0)
"""Filters of a converter (common practice)."""
DRIVER_SAMPLES = (32.0, 32.0)
"""Safety of a driver (common practice)."""
THROUGH_MS = {"effect": (1.5, 1.5), "mixer": (0.0, 0.0)}
"""What sound takes through a box on its way, by the beginning of its shape; others are analogue and take nothing."""
SPEED_OF_SOUND = 343.0
"""m/s in air at 20 °C."""


@dataclass(frozen=True)
class Leg:
    """One stretch."""

    kind: str
    """Host, interface, wire, wait, hop, box, effect, converter, buffer, driver."""
    name: str
    way: str
    """Which way: "out" or "home"."""
    ms: float
    half_ms: float
    origin: str
    box: str = ""
    """Uid of the box on which its value may be typed, "" = nowhere."""


@dataclass(frozen=True)
class Budget:
    """A trip's legs in order."""

    legs: tuple[Leg, ...]

    @property
    def ms(self) -> float:
        return sum(leg.ms for leg in self.legs)

    @property
    def half_ms(self) -> float:
        return math.hypot(*(leg.half_ms for leg in self.legs))

    @property
    def out_ms(self) -> float:
        """Up to where the trip turns round."""
        return sum(leg.ms for leg in self.legs if leg.way == "out")


def budget(plan: Plan, instrument: Instrument, *, part: str = "", back: str = "", wait_ms: float = 0.0) -> Budget:
    """The expected lateness of a note on an instrument's trip. wait_ms: what it waits for its wire."""
    rig = plan.rig
    seat = instrument.seat(part)
    found = rig.find(seat.send)
    legs = [Leg("host", "host", "out", *HOST_MS, "usual")]
    if found:
        box, socket = found
        legs.append(_typed("interface", box, "out", box.delays.out_ms, OUT_MS))
        if not socket.carried_by:
            legs.append(Leg("wire", "wire", "out", NOTE_BYTES * BYTE_US / 1000, 0.0, "standard"))
            if wait_ms:
                legs.append(Leg("wait", "waiting for the wire", "out", wait_ms, wait_ms / 2, "computed"))
        legs += _hops(rig, seat.send, seat.channel, instrument.box)
    sounding = rig.box(instrument.box)
    if sounding:
        legs.append(_typed("box", sounding, "out", sounding.delays.reaction_ms, BOX_MS))
    home = next((one for one in instrument.every_return if one.uid == back), instrument.every_return[0])
    if home.inputs:
        legs += _homeward(plan, home.inputs[0], way_home(rig, home.inputs[0], instrument.box))
    return Budget(tuple(legs))


def loop_budget(plan: Plan, loop: Loop) -> Budget:
    """The expected lateness of an effect loop: out by a buffer and a converter, through the box, home again."""
    rig, trip, box = plan.rig, loop_trip(plan.rig, loop), plan.rig.box(loop.box)
    legs = []
    sent = rig.find(loop.sends[0]) if loop.sends else None
    if sent:
        legs += _conversion(plan, *sent, "out")
    passed = trip.outward[0][:-1] if trip.outward else ()
    legs += [_through(rig.find(cable.target)[0], "out") for cable in passed]
    legs += [_through(box, "out")] if box else []
    if loop.returns:
        legs += _homeward(plan, loop.returns[0], trip.home[0] if trip.home else ())
    return Budget(tuple(legs))


def measured_budget(expected: Budget, lateness_ms: float, half_ms: float) -> Budget:
    """The budget made true by a measurement: what is left of it is the box's (an effect's in a loop). A box whose
    reaction was typed stays, and so does one for which nothing would be left."""
    kinds = [leg.kind for leg in expected.legs]
    place = next((kinds.index(kind) for kind in ("box", "effect") if kind in kinds), None)
    if place is None or expected.legs[place].origin == "typed":
        return expected
    others = Budget((*expected.legs[:place], *expected.legs[place + 1 :]))
    rest = lateness_ms - others.ms
    if rest < 0:
        return expected
    leg = replace(expected.legs[place], ms=rest, half_ms=math.hypot(half_ms, others.half_ms), origin="measured")
    return Budget((*expected.legs[:place], leg, *expected.legs[place + 1 :]))


def _typed(kind: str, box: Box, way: str, typed_ms: float | None, usual: tuple[float, float]) -> Leg:
    if typed_ms is not None:
        return Leg(kind, box.name, way, typed_ms, 0.0, "typed", box.uid)
    return Leg(kind, box.name, way, *usual, "usual", box.uid)


def _hops(rig: Rig, send: str, channel: int, box_uid: str) -> list[Leg]:
    reached = next((one for one in heard_from(rig, send) if one.box == box_uid and one.channels[channel - 1]), None)
    legs = []
    for hop in reached.hops if reached else ():
        passing = rig.find(hop.source)[0]
        if hop.route:
            message = NOTE_BYTES * BYTE_US / 1000
            typed = passing.delays.through_ms
            value, half = (typed, 0.0) if typed is not None else SOFT_MS
            origin = "usual" if typed is None else "typed"
            legs.append(Leg("hop", f"passed on by {passing.name}", "out", message + value, half, origin, passing.uid))
        elif hop.by_thru:
            legs.append(Leg("hop", f"thru of {passing.name}", "out", *THRU_MS, "standard"))
    return legs


def _homeward(plan: Plan, uid: str, way: Sequence[Cable]) -> list[Leg]:
    legs = [_through(plan.rig.find(cable.target)[0], "home") for cable in way[:-1]]
    found = plan.rig.find(uid)
    return [*legs, *(_conversion(plan, *found, "home") if found else ())]


def _through(box: Box, way: str) -> Leg:
    usual = next((value for start, value in THROUGH_MS.items() if box.shape.startswith(start)), (0.0, 0.0))
    return _typed("effect", box, way, box.delays.through_ms, usual)


def _conversion(plan: Plan, interface: Box, socket: Socket | None, way: str) -> list[Leg]:
    """Converter, buffer and driver; on the way out in the other order. Where the studio reports how many frames lie
    between a socket and a run, that stands for buffer and driver; another program's end is heard a period later."""
    rig, legs = plan.rig, []
    for kind, typed, usual in (
        ("converter", interface.delays.converter_samples, CONVERTER_SAMPLES),
        ("driver", interface.delays.driver_samples, DRIVER_SAMPLES),
    ):
        value, half = (typed, 0.0) if typed is not None else usual
        ms, half_ms = (samples_to_ms(samples, rig.sample_rate) for samples in (value, half))
        legs.append(Leg(kind, kind, way, ms, half_ms, "usual" if typed is None else "typed", interface.uid))
    frames = _reported_frames(plan, socket, way)
    if frames is None:
        buffered = Leg("buffer", "buffer", way, samples_to_ms(rig.buffer, rig.sample_rate), 0.0, "setting")
        row = [legs[0], buffered, legs[1]]
    else:
        row = [legs[0], Leg("buffer", "studio", way, samples_to_ms(frames, plan.studio.rate), 0.0, "reported")]
    return row if way == "home" else row[::-1]


def way_out_of(plan: Plan, output: str) -> list[Leg]:
    """What sound takes from the host to an output of an interface (socket uid); nothing for one that is not there."""
    found = plan.rig.find(output)
    return _conversion(plan, *found, "out") if found else []


def _reported_frames(plan: Plan, socket: Socket | None, way: str) -> int | None:
    """Frames between a socket and a run, as real devices report them; None where nothing does."""
    if plan.studio is None or socket is None:
        return None
    ends = plan.studio.inputs if way == "home" else plan.studio.outputs
    end = next((one for one in ends if one.name == socket.system_name), None)
    if end is None:
        return None
    return end.latency if end.physical else plan.studio.buffer if way == "home" else 0


@dataclass(frozen=True)
class Monitored:
    """What a player hears: ms from the key to the ear's side of the converter, and what that is in metres of air."""

    ms: float
    metres: float


def monitored(plan: Plan, trip: Budget) -> tuple[Monitored, Monitored]:
    """(through the host, by the interface's own direct monitoring). Through the host the sound goes home and out again
    by one more buffer and converter; direct, it never enters the computer."""
    interface = next((box for box in plan.rig.boxes if any(s.kind == "audio" for s in box.sockets)), None)
    again = sum(leg.ms for leg in _conversion(plan, interface, None, "out")) if interface else 0.0
    return tuple(Monitored(ms, ms * SPEED_OF_SOUND / 1000) for ms in (trip.ms + again, trip.out_ms))
