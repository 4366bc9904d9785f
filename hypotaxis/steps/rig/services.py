"""Changes to the rig, each one step of the journal: the core says what the plan is after them."""

from django.db import transaction

from hypotaxis.core.drawing.layout import column_order
from hypotaxis.core.findings.finding import Finding
from hypotaxis.core.findings.meant import mark_meant, no_longer_meant
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig import change
from hypotaxis.core.rig.build import with_new_uids
from hypotaxis.core.rig.ports import match, ports_of
from hypotaxis.core.rig.values import Box, Cable, Delays, Route
from hypotaxis.core.timing.applied import carrying
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.journal import change_plan
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import FrontPanel, Rig
from hypotaxis.records.studio import look


def add_box(rig: Rig, plan: Plan, *, shape: str, name: str, note: str = "", colour: str = "") -> Box:
    """Add a box of a shape below the others of its column; what has a link to the computer is there at once."""
    after, box = change.add_box(plan, shape=shape, name=name, note=note, colour=colour)
    change_plan(rig, f"add {name}", plan, after)
    return box


def copy_box(rig: Rig, plan: Plan, box: Box) -> Box:
    """A box of the same kind with the same sockets below the others of its column, not cabled yet."""
    after, copy = change.copy_box(plan, box)
    change_plan(rig, f"copy {box.name}", plan, after)
    return copy


def edit_box(rig: Rig, plan: Plan, box: Box, **fields) -> None:
    """Change a box: name, note, colour, icon, picture."""
    change_plan(rig, f"change {fields.get('name', box.name)}", plan, change.set_box(plan, box.uid, **fields))


def set_up(rig: Rig, plan: Plan, box: Box, delays: Delays | None = None, **fields) -> None:
    """Change what the plan takes a box to be set to."""
    after = change.set_box(plan, box.uid, delays=delays or box.delays)
    change_plan(rig, f"settings of {box.name}", plan, change.set_up(after, box.uid, **fields))


def move_box(rig: Rig, plan: Plan, box: Box, *, up: bool) -> bool:
    """Move a box one place within its column; False when it stands at the end already."""
    column = column_order(plan.rig, box.shape)
    place = [other.uid for other in column].index(box.uid) + (-1 if up else 1)
    if not 0 <= place < len(column):
        return False
    after = change.move_box(plan, column, box, place)
    change_plan(rig, f"move {box.name} {'up' if up else 'down'}", plan, after)
    return True


def place_box(rig: Rig, plan: Plan, box: Box, place: int) -> None:
    """Put a box at a place of its column, counted from 0."""
    after = change.move_box(plan, column_order(plan.rig, box.shape), box, place)
    change_plan(rig, f"move {box.name}", plan, after)


def tidy(rig: Rig, plan: Plan) -> bool:
    """Let the layout place every box again, also those placed by hand; False when that changes nothing."""
    after = plan
    for box in plan.rig.boxes:
        after = change.set_box(after, box.uid, by_hand=False)
    return change_plan(rig, "let the sheet arrange the boxes", plan, after) is not None


def remove_box(rig: Rig, plan: Plan, box: Box) -> None:
    """Remove a box with its sockets and cables; instruments that named them keep their definition, loose."""
    change_plan(rig, f"remove {box.name}", plan, change.remove_box(plan, box.uid))


def edit_socket(rig: Rig, plan: Plan, uid: str, fields: dict) -> None:
    """Change a socket; what names its label follows."""
    box, socket = plan.rig.find(uid)
    title = f"change {fields.get('label', socket.label)} of {box.name}"
    change_plan(rig, title, plan, change.set_sockets(plan, {uid: fields}))


def add_socket(rig: Rig, plan: Plan, box: Box, fields: dict) -> None:
    """Add a socket to a box, and match it to what the studio reports under such a name."""
    after = change.add_socket(plan, box.uid, **fields)
    change_plan(rig, f"add {fields['label']} to {box.name}", plan, _matched(after))


def remove_socket(rig: Rig, plan: Plan, uid: str) -> None:
    """Remove a socket with its cable and routes."""
    box, socket = plan.rig.find(uid)
    change_plan(rig, f"remove {socket.label} of {box.name}", plan, change.remove_socket(plan, uid))


def move_socket(rig: Rig, plan: Plan, uid: str, *, up: bool) -> None:
    """Move a socket one row on its box."""
    box, socket = plan.rig.find(uid)
    change_plan(rig, f"move {socket.label} of {box.name}", plan, change.move_socket(plan, uid, up=up))


def connect(rig: Rig, plan: Plan, one: str, other: str, *, count: int = 1, **noted) -> Cable:
    """Join two sockets, whichever was named first; count: how many side by side, 2 = both sides of a stereo pair.

    Raises DoesNotFit with the reason.
    """
    after, ends = change.connect(plan, one, other, count=count, **noted)
    more = f" and {len(ends) - 1} more" if len(ends) > 1 else ""
    title = f"connect {plan.rig.socket_text(ends[0][0])} to {plan.rig.socket_text(ends[0][1])}{more}"
    change_plan(rig, title, plan, after)
    return after.rig.cable_at(ends[0][0])


def replug(rig: Rig, plan: Plan, cable: Cable, old_end: str, new_end: str) -> None:
    """Move one end of a cable to another socket. Raises DoesNotFit with the reason."""
    after = change.replug(plan, cable, old_end, new_end)
    title = f"re-plug {plan.rig.socket_text(old_end)} to {plan.rig.socket_text(new_end)}"
    change_plan(rig, title, plan, after)


def note_cable(rig: Rig, plan: Plan, cable: Cable, **fields) -> None:
    """Note a cable's length, colour, label, kind and adapter."""
    change_plan(rig, "note on a cable", plan, change.set_cable(plan, cable.uid, **fields))


def unplug(rig: Rig, plan: Plan, cable: Cable) -> None:
    """Remove a cable."""
    title = f"unplug {plan.rig.socket_text(cable.source)} from {plan.rig.socket_text(cable.target)}"
    change_plan(rig, title, plan, change.without_cable(plan, cable.uid))


def add_route(rig: Rig, plan: Plan, source: str, target: str) -> None:
    """Lay a route inside a box. Raises DoesNotFit with the reason."""
    after = change.add_route(plan, source, target)
    box, one = plan.rig.find(source)
    title = f"route {one.label} to {plan.rig.find(target)[1].label} in {box.name}"
    change_plan(rig, title, plan, after)


def set_route(rig: Rig, plan: Plan, route: Route, **fields) -> None:
    """Change what a route lets pass."""
    title = f"filter of {plan.rig.socket_text(route.source)} to {plan.rig.socket_text(route.target)}"
    change_plan(rig, title, plan, change.set_route(plan, route.uid, **fields))


def remove_route(rig: Rig, plan: Plan, route: Route) -> None:
    """Take a route out."""
    title = f"remove the route {plan.rig.socket_text(route.source)} to {plan.rig.socket_text(route.target)}"
    change_plan(rig, title, plan, change.remove_route(plan, route.uid))


def name_ports(rig: Rig, plan: Plan, fields: dict[str, dict]) -> bool:
    """Keep the ports' names, duties and what they are matched to; False when that changes nothing."""
    return change_plan(rig, "names and duties of ports", plan, change.set_sockets(plan, fields)) is not None


def take_proposals(rig: Rig, plan: Plan) -> int:
    """Match ports to what the studio reports, as proposed; how many."""
    proposed = match(plan.rig, plan.reported or ()).proposed
    after = change.set_sockets(plan, {uid: {"system_name": name} for uid, name in proposed.items()})
    change_plan(rig, "match ports to what the studio reports", plan, after)
    return len(proposed)


def back_to_reported_names(rig: Rig, plan: Plan) -> bool:
    """Drop every name of the owner's for a port; False when there is none."""
    fields = {end.socket.uid: {"port_name": ""} for end in ports_of(plan.rig)}
    return change_plan(rig, "back to reported names", plan, change.set_sockets(plan, fields)) is not None


def apply_fix(rig: Rig, plan: Plan, finding: Finding) -> None:
    """Do what a finding's remedy says."""
    change_plan(rig, finding.fix.words[0].lower() + finding.fix.words[1:], plan, finding.fix.apply(plan))


def mean(rig: Rig, plan: Plan, finding: Finding, reason: str) -> None:
    """Mark a finding as meant."""
    change_plan(rig, f"mark as meant: {finding.title}", plan, mark_meant(plan, finding, reason))


def mean_no_more(rig: Rig, plan: Plan, finding: Finding) -> None:
    """Let a finding that was meant stand again."""
    change_plan(rig, f"no longer meant: {finding.title}", plan, no_longer_meant(plan, finding.cause))


def change_settings(rig: Rig, plan: Plan, **fields) -> None:
    """Rename a rig, note another buffer size, turn the echo on or off, say who leads."""
    change_plan(rig, f"settings of {fields.get('name', plan.rig.name)}", plan, change.set_rig(plan, **fields))


@transaction.atomic
def duplicate(plan: Plan, name: str = "", *, template: bool = False) -> Rig:
    """A copy of a rig with its instruments, to go on from: the same desk, so its boxes stay what and how they are."""
    copy = with_new_uids(carrying(plan, known_latenesses(plan)), name or f"{plan.rig.name}, copy"[:80])
    panels = {panel.box_uid: panel.settings for panel in FrontPanel.objects.all()}
    for box, new in zip(plan.rig.boxes, copy.rig.boxes, strict=True):
        settings = {"nature": box.uid} | panels.get(box.uid, {})
        FrontPanel.objects.create(box_uid=new.uid, settings=settings)
    return import_rig(copy, template=template)


def _matched(plan: Plan) -> Plan:
    """The plan with new ports matched to what the studio reports now."""
    new = {end.socket.uid for end in ports_of(plan.rig) if not end.socket.system_name}
    proposed = match(plan.rig, look(plan) or ()).proposed
    return change.set_sockets(plan, {uid: {"system_name": proposed[uid]} for uid in new & proposed.keys()})
