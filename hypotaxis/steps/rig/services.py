"""Changes to the rig, each one step of the journal."""

from dataclasses import replace
from datetime import date, timedelta

from django.db import transaction

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.build import box_from_shape, new_uid, with_new_uids
from hypotaxis.core.rig.plug import order_ends, pair_of
from hypotaxis.core.rig.shapes import column_of
from hypotaxis.core.rig.values import Box, Cable
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.journal import Edit, change_rig
from hypotaxis.records.models import FrontPanel, Rig, Tick
from hypotaxis.records.plan import box_fields, cable_fields, socket_fields

ON_THE_BOX = "panel-"
"""How keys of settings on a box begin; all others belong to the start-up list."""


def add_box(rig: Rig, plan: Plan, *, shape: str, name: str, note: str = "", colour: str = "") -> Box:
    """Add a box of a shape below the others of its column. An interface or keyboard gets a free USB socket of the
    host, so that it is there at once."""
    order = max((box.order for box in plan.rig.boxes), default=0) + 1
    box = box_from_shape(shape, name, colour=colour, order=order)
    fields = box_fields(box, str(rig.uid)) | ({"note": note} if note else {})
    edits = [Edit("box", box.uid, fields)]
    edits += [Edit("socket", s.uid, socket_fields(s, box.uid, row)) for row, s in enumerate(box.sockets)]
    usb = next((socket for socket in box.sockets if socket.kind == "usb"), None)
    free = next(
        (s for owner, s in plan.rig.each_socket() if owner.shape == "host" and not plan.rig.cable_at(s.uid)), None
    )
    if usb and free:
        cable = Cable(uid=new_uid(), source=usb.uid, target=free.uid)
        edits.append(Edit("cable", cable.uid, cable_fields(cable, str(rig.uid))))
    change_rig(rig, f"add {name}", edits)
    return box


def copy_box(rig: Rig, plan: Plan, box: Box) -> Box:
    """A box of the same shape with the same sockets below the others of its column, not cabled yet."""
    order = max(other.order for other in plan.rig.boxes) + 1
    names = {other.name for other in plan.rig.boxes}
    name = next(f"{box.name[:74]} {number}" for number in range(2, 10_000) if f"{box.name[:74]} {number}" not in names)
    sockets = tuple(replace(socket, uid=new_uid(), port_name="") for socket in box.sockets)
    copy = replace(box, uid=new_uid(), name=name, order=order, sockets=sockets)
    edits = [Edit("box", copy.uid, box_fields(copy, str(rig.uid)))]
    edits += [Edit("socket", s.uid, socket_fields(s, copy.uid, row)) for row, s in enumerate(sockets)]
    change_rig(rig, f"copy {box.name}", edits)
    return copy


def edit_box(rig: Rig, box: Box, *, name: str, note: str, colour: str, port_names: dict[str, str]) -> None:
    """Rename a box, its note, its tab and its ports."""
    edits = [Edit("box", box.uid, {"name": name, "note": note, "colour": colour})]
    edits += [Edit("socket", uid, {"port_name": port_name}) for uid, port_name in port_names.items()]
    change_rig(rig, f"change {name}", edits)


def move_box(rig: Rig, plan: Plan, box: Box, *, up: bool) -> bool:
    """Move a box one place within its column; False when it stands at the end already."""
    column = [other for other in plan.rig.boxes if column_of(other.shape) == column_of(box.shape)]
    column.sort(key=lambda other: other.order)
    place = next(index for index, other in enumerate(column) if other.uid == box.uid)
    goal = place - 1 if up else place + 1
    if not 0 <= goal < len(column):
        return False
    column[place], column[goal] = column[goal], column[place]
    orders = sorted(other.order for other in column)
    edits = [Edit("box", other.uid, {"order": order}) for other, order in zip(column, orders, strict=True)]
    change_rig(rig, f"move {box.name} {'up' if up else 'down'}", edits)
    return True


def remove_box(rig: Rig, box: Box) -> None:
    """Remove a box with its sockets and cables; instruments that named them keep their definition, loose."""
    change_rig(rig, f"remove {box.name}", [Edit("box", box.uid, None)])


def connect(
    rig: Rig,
    plan: Plan,
    one: str,
    other: str,
    *,
    length_m: float | None = None,
    colour: str = "",
    label: str = "",
    pair: bool = False,
) -> Cable:
    """Join two sockets, whichever was named first; pair: the other sides of both stereo pairs too, where they are free.

    Raises DoesNotFit with the reason.
    """
    ends = [order_ends(plan.rig, one, other)]
    if pair:
        partner = pair_of(plan.rig, *ends[0])
        ends += [partner] if partner else []
    cables = [
        Cable(uid=new_uid(), source=source, target=target, length_m=length_m, colour=colour, label=label)
        for source, target in ends
    ]
    both = ", both sides" if len(cables) > 1 else ""
    title = f"connect {plan.rig.socket_text(ends[0][0])} to {plan.rig.socket_text(ends[0][1])}{both}"
    change_rig(rig, title, [Edit("cable", cable.uid, cable_fields(cable, str(rig.uid))) for cable in cables])
    return cables[0]


def note_cable(rig: Rig, cable: Cable, *, length_m: float | None, colour: str, label: str) -> None:
    """Note a cable's length, colour and label."""
    fields = {"length_m": length_m, "colour": colour, "label": label}
    change_rig(rig, "note on a cable", [Edit("cable", cable.uid, fields)])


def unplug(rig: Rig, plan: Plan, cable: Cable) -> None:
    """Remove a cable."""
    title = f"unplug {plan.rig.socket_text(cable.source)} from {plan.rig.socket_text(cable.target)}"
    change_rig(rig, title, [Edit("cable", cable.uid, None)])


def change_settings(rig: Rig, *, name: str, buffer: int) -> None:
    """Rename a rig, or note another buffer size."""
    change_rig(rig, f"settings of {name}", [Edit("rig", str(rig.uid), {"name": name, "buffer": buffer})])


@transaction.atomic
def duplicate(plan: Plan) -> Rig:
    """A copy of a rig with its instruments, to go on from: the same desk, so its boxes stay what and how they are."""
    copy = with_new_uids(plan, f"{plan.rig.name}, copy"[:80])
    panels = {panel.box_uid: panel.settings for panel in FrontPanel.objects.all()}
    for box, new in zip(plan.rig.boxes, copy.rig.boxes, strict=True):
        settings = {"nature": box.uid} | panels.get(box.uid, {})
        FrontPanel.objects.create(box_uid=new.uid, settings=settings)
    return import_rig(copy)


def tick(rig: Rig, keys: set[str], day: date) -> None:
    """Keep which steps of the start-up list are ticked on a day; ticks older than a month are dropped."""
    daily = rig.ticks.exclude(key__startswith=ON_THE_BOX)
    daily.filter(day=day).exclude(key__in=keys).delete()
    Tick.objects.bulk_create([Tick(rig=rig, key=key, day=day) for key in sorted(keys)], ignore_conflicts=True)
    daily.filter(day__lt=day - timedelta(days=31)).delete()


def ticked(rig: Rig, day: date) -> set[str]:
    """What of the start-up list is ticked on a day."""
    return set(rig.ticks.filter(day=day).exclude(key__startswith=ON_THE_BOX).values_list("key", flat=True))


def note_settings(rig: Rig, keys: set[str], day: date) -> None:
    """Keep which settings are made on the boxes; one that was ticked before keeps its day."""
    made = rig.ticks.filter(key__startswith=ON_THE_BOX)
    made.exclude(key__in=keys).delete()
    new = keys - set(made.values_list("key", flat=True))
    Tick.objects.bulk_create(Tick(rig=rig, key=key, day=day) for key in sorted(new))


def settings_made(rig: Rig) -> dict[str, date]:
    """The settings made on the boxes, with the day of each."""
    return dict(rig.ticks.filter(key__startswith=ON_THE_BOX).values_list("key", "day"))
