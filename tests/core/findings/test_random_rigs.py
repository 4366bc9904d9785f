"""Random rigs in which everything is in order raise nothing; a fault put into one is found at its place.

The faults are those of the table of what goes wrong that a rig file can hold; what later work adds (sync, passes, real
ports) adds its own rows.
"""

import random
from collections import Counter
from collections.abc import Callable
from dataclasses import replace

from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.findings.finding import WORTH_KNOWING
from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import box_from_shape
from hypotaxis.core.rig.change import set_box, set_cable, set_instrument, set_rig, set_sockets, set_up, without_cable
from hypotaxis.core.rig.listening import arrivals, named_channels
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.rig.values import Cable, Route, Socket
from hypotaxis.core.studio import Port
from tests.core.findings.sound_rigs import SoundRig

Faulty = tuple[Plan, str, str] | None
"""The plan with the fault, the rule that should find it, and the uid at which; None where the rig has no room."""


def pick(chance: random.Random, things):
    """One of them, or None."""
    things = list(things)
    return chance.choice(things) if things else None


def by_cable(plan: Plan, one: Instrument) -> bool:
    """Whether an instrument is reached by a cable and not by a link of its own."""
    return not plan.rig.find(one.send)[1].carried_by


def cabled(plan: Plan, chance: random.Random) -> Instrument | None:
    """An instrument whose box is reached by cable."""
    return pick(chance, (one for one in plan.instruments if by_cable(plan, one)))


def plugged(plan: Plan, source: str, target: str) -> Plan:
    """The plan with a cable that no check of plugging has seen, as a file may bring it."""
    cable = Cable(uid=f"{len(plan.rig.cables):08d}-0000-4000-8000-0000000000ff", source=source, target=target)
    return set_rig(plan, cables=(*plan.rig.cables, cable))


def added(plan: Plan, shape: str) -> tuple[Plan, object]:
    """The plan with one more box, and the box."""
    uid = f"{len(plan.rig.boxes):08d}-0000-4000-8000-0000000000fe"
    box = box_from_shape(shape, f"more {shape}", order=len(plan.rig.boxes), uid=uid)
    return set_rig(plan, boxes=(*plan.rig.boxes, box)), box


# --- no sound ------------------------------------------------------------------------------------


def port_spare(plan, chance) -> Faulty:
    one = cabled(plan, chance)
    return one and (set_sockets(plan, {one.send: {"duty": "spare"}}), "port-set-aside", one.uid)


def wrong_channel_on_the_box(plan, chance) -> Faulty:
    one = cabled(plan, chance)
    if one is None:
        return None
    arrive = {way.channels[seat.channel - 1] for seat in one.seats for way in arrivals(plan, one, seat)}
    other = pick(chance, set(range(1, 17)) - arrive)
    return set_up(plan, one.box, receives=(other,), omni=False), "channel-not-received", one.uid


def no_send(plan, chance) -> Faulty:
    one = pick(chance, plan.instruments)
    return one and (set_instrument(plan, one.uid, send=""), "send-missing", one.uid)


def midi_cable_out(plan, chance) -> Faulty:
    one = cabled(plan, chance)
    way = arrivals(plan, one, one.seats[0])[0] if one else None
    return way and (without_cable(plan, chance.choice(way.hops).cable.uid), "box-not-reached", one.uid)


def held_back_by_a_router(plan, chance) -> Faulty:
    one = pick(chance, (i for i in plan.instruments if by_cable(plan, i) and arrivals(plan, i, i.seats[0])[0].routes))
    if one is None:
        return None
    route = arrivals(plan, one, one.seats[0])[0].routes[0]
    kept = tuple(n for n in route.channels or range(1, 17) if n != one.channel)
    box = next(box for box in plan.rig.boxes if route in box.routes)
    routes = tuple(replace(r, channels=kept) if r == route else r for r in box.routes)
    return set_box(plan, box.uid, routes=routes), "channel-held-back", one.uid


def return_elsewhere(plan, chance) -> Faulty:
    one, other = pick(chance, plan.instruments), pick(chance, plan.instruments)
    if one is None or one.box == other.box:
        return None
    return set_instrument(plan, one.uid, returns=other.returns[:1]), "return-from-another-box", one.uid


def return_unplugged(plan, chance) -> Faulty:
    one = pick(chance, plan.instruments)
    cable = plan.rig.cable_at(one.returns[0]) if one else None
    return cable and (without_cable(plan, cable.uid), "return-not-cabled", one.uid)


def port_held(plan, chance) -> Faulty:
    one = cabled(plan, chance)
    if one is None:
        return None
    box, socket = plan.rig.find(one.send)
    return replace(plan, reported=(Port(socket.system_name, "out", taken=True),)), "port-taken", box.uid


def port_not_reported(plan, chance) -> Faulty:
    one = cabled(plan, chance)
    return one and (replace(plan, reported=()), "port-missing", plan.rig.find(one.send)[0].uid)


def interface_unplugged(plan, chance) -> Faulty:
    box = pick(chance, (box for box in plan.rig.boxes if box.shape.startswith(("interface", "router"))))
    cable = plan.rig.cable_at(box.socket("USB").uid)
    return without_cable(plan, cable.uid), "interface-not-joined", box.uid


def waits_for_a_clock(plan, chance) -> Faulty:
    box = pick(
        chance, (b for b in plan.rig.boxes if b.setup.takes_clock and b.setup.clock == "" and b.socket("MIDI in"))
    )
    return box and (set_up(plan, box.uid, clock="external"), "waiting-for-clock", box.uid)


def dead_pads(plan, chance) -> Faulty:
    hands = pick(chance, (box for box in plan.rig.boxes if box.setup.transmits and box.shape in ("keyboard", "pads")))
    one = pick(chance, plan.instruments)
    if hands is None or one is None:
        return None
    port = next(socket.uid for socket in hands.sockets if socket.carried_by)
    other = pick(chance, set(range(1, 17)) - set(hands.setup.transmits))
    return set_instrument(plan, one.uid, standing=((port, other),)), "standing-line-silent", one.uid


# --- twice, together, round and round ------------------------------------------------------------


def local_on(plan, chance) -> Faulty:
    box = pick(chance, (box for box in plan.rig.boxes if box.shape == "workstation"))
    return box and (set_up(plan, box.uid, local=chance.choice(["on", "always on"])), "local-and-echo", box.uid)


def two_ways(plan, chance) -> Faulty:
    """A splitter and a merger put before a box, joined by two cables."""
    one = pick(chance, (i for i in plan.instruments if by_cable(plan, i)))
    way = arrivals(plan, one, one.seats[0])[0] if one else None
    if way is None:
        return None
    last = way.hops[-1].cable
    plan, splitter = added(without_cable(plan, last.uid), "thru-splitter")
    plan, merger = added(plan, "merger")
    for source, target in (
        (last.source, splitter.socket("MIDI in").uid),
        (splitter.socket("thru 1").uid, merger.socket("in 1").uid),
        (splitter.socket("thru 2").uid, merger.socket("in 2").uid),
        (merger.socket("out").uid, last.target),
    ):
        plan = plugged(plan, source, target)
    return plan, "reached-twice", one.uid


def in_a_circle(plan, chance) -> Faulty:
    plan, box = added(plan, "midi-router")
    route = Route(
        uid="00000000-0000-4000-8000-0000000000fd", source=box.socket("in 1").uid, target=box.socket("out 1").uid
    )
    plan = set_box(plan, box.uid, routes=(route,))
    return plugged(plan, box.socket("out 1").uid, box.socket("in 1").uid), "midi-loop", box.uid


def through_the_host(plan, chance) -> Faulty:
    """The end of a chain goes back into the interface, on a port that is played from."""
    ins = (
        s
        for b, s in plan.rig.each_socket()
        if b.shape.startswith("router") and s.kind == "midi" and s.direction == "in"
    )
    back = pick(chance, ins)
    out = pick(chance, (open_thru(plan, one.box) for one in plan.instruments if by_cable(plan, one)))
    if back is None or out is None:
        return None
    plan = set_sockets(plugged(plan, out.uid, back.uid), {back.uid: {"duty": "played from"}})
    return plan, "loop-through-host", plan.rig.find(back.uid)[0].uid


def router_ins(plan: Plan) -> list[Socket]:
    """The MIDI inputs of the host's routers."""
    sockets = ((box, socket) for box, socket in plan.rig.each_socket() if box.shape.startswith("router"))
    return [socket for _, socket in sockets if socket.kind == "midi" and socket.direction == "in"]


def open_thru(plan: Plan, uid: str) -> Socket | None:
    """A box's thru while nothing is plugged there."""
    thru = plan.rig.box(uid).socket("thru")
    return thru if thru and not plan.rig.cable_at(thru.uid) else None


def one_channel_for_two(plan, chance) -> Faulty:
    one = cabled(plan, chance)
    others = [i for i in plan.instruments if one and i.send == one.send and i.uid != one.uid]
    other = pick(chance, others)
    if other is None or not all(
        arrivals(set_instrument(plan, o.uid, channel=one.channel), o, o.seats[0]) for o in (other,)
    ):
        return None
    moved = set_up(set_instrument(plan, other.uid, channel=one.channel), other.box, receives=())
    if not arrivals(moved, moved.instrument(other.uid), moved.instrument(other.uid).seats[0]):
        return None
    return moved, "channel-shared", one.uid


def listens_to_another(plan, chance) -> Faulty:
    """A box set to the channel on which another instrument passes it."""
    found = [
        (one, way, way.channels[one.channel - 1])
        for one in plan.instruments
        for way in heard_from(plan.rig, one.send)
        if way.box != one.box and way.channels[one.channel - 1] and any(i.box == way.box for i in plan.instruments)
    ]
    if not found:
        return None
    one, way, channel = chance.choice(found)
    known = named_channels(plan, way)
    return set_up(plan, way.box, receives=tuple(sorted({*known, channel}))), "plays-along", one.uid


def omni_in_company(plan, chance) -> Faulty:
    reached = [
        way.box
        for one in plan.instruments
        for way in heard_from(plan.rig, one.send)
        if way.box != one.box and way.channels[one.channel - 1] and any(i.box == way.box for i in plan.instruments)
    ]
    box = pick(chance, reached)
    return box and (set_up(plan, box, omni=True), "omni-on-shared-socket", box)


def surface_plays(plan, chance) -> Faulty:
    box = pick(chance, (box for box in plan.rig.boxes if box.shape == "faders"))
    port = box and box.socket("surface").uid
    return box and (set_sockets(plan, {port: {"duty": "played from"}}), "surface-among-keys", box.uid)


# --- clock ---------------------------------------------------------------------------------------


def drifts(plan, chance) -> Faulty:
    box = pick(chance, (box for box in plan.rig.boxes if box.setup.takes_clock and box.setup.clock == "external"))
    return box and (set_up(plan, box.uid, clock="internal"), "clock-to-internal", box.uid)


def two_lead(plan, chance) -> Faulty:
    """Two sequencers lead by one interface's sockets: they are named, not the interface."""
    ins = [
        s
        for b, s in plan.rig.each_socket()
        if b.shape.startswith("router") and s.kind == "midi" and s.direction == "in"
    ]
    if len(ins) < 2:
        return None
    first = None
    for port in ins[:2]:
        plan, box = added(plan, "step-sequencer")
        plan = set_up(plugged(plan, box.socket("MIDI out").uid, port.uid), box.uid, clock="internal")
        plan = set_sockets(plan, {port.uid: {"duty": "clock from"}})
        first = first or box
    return plan, "two-leaders", first.uid


# --- levels and audio ----------------------------------------------------------------------------


def modular_straight(plan, chance) -> Faulty:
    box = pick(chance, (box for box in plan.rig.boxes if box.shape == "modular-midi"))
    if box is None:
        return None
    converter = plan.rig.far_end(box.socket("out").uid)[0]
    home = plan.rig.cable_at(converter.socket("out").uid)
    into = plan.rig.cable_at(converter.socket("in").uid)
    plan = without_cable(without_cable(plan, home.uid), into.uid)
    return plugged(plan, box.socket("out").uid, home.target), "modular-into-line", box.uid


def little_headroom(plan, chance) -> Faulty:
    """An input that takes less than what a straight cable brings."""
    one = pick(chance, (i for i in plan.instruments if plan.rig.far_end(i.returns[0])[0].uid == i.box))
    if one is None:
        return None
    uid = one.returns[0]
    return set_sockets(plan, {uid: {"max_dbu": 8.0}}), "no-headroom", plan.rig.find(uid)[0].uid


def kick_nowhere(plan, chance) -> Faulty:
    box = pick(chance, (b for b in plan.rig.boxes if b.socket("kick") and not plan.rig.cable_at(b.socket("kick").uid)))
    if box is None:
        return None
    if chance.random() < 0.5:
        return set_up(plan, box.uid, uses=("kick",)), "separate-out-expected", box.uid
    plan, mixer = added(plan, "mixer")
    return plugged(plan, box.socket("kick").uid, mixer.socket("channel 1").uid), "separate-out-unheard", box.uid


def sides_swapped(plan, chance) -> Faulty:
    pairs = (i for i in plan.instruments if len(i.returns) == 2 and plan.rig.far_end(i.returns[0])[0].uid == i.box)
    one = pick(chance, pairs)
    return one and (set_instrument(plan, one.uid, returns=one.returns[::-1]), "left-and-right-swapped", one.uid)


def feeds_back(plan, chance) -> Faulty:
    plan, box = added(plan, "effect")
    plan, mixer = added(plan, "mixer")
    plan = plugged(plan, box.socket("out").uid, mixer.socket("channel 3").uid)
    return plugged(plan, mixer.socket("main L").uid, box.socket("in").uid), "audio-into-itself", box.uid


def usb_too_long(plan, chance) -> Faulty:
    cable = pick(chance, (c for c in plan.rig.cables if plan.rig.find(c.source)[1].kind == "usb"))
    return set_cable(plan, cable.uid, length_m=6.1), "usb-run-too-long", plan.rig.find(cable.source)[0].uid


def midi_too_long(plan, chance) -> Faulty:
    cable = pick(chance, (c for c in plan.rig.cables if plan.rig.find(c.source)[1].kind == "midi"))
    return cable and (
        set_cable(plan, cable.uid, length_m=15.5),
        "midi-run-too-long",
        plan.rig.find(cable.source)[0].uid,
    )


FAULTS: tuple[Callable[[Plan, random.Random], Faulty], ...] = (
    port_spare, wrong_channel_on_the_box, no_send, midi_cable_out, held_back_by_a_router, return_elsewhere,
    return_unplugged, port_held, port_not_reported, interface_unplugged, waits_for_a_clock, dead_pads,
    local_on, two_ways, in_a_circle, through_the_host, one_channel_for_two, listens_to_another, omni_in_company,
    surface_plays, drifts, two_lead, modular_straight, little_headroom, kick_nowhere, sides_swapped, feeds_back,
    usb_too_long, midi_too_long,
)  # fmt: skip


def serious(plan: Plan) -> list:
    """What is wrong or risky, in a form that reads well when a test fails."""
    return [(f.rule, f.title, f.message) for f in check(plan) if f.severity != WORTH_KNOWING]


class RandomRigTest(SimpleTestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10**9), st.integers(3, 40))
    def test_a_rig_in_order_raises_nothing(self, seed, size):
        plan = SoundRig(seed, size).build()
        self.assertEqual(serious(plan), [])

    def test_the_rigs_hold_what_they_should_and_are_rig_files(self):
        held: Counter = Counter()
        for seed in range(40):
            plan = SoundRig(seed, 40).build()
            held.update(box.shape for box in plan.rig.boxes)
            held.update(f"{name} loop" for name in ("straight" if not loop.box else "effect" for loop in plan.loops))
            held.update("renamed" for box in plan.rig.boxes for route in box.routes if route.remap)
            held.update("set" for box in plan.rig.boxes if box.setup.receives)
            if seed < 3:
                self.assertEqual(read_rig_file(write_rig_file(plan)), plan)
        for kind in ("midi-router", "thru-splitter", "merger", "mixer", "direct-box", "level-converter", "workstation"):
            self.assertGreater(held[kind], 10, kind)
        for kind in ("straight loop", "effect loop", "renamed", "set"):
            self.assertGreater(held[kind], 10, kind)

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10**9))
    def test_each_fault_is_found_at_its_place(self, seed):
        chance = random.Random(seed)
        plan = SoundRig(seed, chance.randint(12, 40)).build()
        for fault in FAULTS:
            faulty = fault(plan, chance)
            if faulty:
                wrong, rule, where = faulty
                found = [f for f in check(wrong) if f.rule == rule and f.concerns(where)]
                self.assertTrue(found, (fault.__name__, rule, [f"{f.rule}: {f.title}" for f in check(wrong)]))
                self.assertNotEqual((found[0].severity, found[0].remedy), (WORTH_KNOWING, ""))

    def test_each_fault_has_rigs_to_be_put_into(self):
        placed: Counter = Counter()
        for seed in range(30):
            chance = random.Random(seed)
            plan = SoundRig(seed, 40).build()
            placed.update(fault.__name__ for fault in FAULTS if fault(plan, chance))
        self.assertEqual([fault.__name__ for fault in FAULTS if placed[fault.__name__] < 3], [])
