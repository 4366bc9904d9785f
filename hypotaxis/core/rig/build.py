"""New things: a box out of a shape, a rig out of another."""

import uuid
from dataclasses import asdict, replace

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.shapes import SHAPES, is_interface
from hypotaxis.core.rig.values import Box, Socket

HOST_NAME = "host"


def new_uid() -> str:
    """A fresh uid."""
    return str(uuid.uuid4())


def with_new_uids(plan: Plan, name: str) -> Plan:
    """The same plan as a rig of its own, under another name: every uid is new, and what they join stays joined.

    A uid that names nothing in the plan (a loose end) stays as it is.
    """
    fresh: dict[str, str] = {}

    def new(uid: str) -> str:
        return fresh.setdefault(uid, new_uid())

    boxes = tuple(
        replace(box, uid=new(box.uid), sockets=tuple(replace(socket, uid=new(socket.uid)) for socket in box.sockets))
        for box in plan.rig.boxes
    )
    cables = tuple(
        replace(cable, uid=new_uid(), source=fresh[cable.source], target=fresh[cable.target])
        for cable in plan.rig.cables
    )
    instruments = tuple(
        replace(
            one,
            uid=new_uid(),
            box=fresh.get(one.box, one.box),
            send=fresh.get(one.send, one.send),
            returns=tuple(fresh.get(uid, uid) for uid in one.returns),
        )
        for one in plan.instruments
    )
    rig = replace(plan.rig, uid=new_uid(), name=name, boxes=boxes, cables=cables)
    return replace(plan, rig=rig, instruments=instruments)


def box_from_shape(shape: str, name: str, *, colour: str = "", order: int = 0, uid: str = "") -> Box:
    """A box with the sockets of its shape, ready to be renamed.

    An interface's sockets get the system names the stand-in reports them under, and send sockets the duty
    "sends to boxes". Raises KeyError for a shape that is not in the table.
    """
    uid = uid or new_uid()
    sockets = []
    for item in SHAPES[shape].sockets:
        port = is_interface(shape) and item.kind != "usb"
        sockets.append(
            Socket(
                # From the box's uid, so that the same box always has the same sockets.
                uid=str(uuid.uuid5(uuid.UUID(uid), item.label)),
                **asdict(item),
                system_name=f"{name} USB Audio 2.0: {item.label} [{uid[:4]}]" if port else "",
                duty="sends to boxes" if port and item.kind == "midi" and item.direction == "out" else "",
            )
        )
    return Box(
        uid=uid,
        name=name,
        shape=shape,
        note=SHAPES[shape].note,
        colour=colour,
        order=order,
        sockets=tuple(sockets),
    )
