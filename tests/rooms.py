"""Plans to test with, built from the demo's rig."""

from dataclasses import replace

from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import box_from_shape, new_uid
from hypotaxis.core.rig.values import Box, Cable, Rig
from hypotaxis.demo.compose import saltmarsh_room


def demo_plan(*, whole: bool = True) -> Plan:
    """The Saltmarsh Room; whole: Bittern's way home is plugged too."""
    plan = saltmarsh_room()
    return plug(plan, "Bittern", "out", "Quayside 18", "line in 3") if whole else plan


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
