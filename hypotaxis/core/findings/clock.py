"""Rules about clock: one leader, and nobody waits for a clock that does not come."""

from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, listed
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.change import set_rig, set_sockets, set_up
from hypotaxis.core.rig.listening import leading_boxes
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.sync.following import clocked


def _clocked(plan: Plan) -> dict[str, str]:
    """Boxes that the host's clock reaches, by uid, with the first port it comes from."""
    return {uid: ways[0].port for uid, ways in clocked(plan).items()}


def two_leaders(plan: Plan) -> Iterator[Finding]:
    """More than one clock that wants to lead."""
    leading = leading_boxes(plan.rig)
    boxes = [plan.rig.box(uid) for uid in leading]
    free = [box for box in boxes if box.setup.clock != "external"]
    host_too = bool(free) and any(end.socket.clock for end in ports_of(plan.rig, "out")) and not plan.rig.leader
    if len(free) < 2 and not host_too:
        return
    names = [*(["the host"] if host_too else []), *(box.name for box in free)]
    yield Finding(
        severity=WRONG,
        about=free[0].uid,
        also=tuple(box.uid for box in free[1:]),
        title=f"{listed(names)[0].upper()}{listed(names)[1:]} all lead",
        message="Each sends a clock of its own, and two clocks wander apart: what follows one is out of step with the "
        "other.",
        remedy="Let one lead and set the others to follow; there is one leader only.",
        socket=leading[free[0].uid].socket.uid,
        facts=("host",) if host_too else (),
        fix=Fix(f"Let {free[0].name} lead", lambda p: _one_leader(p, free[0].uid)) if len(free) == 1 else None,
    )


def _one_leader(plan: Plan, uid: str) -> Plan:
    quiet = {end.socket.uid: {"clock": False} for end in ports_of(plan.rig, "out") if end.box.uid == uid}
    return set_rig(set_sockets(plan, quiet), leader=uid)


def leader_follows(plan: Plan) -> Iterator[Finding]:
    """The box that should lead is set to follow."""
    box = plan.rig.box(plan.rig.leader)
    if box and box.setup.clock == "external":
        yield Finding(
            severity=WRONG,
            about=box.uid,
            title=f"{box.name} should lead, and is set to follow",
            message="Its clock is set to external: it waits for a clock while everything waits for it.",
            remedy=f"Set the clock of {box.name} to internal, here and on the box.",
            fix=Fix("Plan it with its own clock", lambda p: set_up(p, box.uid, clock="internal")),
        )


def clock_to_internal(plan: Plan) -> Iterator[Finding]:
    """The host sends clock to a box that is set to its own."""
    for uid, port in _clocked(plan).items():
        box = plan.rig.box(uid)
        if box.setup.takes_clock and box.setup.clock == "internal":
            yield Finding(
                severity=RISKY,
                about=uid,
                title=f"{box.name} does not listen to the clock it gets",
                message=f"{plan.rig.socket_text(port)} sends it clock, and it is set to internal: it drifts from "
                "the song, "
                "however alike the tempos are typed.",
                remedy=f"Set the clock of {box.name} to external, here and on the box.",
                socket=port,
                fix=Fix("Plan it to follow", lambda p, uid=uid: set_up(p, uid, clock="external")),
            )


def waiting_for_clock(plan: Plan) -> Iterator[Finding]:
    """A box set to follow a clock that nobody sends it."""
    clocked = _clocked(plan)
    for box in plan.rig.boxes:
        if box.setup.clock != "external" or box.uid in clocked or box.uid == plan.rig.leader:
            continue
        port = next(
            (
                end.socket
                for end in ports_of(plan.rig, "out")
                if any(reached.box == box.uid and reached.clock for reached in heard_from(plan.rig, end.socket.uid))
            ),
            None,
        )
        cabled = any(plan.rig.cable_at(socket.uid) for socket in box.sockets)
        yield Finding(
            severity=RISKY if cabled else WORTH_KNOWING,
            about=box.uid,
            title=f"{box.name} waits for a clock that nobody sends",
            message="It is set to follow. Its pattern or arpeggiator stays silent, or its delay and LFO run in the "
            "wrong "
            "division.",
            remedy="Send clock on the port that leads to it, or set it to its own clock.",
            socket=port.uid if port else "",
            fix=Fix(
                f"Send clock on {plan.rig.socket_text(port.uid)}",
                lambda p, uid=port.uid: set_sockets(p, {uid: {"clock": True}}),
            )
            if port
            else Fix("Plan it with its own clock", lambda p, uid=box.uid: set_up(p, uid, clock="internal")),
        )
