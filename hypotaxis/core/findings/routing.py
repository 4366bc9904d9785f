"""Rules about where MIDI goes: circles, notes that arrive twice, boxes that answer to more than they should."""

from collections import defaultdict
from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, listed
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.change import set_rig, set_up, without_cable
from hypotaxis.core.rig.listening import Answer, answers, arrivals, seats_of
from hypotaxis.core.rig.plug import midi_circle
from hypotaxis.core.rig.ports import keys_in, ports_of
from hypotaxis.core.rig.shapes import is_interface, parts_of
from hypotaxis.core.rig.trips import Reached, heard_from, send_sockets
from hypotaxis.core.units import BYTE_US

LONGEST_CHAIN = 3
"""Boxes on one chain of thrus; beyond it a splitter (common practice)."""
SOFT_MS = 3 * BYTE_US / 1000
"""One note on message has to be in before it is passed on: three bytes (MIDI 1.0 Detailed Specification)."""


def midi_loop(plan: Plan) -> Iterator[Finding]:
    """Cables, thrus and routes that send MIDI round in a circle."""
    reported: set[frozenset[str]] = set()
    for cable in plan.rig.cables:
        names = midi_circle(plan.rig, cable.source, cable.target)
        if not names or frozenset(names) in reported:
            continue
        reported.add(frozenset(names))
        box, socket = plan.rig.find(cable.source)
        yield Finding(
            severity=WRONG,
            about=box.uid,
            title=f"MIDI runs in a loop through {listed(sorted(set(names)))}",
            message=f"{' → '.join(names)}: every note comes round again, until nothing but notes is left.",
            remedy=f"Take the cable out of {plan.rig.socket_text(socket.uid)}, or filter the route it returns by.",
            socket=socket.uid,
            facts=(cable.uid,),
            fix=Fix(
                f"Unplug {plan.rig.socket_text(socket.uid)}",
                lambda p, uid=cable.uid: without_cable(p, uid),
                "Unplug it",
            ),
        )


def loop_through_host(plan: Plan) -> Iterator[Finding]:
    """What the host sends comes back on a port that is played from, and is echoed out again."""
    if not plan.rig.echo:
        return
    played = {end.socket.uid for end in keys_in(plan.rig)}
    for _, socket in send_sockets(plan.rig):
        back = next((r for r in heard_from(plan.rig, socket.uid) if r.socket in played), None)
        if back:
            box = plan.rig.box(back.box)
            way = [plan.rig.find(hop.target)[0].name for hop in back.hops]
            yield Finding(
                severity=WRONG,
                about=box.uid,
                title=f"Notes come back to the host on {plan.rig.socket_text(back.socket)}",
                message=f"host → {' → '.join(way)} → host: the port is played from, so the host echoes what it has "
                "just "
                "sent, round and round.",
                remedy="Give that port another duty, or turn the host's echo off.",
                socket=back.socket,
                facts=(socket.uid,),
                fix=Fix("Turn the host's echo off", lambda p: set_rig(p, echo=False)),
            )


def reached_twice(plan: Plan) -> Iterator[Finding]:
    """An instrument's notes reach its box on two ways on which it answers, so that each sounds twice."""
    for instrument, seat, name in seats_of(plan):
        ways = [answer.reached for answer in answers(plan, seat) if answer.box.uid == instrument.box]
        ways = [way for way in ways if plan.rig.find(way.socket)[1].kind != "cv"]
        if len(ways) < 2:
            continue
        one, other = _spelled(plan, ways[0], ways[1])
        last = ways[-1].hops[-1] if ways[-1].hops else None
        yield Finding(
            severity=RISKY,
            about=instrument.uid,
            title=f"{name} gets every note twice",
            message=f"{plan.rig.socket_text(seat.send)} reaches it {one} and {other}. Notes double: they phase, or eat "
            "up the voices.",
            remedy="Remove one of the two paths, or let a route hold the channel back.",
            socket=ways[-1].socket,
            facts=tuple(hop.cable.uid for way in ways for hop in way.hops),
            fix=Fix(
                f"Unplug {plan.rig.socket_text(last.source)}",
                lambda p, uid=last.cable.uid: without_cable(p, uid),
                "Unplug the second way",
            )
            if last
            else None,
        )


def _spelled(plan: Plan, one: Reached, other: Reached) -> tuple[str, str]:
    """Two ways to one box in words that differ: by the boxes between, then by the sockets."""
    for detail in (_by_boxes, _by_last_socket, _by_sockets):
        words = detail(plan, one), detail(plan, other)
        if words[0] != words[1]:
            return words
    return words[0], f"{words[1]} by another route"


def _by_boxes(plan: Plan, way: Reached) -> str:
    between = [plan.rig.find(hop.target)[0].name for hop in way.hops[:-1]]
    return f"through {listed(between)}" if between else "straight" if way.hops else "by its own port"


def _by_last_socket(plan: Plan, way: Reached) -> str:
    return f"{_by_boxes(plan, way)} into {plan.rig.find(way.socket)[1].label}"


def _by_sockets(plan: Plan, way: Reached) -> str:
    steps = [f"{plan.rig.socket_text(hop.source)} → {plan.rig.socket_text(hop.target)}" for hop in way.hops]
    return f"by {', '.join(steps)}"


def omni_on_shared_socket(plan: Plan) -> Iterator[Finding]:
    """A box set to omni that other instruments' notes reach, or that has several parts of its own to tell apart."""
    heard: dict[tuple[str, str], tuple[Answer, list[Instrument]]] = {}
    for instrument, seat, _ in seats_of(plan):
        for answer in answers(plan, seat):
            if answer.by_omni and answer.box.uid != instrument.box:
                _, others = heard.setdefault((answer.box.uid, seat.send), (answer, []))
                if instrument not in others:
                    others.append(instrument)
    for (uid, send), (answer, others) in heard.items():
        yield _omni(
            plan,
            uid,
            answer.reached.socket,
            also=tuple(one.uid for one in others),
            title=f"{answer.box.name} is set to omni on a shared wire",
            message=f"It answers on every channel that reaches it from {plan.rig.socket_text(send)}, so it plays "
            f"{listed([one.name for one in others])} too.",
        )
    for box in plan.rig.boxes:
        mine = [(one, seat) for one, seat, _ in seats_of(plan) if one.box == box.uid] if box.setup.omni else []
        ways = [way for one, seat in mine for way in arrivals(plan, one, seat)[:1]]
        if len(mine) > 1 and ways:
            yield _omni(
                plan,
                box.uid,
                ways[0].socket,
                also=tuple(dict.fromkeys(one.uid for one, _ in mine)),
                title=f"{box.name} is set to omni and has {len(mine)} parts",
                message="Set to omni it answers to every channel alike, so its parts cannot be played apart.",
            )


def _omni(plan: Plan, uid: str, socket: str, **fields) -> Finding:
    name = plan.rig.box(uid).name
    return Finding(
        severity=RISKY,
        about=uid,
        remedy=f"Switch omni off on {name}, here and on the box.",
        socket=socket,
        fix=Fix("Plan it with omni off", lambda p: set_up(p, uid, omni=False)),
        **fields,
    )


def local_and_echo(plan: Plan) -> Iterator[Finding]:
    """A keyboard that sounds, played from, with local control on while the host echoes to it."""
    if not plan.rig.echo:
        return
    played = {end.box.uid: end.socket for end in keys_in(plan.rig)}
    for instrument in plan.instruments:
        box = plan.rig.box(instrument.box)
        if box is None or box.uid not in played or box.setup.local not in ("on", "always on"):
            continue
        fixed = box.setup.local == "always on"
        remedy = (
            "Its local control cannot be switched off: turn the host's echo off instead."
            if fixed
            else f"Switch local control off on {box.name}, here and on the box; the host then plays it."
        )
        yield Finding(
            severity=RISKY,
            about=box.uid,
            also=(instrument.uid,),
            title=f"{box.name} sounds twice when it is played",
            message="Its keys play its own sound (local control), and the host echoes them back to it: every note "
            "doubles.",
            remedy=remedy,
            socket=played[box.uid].uid,
            facts=(box.setup.local,),
            fix=Fix("Turn the host's echo off", lambda p: set_rig(p, echo=False))
            if fixed
            else Fix("Plan it with local control off", lambda p, uid=box.uid: set_up(p, uid, local="off")),
        )


def more_parts_than_channels(plan: Plan) -> Iterator[Finding]:
    """Boxes on one wire that could answer on more channels than a wire has."""
    for _, socket in send_sockets(plan.rig):
        boxes = {reached.box for reached in heard_from(plan.rig, socket.uid)}
        sounding = [plan.rig.box(uid) for uid in sorted(boxes)]
        parts = {box.uid: len(box.setup.receives) or parts_of(box.shape, box.setup) for box in sounding}
        total = sum(parts.values())
        crowd = [box for box in sounding if parts[box.uid]]
        if total > 16 and len(crowd) > 1:
            yield Finding(
                severity=WORTH_KNOWING,
                about=crowd[0].uid,
                also=tuple(box.uid for box in crowd[1:]),
                title=f"{total} parts share the 16 channels of {plan.rig.socket_text(socket.uid)}",
                message=f"{listed([box.name for box in crowd])} share one wire; parts left on a channel of another box "
                "will play along with it.",
                remedy="Switch parts off on the boxes, or put one of them on an output of its own.",
                socket=socket.uid,
                facts=(str(total),),
            )


def thru_chain_long(plan: Plan) -> Iterator[Finding]:
    """More boxes on one chain of thrus than is good for the signal's edges."""
    for box, socket in _sends(plan):
        chain = max((sum(hop.by_thru for hop in r.hops) + 1 for r in heard_from(plan.rig, socket.uid)), default=0)
        if chain > LONGEST_CHAIN:
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{chain} boxes are chained on {plan.rig.socket_text(socket.uid)}",
                message="Each thru rounds the signal's edges a little more; the last boxes of a chain may miss bytes.",
                remedy="Use a thru splitter, or another MIDI output for some of them.",
                socket=socket.uid,
                facts=(str(chain),),
            )


def passed_on_by_software(plan: Plan) -> Iterator[Finding]:
    """An instrument that is reached through a box's processor, which costs it time."""
    reported: dict[tuple[str, str], list[str]] = defaultdict(list)
    for instrument in plan.instruments:
        mine = next((r for r in heard_from(plan.rig, instrument.send) if r.box == instrument.box), None)
        routes = [route for route in mine.routes if plan.rig.find(route.target)[1].kind == "midi"] if mine else []
        if routes:
            reported[instrument.box, routes[0].uid].append(instrument.uid)
            first, number = plan.rig.find(routes[0].target)[0], len(routes)
            if len(reported[instrument.box, routes[0].uid]) == 1:
                yield Finding(
                    severity=WORTH_KNOWING,
                    about=instrument.uid,
                    title=f"{instrument.name} is {number * SOFT_MS:.2f} ms later for the way through {first.name}",
                    message=f"{first.name} takes each message in before it passes it on: at least {SOFT_MS:.2f} ms a "
                    "note, unlike a hardware thru. A sounding measures it along with the rest.",
                    remedy="Nothing, where that is no harm; otherwise use a thru socket or an output of its own.",
                    socket=routes[0].target,
                    facts=(str(number),),
                )


def _sends(plan: Plan):
    """The host's DIN outputs."""
    for end in ports_of(plan.rig, "out"):
        if is_interface(end.box.shape):
            yield end.box, end.socket
