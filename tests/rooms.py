"""Plans to test with."""

import random
import uuid
from dataclasses import replace

from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import box_from_shape, new_uid
from hypotaxis.core.rig.change import with_cable
from hypotaxis.core.rig.shapes import is_interface, parts_of
from hypotaxis.core.rig.trips import heard_from, homes_of, send_sockets
from hypotaxis.core.rig.values import Box, Cable, Rig, Socket

SMALL = [
    ("host", "host"),
    ("keyboard", "Heron 61"),
    ("interface-8", "Quayside 18"),
    ("poly-synth", "Sedge"),
    ("mono-synth", "Bittern"),
    ("drum-machine", "Alder"),
]
SMALL_CABLES = [
    ("Heron 61", "USB", "host", "USB 1", None),
    ("Quayside 18", "USB", "host", "USB 2", 1.5),
    ("Quayside 18", "MIDI out", "Sedge", "MIDI in", 3.0),
    ("Sedge", "thru", "Bittern", "MIDI in", 1.0),
    ("Bittern", "thru", "Alder", "MIDI in", 1.0),
    ("Sedge", "L", "Quayside 18", "line in 1", 3.0),
    ("Sedge", "R", "Quayside 18", "line in 2", 3.0),
    ("Alder", "L", "Quayside 18", "line in 5", 3.0),
    ("Alder", "R", "Quayside 18", "line in 6", 3.0),
]
SMALL_INSTRUMENTS = [
    ("Sedge upper", "Sedge", 1, (1, 2)),
    ("Sedge lower", "Sedge", 2, (1, 2)),
    ("Bittern", "Bittern", 3, (3,)),
    ("Alder kit", "Alder", 10, (5, 6)),
]


def small_room(*, whole: bool = True) -> Plan:
    """One interface and three boxes on one chain; the same uids each time. whole: Bittern is plugged home too."""
    boxes = tuple(box_from_shape(shape, name, order=order, uid=_uid(name)) for order, (shape, name) in enumerate(SMALL))
    plan = Plan(rig=Rig(uid=_uid("small room"), name="Small room", boxes=boxes))
    for box, out, other, into, length in SMALL_CABLES:
        ends = uid_of(plan, box, out), uid_of(plan, other, into)
        plan = with_cable(plan, *ends, uid=_uid(f"{box} {out}"), length_m=length)
    send = uid_of(plan, "Quayside 18", "MIDI out")
    instruments = tuple(
        Instrument(
            uid=_uid(f"instrument {name}"),
            name=name,
            box=box_named(plan, box).uid,
            send=send,
            channel=channel,
            returns=tuple(uid_of(plan, "Quayside 18", f"line in {number}") for number in inputs),
        )
        for name, box, channel, inputs in SMALL_INSTRUMENTS
    )
    plan = replace(plan, instruments=instruments)
    return plug(plan, "Bittern", "out", "Quayside 18", "line in 3") if whole else plan


def _uid(name: str) -> str:
    return str(uuid.uuid5(uuid.NAMESPACE_OID, name))


LARGE = (
    ("interface-16", 14),
    ("router-8", 12),
    ("keyboard", 4),
    ("poly-synth", 36),
    ("mono-synth", 30),
    ("drum-machine", 26),
    ("module", 14),
    ("sampler", 10),
    ("desktop-synth", 6),
    ("effect", 10),
    ("mixer", 32),
    ("usb-hub", 6),
)


def large_room(share: float = 1.0) -> Plan:
    """200 boxes, 1,600 sockets and 740 cables (or a share of them), crossed on purpose: whatever is free and fits is
    plugged; every sounding box that is reached is an instrument."""
    shapes = [(shape, f"{shape} {n}") for shape, many in LARGE for n in range(1, max(1, round(many * share)) + 1)]
    boxes = tuple(
        box_from_shape(shape, name, order=order, uid=_uid(f"large {name}"))
        for order, (shape, name) in enumerate([("host", "host"), *shapes])
    )
    rig = Rig(uid=_uid("large"), name="Large room", boxes=boxes)
    outs = [s for _, s in rig.each_socket() if s.direction == "out" and s.pluggable]
    ins = [s for _, s in rig.each_socket() if s.direction == "in" and s.pluggable]
    random.Random(7).shuffle(outs)
    joined: dict[str, str] = {}
    # Hosts and boxes feed each other first; then boxes feed boxes further down.
    for across in (True, False):
        for out in (one for one in outs if one.uid not in joined):
            goals = (s for s in ins if s.kind == out.kind and s.uid not in joined and _goes(rig, out, s, across))
            goal = next(goals, None)
            if goal:
                joined |= {out.uid: goal.uid, goal.uid: ""}
    links = [s for _, s in rig.each_socket() if s.kind == "usb"]
    devices, goals = ([s for s in links if (s.connector == "usb-a") == takes] for takes in (False, True))
    joined |= {one.uid: other.uid for one, other in zip(devices, goals, strict=False)}
    cables = tuple(
        Cable(uid=_uid(f"large {one}"), source=one, target=other, length_m=3.0)
        for one, other in joined.items()
        if other
    )
    plan = Plan(rig=replace(rig, cables=cables))
    instruments = []
    for _, send in send_sockets(plan.rig):
        for number, reached in enumerate(heard_from(plan.rig, send.uid)[:16]):
            box = plan.rig.box(reached.box)
            if parts_of(box.shape, box.setup) and box.uid not in {one.box for one in instruments}:
                homes = tuple(homes_of(plan.rig, box.uid)[:2])
                uid = _uid(f"large instrument {box.name}")
                instruments.append(
                    Instrument(uid=uid, name=box.name, box=box.uid, send=send.uid, channel=number + 1, returns=homes)
                )
    return replace(plan, instruments=tuple(instruments))


def _goes(rig: Rig, out: Socket, into: Socket, across: bool) -> bool:
    one, other = rig.find(out.uid)[0], rig.find(into.uid)[0]
    if across:
        return is_interface(one.shape) != is_interface(other.shape) and not out.thru_of
    return not is_interface(one.shape) and not is_interface(other.shape) and one.order < other.order


def uid_of(plan: Plan, box: str, label: str) -> str:
    """A socket's uid by the names of its box and itself."""
    return box_named(plan, box).socket(label).uid


def box_named(plan: Plan, name: str) -> Box:
    """A box by its name."""
    return next(box for box in plan.rig.boxes if box.name == name)


def instrument_named(plan: Plan, name: str) -> Instrument:
    """An instrument by its name."""
    return next(instrument for instrument in plan.instruments if instrument.name == name)


def plug(plan: Plan, box: str, label: str, other: str, other_label: str) -> Plan:
    """The plan with one more cable."""
    cable = Cable(uid=new_uid(), source=uid_of(plan, box, label), target=uid_of(plan, other, other_label))
    return replace(plan, rig=replace(plan.rig, cables=(*plan.rig.cables, cable)))


def unplug(plan: Plan, box: str, label: str) -> Plan:
    """The plan without the cable at a socket."""
    gone = plan.rig.cable_at(uid_of(plan, box, label))
    return replace(plan, rig=replace(plan.rig, cables=tuple(c for c in plan.rig.cables if c != gone)))


def change(plan: Plan, name: str, **fields) -> Plan:
    """The plan with one instrument changed."""
    changed = tuple(replace(i, **fields) if i.name == name else i for i in plan.instruments)
    return replace(plan, instruments=changed)


def add_boxes(plan: Plan, *shapes: tuple[str, str]) -> Plan:
    """The plan with more boxes, as (shape, name)."""
    order = len(plan.rig.boxes)
    boxes = tuple(box_from_shape(shape, name, order=order + at) for at, (shape, name) in enumerate(shapes))
    return replace(plan, rig=replace(plan.rig, boxes=plan.rig.boxes + boxes))


def empty_plan() -> Plan:
    """Nothing but the computer."""
    return Plan(rig=Rig(uid=new_uid(), name="Empty", boxes=(box_from_shape("host", "host"),)))
