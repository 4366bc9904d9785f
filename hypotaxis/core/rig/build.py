"""New things: a box out of a shape, a rig out of another."""

import uuid
from dataclasses import asdict, replace

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.ports import reported_name
from hypotaxis.core.rig.shapes import SHAPES, is_interface
from hypotaxis.core.rig.values import Box, Route, Socket

HOST_NAME = "host"


def new_uid() -> str:
    """A fresh uid."""
    return str(uuid.uuid4())


def with_new_uids(plan: Plan, name: str) -> Plan:
    """The same plan as a rig of its own, under another name: every uid is new, and what they join stays joined.

    A uid that names nothing in the plan (a loose end) stays as it is. Ticks and what was marked as meant go along.
    """
    fresh = {box.uid: new_uid() for box in plan.rig.boxes}
    # Sockets keep to their box, so that a socket that came with the shape is still known as such.
    for box in plan.rig.boxes:
        for socket in box.sockets:
            native = socket.uid == socket_uid(box.uid, socket.label)
            fresh[socket.uid] = socket_uid(fresh[box.uid], socket.label) if native else new_uid()
    fresh |= {one.uid: new_uid() for one in plan.instruments}

    def new(uid: str) -> str:
        return fresh.get(uid, uid)

    boxes = tuple(
        replace(
            box,
            uid=new(box.uid),
            sockets=tuple(replace(socket, uid=new(socket.uid)) for socket in box.sockets),
            routes=tuple(
                replace(route, uid=new_uid(), source=new(route.source), target=new(route.target))
                for route in box.routes
            ),
        )
        for box in plan.rig.boxes
    )
    cables = tuple(
        replace(cable, uid=new_uid(), source=new(cable.source), target=new(cable.target)) for cable in plan.rig.cables
    )
    instruments = tuple(
        replace(
            one,
            uid=new(one.uid),
            box=new(one.box),
            send=new(one.send),
            returns=tuple(new(uid) for uid in one.returns),
            parts=tuple(replace(part, send=new(part.send)) for part in one.parts),
            standing=tuple((new(uid), channel) for uid, channel in one.standing),
            further=tuple(replace(way, inputs=tuple(new(uid) for uid in way.inputs)) for way in one.further),
        )
        for one in plan.instruments
    )
    meant = tuple(replace(one, about=new(one.about), cause=_renamed(one.cause, fresh)) for one in plan.meant)
    rig = replace(plan.rig, uid=new_uid(), name=name, leader=new(plan.rig.leader), boxes=boxes, cables=cables)
    loops = tuple(
        replace(
            one,
            uid=new_uid(),
            box=new(one.box),
            sends=tuple(new(uid) for uid in one.sends),
            returns=tuple(new(uid) for uid in one.returns),
        )
        for one in plan.loops
    )
    return Plan(rig=rig, instruments=instruments, loops=loops, meant=meant)


def renaming(plan: Plan, copy: Plan) -> dict[str, str]:
    """How what has a uid in a plan is called in a copy that `with_new_uids` made of it."""
    names = {plan.rig.uid: copy.rig.uid}
    for old, new in zip(plan.rig.boxes, copy.rig.boxes, strict=True):
        names[old.uid] = new.uid
        for mine, theirs in ((old.sockets, new.sockets), (old.routes, new.routes)):
            names |= {one.uid: other.uid for one, other in zip(mine, theirs, strict=True)}
    for mine, theirs in ((plan.instruments, copy.instruments), (plan.loops, copy.loops)):
        names |= {one.uid: other.uid for one, other in zip(mine, theirs, strict=True)}
    # Cables are kept by their uids, so they are found by their ends.
    ends = {(one.source, one.target): one.uid for one in copy.rig.cables}
    return names | {one.uid: ends[names[one.source], names[one.target]] for one in plan.rig.cables}


def _renamed(cause: str, fresh: dict[str, str]) -> str:
    return "|".join(fresh.get(word, word) for word in cause.split("|"))


def socket_uid(box_uid: str, label: str) -> str:
    """From the box's uid, so that the same box always has the same sockets."""
    return str(uuid.uuid5(uuid.UUID(box_uid), label))


def box_from_shape(shape: str, name: str, *, colour: str = "", order: int = 0, uid: str = "") -> Box:
    """A box with the sockets and routes of its shape, ready to be renamed.

    Ports get the system names a class-compliant device reports (see ports.reported_name). Raises KeyError for a shape
    that is not in the table.
    """
    uid = uid or new_uid()
    known = SHAPES[shape]
    sockets = []
    for item in known.sockets:
        own_end = item.kind not in ("usb", "network") and (is_interface(shape) or bool(item.carried_by))
        socket = Socket(uid=socket_uid(uid, item.label), **asdict(item))
        sockets.append(
            replace(socket, system_name=reported_name(uid, shape, item.label, item.kind)) if own_end else socket
        )
    routes = tuple(
        Route(
            uid=str(uuid.uuid5(uuid.UUID(uid), f"{item.source} to {item.target}")),
            source=socket_uid(uid, item.source),
            target=socket_uid(uid, item.target),
            gain_db=item.gain_db,
        )
        for item in known.routes
    )
    return Box(
        uid=uid,
        name=name,
        shape=shape,
        note=known.note,
        colour=colour,
        order=order,
        setup=known.setup,
        sockets=tuple(sockets),
        routes=routes,
    )


def another_like(box: Box, name: str, order: int) -> Box:
    """A second box of the same kind with the same sockets, routes and settings, not cabled; its ports are not matched
    to anything the studio reports yet."""
    uid = new_uid()
    fresh = {socket.uid: socket_uid(uid, socket.label) for socket in box.sockets}
    sockets = tuple(replace(one, uid=fresh[one.uid], port_name="", system_name="") for one in box.sockets)
    routes = tuple(
        replace(route, uid=new_uid(), source=fresh[route.source], target=fresh[route.target]) for route in box.routes
    )
    return replace(box, uid=uid, name=name, order=order, by_hand=False, sockets=sockets, routes=routes)
