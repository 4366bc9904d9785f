"""What a person does to a rig, as functions from a plan to the next one. Nothing is stored here; nothing is lost:
removing a box leaves the instruments that name it, as loose ends."""

from collections.abc import Callable, Iterable
from dataclasses import replace

from hypotaxis.core.errors import DoesNotFit
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.build import another_like, box_from_shape, new_uid
from hypotaxis.core.rig.links import takes_devices
from hypotaxis.core.rig.plug import adapter_between, order_ends, pair_of, routable, run_of
from hypotaxis.core.rig.ports import host_direction, is_port, reported_name
from hypotaxis.core.rig.shapes import column_of, is_interface
from hypotaxis.core.rig.values import LINKS, Box, Cable, Rig, Route, Socket

MOST_AT_ONCE = 32


def set_rig(plan: Plan, **fields) -> Plan:
    """The plan with fields of the rig changed."""
    return replace(plan, rig=replace(plan.rig, **fields))


def set_box(plan: Plan, uid: str, **fields) -> Plan:
    """The plan with fields of one box changed."""
    return _boxes(plan, lambda box: replace(box, **fields) if box.uid == uid else box)


def set_up(plan: Plan, uid: str, **fields) -> Plan:
    """The plan with a box's setup changed."""
    return _boxes(plan, lambda box: replace(box, setup=replace(box.setup, **fields)) if box.uid == uid else box)


def set_sockets(plan: Plan, fields: dict[str, dict]) -> Plan:
    """The plan with sockets changed, by uid. A new label is followed by what names the old one (thru, other side, what
    carries it)."""

    def changed(box: Box) -> Box:
        labels = {s.label: fields[s.uid].get("label", s.label) for s in box.sockets if s.uid in fields}
        if not labels:
            return box

        def follow(socket: Socket) -> Socket:
            names = {name: labels.get(getattr(socket, name), getattr(socket, name)) for name in _NAMING}
            return replace(socket, **names | fields.get(socket.uid, {}))

        return replace(box, sockets=tuple(follow(socket) for socket in box.sockets))

    return _boxes(plan, changed)


_NAMING = ("thru_of", "stereo", "carried_by")


def set_instrument(plan: Plan, uid: str, **fields) -> Plan:
    """The plan with fields of one instrument changed."""
    changed = tuple(replace(one, **fields) if one.uid == uid else one for one in plan.instruments)
    return replace(plan, instruments=changed)


def keep_instrument(plan: Plan, instrument: Instrument) -> Plan:
    """The plan with an instrument put in its place, or added at the end."""
    if plan.instrument(instrument.uid) is None:
        return replace(plan, instruments=(*plan.instruments, instrument))
    changed = tuple(instrument if one.uid == instrument.uid else one for one in plan.instruments)
    return replace(plan, instruments=changed)


def without_instrument(plan: Plan, uid: str) -> Plan:
    """The plan without an instrument."""
    return replace(plan, instruments=tuple(one for one in plan.instruments if one.uid != uid))


def keep_loop(plan: Plan, loop: Loop) -> Plan:
    """The plan with an effect loop put in its place, or added at the end."""
    if plan.loop(loop.uid) is None:
        return replace(plan, loops=(*plan.loops, loop))
    return replace(plan, loops=tuple(loop if one.uid == loop.uid else one for one in plan.loops))


def set_loop(plan: Plan, uid: str, **fields) -> Plan:
    """The plan with fields of one effect loop changed."""
    return replace(plan, loops=tuple(replace(one, **fields) if one.uid == uid else one for one in plan.loops))


def without_loop(plan: Plan, uid: str) -> Plan:
    """The plan without an effect loop."""
    return replace(plan, loops=tuple(one for one in plan.loops if one.uid != uid))


def add_box(plan: Plan, *, shape: str, name: str, note: str = "", colour: str = "") -> tuple[Plan, Box]:
    """A box of a shape below the others of its column. What has a USB or network link gets a free socket of the
    computer or of a hub, so that it is there at once."""
    box = box_from_shape(shape, name, colour=colour, order=_next_order(plan))
    box = replace(box, note=note or box.note)
    plan = set_rig(plan, boxes=(*plan.rig.boxes, box))
    link = next((s for s in box.sockets if s.kind in LINKS and not takes_devices(box, s)), None)
    free = _free_goal(plan.rig, link, box) if link else None
    return (with_cable(plan, link.uid, free.uid) if link and free else plan), box


def _free_goal(rig: Rig, link: Socket, box: Box) -> Socket | None:
    goals = [
        (owner.shape != "host", socket)
        for owner, socket in rig.each_socket()
        if socket.kind == link.kind
        and owner.uid != box.uid
        and not rig.cable_at(socket.uid)
        and (
            owner.shape == "host" or (link.kind == "usb" and owner.shape == "usb-hub" and takes_devices(owner, socket))
        )
    ]
    return min(goals, key=lambda goal: goal[0])[1] if goals else None


def copy_box(plan: Plan, box: Box) -> tuple[Plan, Box]:
    """A box of the same kind with the same sockets below the others of its column, not cabled yet."""
    names = {other.name for other in plan.rig.boxes}
    name = next(f"{box.name[:74]} {number}" for number in range(2, 10_000) if f"{box.name[:74]} {number}" not in names)
    copy = another_like(box, name, _next_order(plan))
    return set_rig(plan, boxes=(*plan.rig.boxes, copy)), copy


def _next_order(plan: Plan) -> int:
    return max((box.order for box in plan.rig.boxes), default=0) + 1


def move_box(plan: Plan, column: list[Box], box: Box, place: int) -> Plan:
    """The plan with a box at another place of its column, counted from 0; column: as it is seen now, from the top. The
    seen order is kept for all of them, and the moved one is marked as placed by hand."""
    others = [other for other in column if other.uid != box.uid]
    place = max(0, min(place, len(others)))
    wanted = [*others[:place], box, *others[place:]]
    orders = dict(zip((one.uid for one in wanted), sorted(one.order for one in column), strict=True))
    if len(set(orders.values())) < len(orders):
        orders = {one.uid: number for number, one in enumerate(wanted)}

    def moved(other: Box) -> Box:
        by_hand = other.by_hand or other.uid == box.uid
        return replace(other, order=orders.get(other.uid, other.order), by_hand=by_hand)

    return _boxes(plan, moved)


def remove_box(plan: Plan, uid: str) -> Plan:
    """The plan without a box, its sockets and its cables."""
    box = plan.rig.box(uid)
    gone = {socket.uid for socket in box.sockets} if box else set()
    leader = "" if plan.rig.leader == uid else plan.rig.leader
    boxes = tuple(other for other in plan.rig.boxes if other.uid != uid)
    return set_rig(plan, boxes=boxes, cables=_cables_without(plan.rig, gone), leader=leader)


def add_socket(plan: Plan, box_uid: str, **fields) -> Plan:
    """The plan with one more socket on a box."""
    socket = Socket(uid=new_uid(), **fields)
    owner = plan.rig.box(box_uid)
    if owner and is_interface(owner.shape) and socket.kind == "audio":
        socket = replace(socket, system_name=reported_name(box_uid, owner.shape, socket.label, "audio"))
    return _boxes(plan, lambda box: replace(box, sockets=(*box.sockets, socket)) if box.uid == box_uid else box)


def remove_socket(plan: Plan, uid: str) -> Plan:
    """The plan without a socket, its cable, its routes, and what named it on its box."""
    found = plan.rig.find(uid)
    if found is None:
        return plan
    label = found[1].label

    def without(box: Box) -> Box:
        if box.uid != found[0].uid:
            return box
        kept = tuple(
            replace(s, **{name: "" for name in ("thru_of", "stereo") if getattr(s, name) == label})
            for s in box.sockets
            if s.uid != uid and s.carried_by != label
        )
        left = {socket.uid for socket in kept}
        routes = tuple(route for route in box.routes if {route.source, route.target} <= left)
        return replace(box, sockets=kept, routes=routes)

    after = _boxes(plan, without)
    left = {socket.uid for _, socket in after.rig.each_socket()}
    return set_rig(after, cables=tuple(c for c in after.rig.cables if {c.source, c.target} <= left))


def move_socket(plan: Plan, uid: str, *, up: bool) -> Plan:
    """The plan with a socket one row higher or lower on its box."""

    def moved(box: Box) -> Box:
        rows = list(box.sockets)
        place = next((at for at, socket in enumerate(rows) if socket.uid == uid), None)
        if place is None or not 0 <= (goal := place + (-1 if up else 1)) < len(rows):
            return box
        rows[place], rows[goal] = rows[goal], rows[place]
        return replace(box, sockets=tuple(rows))

    return _boxes(plan, moved)


def with_cable(plan: Plan, one: str, other: str, *, uid: str = "", **noted) -> Plan:
    """The plan with one more cable between two sockets, whichever was named first; what must sit between is noted on
    it. An interface's MIDI input that hands are plugged into becomes one that is played from. Raises DoesNotFit."""
    source, target = order_ends(plan.rig, one, other)
    (from_box, out), (to_box, into) = plan.rig.find(source), plan.rig.find(target)
    noted.setdefault("adapter", adapter_between(out, into))
    cable = Cable(uid=uid or new_uid(), source=source, target=target, **noted)
    after = set_rig(plan, cables=(*plan.rig.cables, cable))
    played = column_of(from_box.shape) == "hands" and is_port(plan.rig, to_box, into) and not into.duty
    if played and host_direction(to_box, into) == "in":
        after = set_sockets(after, {target: {"duty": "played from"}})
    return after


def connect(plan: Plan, one: str, other: str, *, count: int = 1, **noted) -> tuple[Plan, list[tuple[str, str]]]:
    """The plan with cables between two sockets, and what they join. count: 1, 2 for both sides of a stereo pair, or as
    many as follow side by side up to that number. Raises DoesNotFit when the first does not go."""
    ends = [order_ends(plan.rig, one, other)]
    if count == 2:
        partner = pair_of(plan.rig, *ends[0])
        ends += [partner] if partner else run_of(plan.rig, *ends[0], 2)[1:]
    elif count > 2:
        ends = run_of(plan.rig, *ends[0], min(count, MOST_AT_ONCE))
    for source, target in ends:
        plan = with_cable(plan, source, target, **noted)
    return plan, ends


def without_cable(plan: Plan, uid: str) -> Plan:
    """The plan with a cable taken out."""
    return set_rig(plan, cables=tuple(cable for cable in plan.rig.cables if cable.uid != uid))


def replug(plan: Plan, cable: Cable, old_end: str, new_end: str) -> Plan:
    """The plan with one end of a cable moved to another socket; the rest of the cable stays what it is. Raises
    DoesNotFit when it does not go there, and nothing has changed then."""
    if old_end not in (cable.source, cable.target):
        raise DoesNotFit("This cable does not end there any more. Choose its end again.")
    other = cable.target if old_end == cable.source else cable.source
    noted = {"kind": cable.kind, "length_m": cable.length_m, "colour": cable.colour, "label": cable.label}
    return with_cable(without_cable(plan, cable.uid), other, new_end, uid=cable.uid, **noted)


def set_cable(plan: Plan, uid: str, **fields) -> Plan:
    """The plan with what is noted on a cable changed."""
    cables = tuple(replace(cable, **fields) if cable.uid == uid else cable for cable in plan.rig.cables)
    return set_rig(plan, cables=cables)


def add_route(plan: Plan, source: str, target: str) -> Plan:
    """The plan with a path inside a box from one of its sockets to another. Raises DoesNotFit."""
    one, other = plan.rig.find(source), plan.rig.find(target)
    if one is None or other is None or one[0].uid != other[0].uid:
        raise DoesNotFit("A route joins two sockets of one box. Choose both ends again.")
    if one[1].direction == "out" or other[1].direction == "in":
        raise DoesNotFit(f"A route goes from an input to an output, not from {one[1].label} to {other[1].label}.")
    if not routable(one[1], other[1]):
        raise DoesNotFit(f"{one[0].name} cannot pass on what enters {one[1].label} by {other[1].label}.")
    if any(route.source == source and route.target == target for route in one[0].routes):
        raise DoesNotFit(f"{one[1].label} goes to {other[1].label} already.")
    route = Route(uid=new_uid(), source=source, target=target)
    return set_box(plan, one[0].uid, routes=(*one[0].routes, route))


def set_route(plan: Plan, uid: str, **fields) -> Plan:
    """The plan with a route's filters changed."""
    return _boxes(
        plan,
        lambda box: replace(
            box, routes=tuple(replace(route, **fields) if route.uid == uid else route for route in box.routes)
        ),
    )


def remove_route(plan: Plan, uid: str) -> Plan:
    """The plan without a route."""
    return _boxes(plan, lambda box: replace(box, routes=tuple(route for route in box.routes if route.uid != uid)))


def _boxes(plan: Plan, change: Callable[[Box], Box]) -> Plan:
    return set_rig(plan, boxes=tuple(change(box) for box in plan.rig.boxes))


def _cables_without(rig: Rig, sockets: Iterable[str]) -> tuple[Cable, ...]:
    gone = set(sockets)
    return tuple(cable for cable in rig.cables if not {cable.source, cable.target} & gone)
