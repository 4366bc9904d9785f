"""Rules about ports: what the host sees, holds, and uses for what."""

from collections import defaultdict
from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, counted, listed
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.change import add_route, set_sockets, with_cable
from hypotaxis.core.rig.links import devices_on, is_usb_host
from hypotaxis.core.rig.listening import seats_of
from hypotaxis.core.rig.ports import DEEPEST_HUBS, PortEnd, hubs_between, is_seen, keys_in, match, ports_of
from hypotaxis.core.rig.shapes import SHAPES, column_of, is_interface
from hypotaxis.core.rig.values import LINKS, Box, Socket


def port_set_aside(plan: Plan) -> Iterator[Finding]:
    """An instrument that sends on a port whose duty keeps it for something else."""
    reported: set[tuple[str, str]] = set()
    for instrument, seat, _ in seats_of(plan):
        found = plan.rig.find(seat.send)
        if found and found[1].duty not in ("", "sends to boxes") and (instrument.uid, seat.send) not in reported:
            reported.add((instrument.uid, seat.send))
            name = plan.rig.socket_text(seat.send)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} sends on a port kept for something else",
                message=f"The duty of {name} is “{found[1].duty}”, so it is not offered to instruments.",
                remedy="Choose a port that sends to boxes, or change the duty of this one.",
                socket=seat.send,
                facts=(found[1].duty,),
                fix=Fix(
                    f"Let {name} send to boxes",
                    lambda p, uid=found[1].uid: set_sockets(p, {uid: {"duty": "sends to boxes"}}),
                ),
            )


def interface_not_joined(plan: Plan) -> Iterator[Finding]:
    """An interface without a cable to the computer."""
    for box in plan.rig.boxes:
        links = _links(box)
        if is_interface(box.shape) and links and not any(plan.rig.cable_at(socket.uid) for socket in links):
            yield Finding(
                severity=WRONG,
                about=box.uid,
                title=f"{box.name} is not joined to the computer",
                message="The host sees none of its ports and inputs.",
                remedy=f"Cable {box.name} {links[0].label} to the computer.",
                socket=links[0].uid,
                fix=_join(plan, box, links[0]),
            )


def _links(box: Box) -> list[Socket]:
    """The sockets by which a box is joined to the computer."""
    return [socket for socket in box.sockets if socket.kind in LINKS and socket.connector != "usb-a"]


def _join(plan: Plan, box: Box, link: Socket) -> Fix | None:
    goals = (s for owner, s in plan.rig.each_socket() if owner.shape == "host" and s.kind == link.kind)
    goal = next((socket for socket in goals if not plan.rig.cable_at(socket.uid)), None)
    if goal is None:
        return None
    words = f"Cable {box.name} to {goal.label} of the computer"
    return Fix(words, lambda p: with_cable(p, link.uid, goal.uid), "Draw this cable")


def port_not_seen(plan: Plan) -> Iterator[Finding]:
    """A port that something rests on, inside a link that does not lead to the computer."""
    reported: set[str] = set()
    needed = {seat.send for _, seat, _ in seats_of(plan)}
    needed |= {port for instrument in plan.instruments for port, _ in instrument.standing}
    for end in ports_of(plan.rig):
        in_use = end.socket.uid in needed or end.socket.duty.startswith(("played from", "clock from"))
        if not end.socket.carried_by or not in_use or is_seen(plan.rig, end) or end.box.uid in reported:
            continue
        reported.add(end.box.uid)
        link = end.box.socket(end.socket.carried_by)
        yield Finding(
            # A duty may be the one it came with: a keyboard that is cabled by DIN alone is in order.
            severity=WRONG if end.socket.uid in needed else WORTH_KNOWING,
            about=end.box.uid,
            title=f"The host cannot see {plan.rig.socket_text(end.socket.uid)}",
            message=f"It is an end inside {end.socket.carried_by} of {end.box.name}, and no cable leads from there to "
            "the computer.",
            remedy=f"Cable {end.box.name} {end.socket.carried_by} to the computer, directly or by a hub.",
            socket=link.uid if link else end.socket.uid,
            fix=_join(plan, end.box, link) if link and not plan.rig.cable_at(link.uid) else None,
        )


def device_without_route(plan: Plan) -> Iterator[Finding]:
    """Devices at a USB host that passes nothing on to them, or nothing of theirs."""
    for box, socket in plan.rig.each_socket():
        devices = [device for device, _ in devices_on(plan.rig, socket.uid)] if is_usb_host(box, socket) else []
        if not devices or any(socket.uid in (route.source, route.target) for route in box.routes):
            continue
        names = listed([device.name for device in devices])
        yield Finding(
            severity=RISKY,
            about=box.uid,
            also=tuple(device.uid for device in devices),
            title=f"{box.name} passes nothing on to {names}",
            message=f"{names} is plugged in at {socket.label}, so the computer does not see it: its notes come and go "
            f"through {box.name}, and no route inside leads to {socket.label} or from it.",
            remedy=f"Lay routes inside {box.name}, or plug {names} into the computer.",
            socket=socket.uid,
            fix=_routed(box, socket),
        )


def _routed(box: Box, usb: Socket) -> Fix | None:
    """Routes from every MIDI input to the devices, and back to every MIDI output."""
    ends = [s for s in box.sockets if s.kind == "midi" and not s.thru_of]
    wanted = [(s.uid, usb.uid) if s.direction == "in" else (usb.uid, s.uid) for s in ends]

    def lay(plan: Plan) -> Plan:
        for source, target in wanted:
            plan = add_route(plan, source, target)
        return plan

    return Fix(f"Join {usb.label} with the MIDI sockets of {box.name}", lay, "Lay the routes") if wanted else None


def port_missing(plan: Plan) -> Iterator[Finding]:
    """A port of the plan that the studio does not report now, though a link leads to it."""
    if plan.reported is None:
        return
    matching = match(plan.rig, plan.reported)
    by_box: dict[str, list[PortEnd]] = defaultdict(list)
    for end in matching.missing:
        if is_seen(plan.rig, end) and end.socket.duty != "spare":
            by_box[end.box.uid].append(end)
    for uid, ends in by_box.items():
        names = [plan.rig.socket_text(end.socket.uid) for end in ends]
        proposed = {e.socket.uid: matching.proposed[e.socket.uid] for e in ends if e.socket.uid in matching.proposed}
        taken = {u: {"system_name": name} for u, name in proposed.items()}
        yield Finding(
            severity=WRONG,
            about=uid,
            title=f"{names[0]} is missing"
            if len(ends) == 1
            else f"{len(ends)} ports of {ends[0].box.name} are missing",
            message="The plan knows it under a name that the system does not report now: switched on after the host, "
            "the driver is not in place, or the system names it anew.",
            remedy="Go down the start-up list; if it comes under another name, match it on the list of ports.",
            socket=ends[0].socket.uid,
            facts=tuple(end.socket.system_name for end in ends),
            fix=Fix("Take the names that are reported now", lambda p, t=taken: set_sockets(p, t)) if taken else None,
        )


def port_taken(plan: Plan) -> Iterator[Finding]:
    """A port in use that another program holds."""
    held = {(port.system_name, port.direction) for port in plan.reported or () if port.taken}
    for end in ports_of(plan.rig):
        if (end.socket.system_name, end.direction) in held and not end.is_spare:
            yield Finding(
                severity=WRONG,
                about=end.box.uid,
                title=f"{plan.rig.socket_text(end.socket.uid)} is taken",
                message="Another program holds this port, so nothing goes through it from here.",
                remedy="Close the other program (an editor, another host), then look again.",
                socket=end.socket.uid,
            )


def surface_among_keys(plan: Plan) -> Iterator[Finding]:
    """A control surface whose port is among those played from: its keys would be recorded as notes."""
    for end in keys_in(plan.rig):
        shape = SHAPES.get(end.box.shape)
        if shape and any(item.duty == "surface" for item in shape.sockets):
            name = plan.rig.socket_text(end.socket.uid)
            yield Finding(
                severity=WRONG,
                about=end.box.uid,
                title=f"{name} is among the keys in",
                message="Its transport keys and faders would play notes and be recorded with them.",
                remedy="Give the port the duty “surface”: it stays connected, and never records.",
                socket=end.socket.uid,
                facts=(end.socket.duty,),
                fix=Fix(
                    "Give it the duty “surface”",
                    lambda p, uid=end.socket.uid: set_sockets(p, {uid: {"duty": "surface"}}),
                ),
            )


def hubs_too_deep(plan: Plan) -> Iterator[Finding]:
    """A box behind more hubs in a row than USB allows."""
    for box in plan.rig.boxes:
        hubs = hubs_between(plan.rig, box) if box.shape != "usb-hub" else None
        if hubs is not None and hubs > DEEPEST_HUBS:
            yield Finding(
                severity=RISKY,
                about=box.uid,
                title=f"{box.name} is behind {hubs} hubs",
                message=f"USB allows {DEEPEST_HUBS} in a row; beyond that a device is not found, or drops out.",
                remedy="Put it on a hub nearer to the computer.",
                facts=(str(hubs),),
            )


def same_port_name(plan: Plan) -> Iterator[Finding]:
    """Ports of one direction with one name of the owner's."""
    called: dict[tuple[str, str], list[tuple[Box, Socket]]] = defaultdict(list)
    for box, socket in plan.rig.each_socket():
        if socket.port_name:
            called[socket.direction, socket.port_name.casefold()].append((box, socket))
    for alike in called.values():
        if len(alike) > 1:
            yield Finding(
                severity=RISKY,
                about=alike[0][0].uid,
                also=tuple(box.uid for box, _ in alike[1:]),
                title=f"{len(alike)} ports are called {alike[0][1].port_name}",
                message="Wherever a port is chosen, one of them will be taken for the other.",
                remedy="Give each port a name of its own.",
                socket=alike[0][1].uid,
            )


def no_keys_in(plan: Plan) -> Iterator[Finding]:
    """Something to play stands there, and no port is played from."""
    hands = [box for box in plan.rig.boxes if column_of(box.shape) == "hands" and _is_played(box)]
    if hands and plan.instruments and not keys_in(plan.rig):
        yield Finding(
            severity=WORTH_KNOWING,
            about=hands[0].uid,
            title="No port is played from",
            message=f"{counted(len(hands), 'box', 'boxes')} could play the selected instrument, and no port has "
            "that duty.",
            remedy="Give the keyboard's port the duty “played from” on the list of ports.",
        )


def _is_played(box: Box) -> bool:
    shape = SHAPES.get(box.shape)
    return bool(shape) and any(item.duty == "played from" for item in shape.sockets)
