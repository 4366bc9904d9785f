"""Rules about keeping step: what a box makes of the clock it gets, and what the loop makes of its pattern."""

from collections.abc import Iterator
from dataclasses import replace

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, Lead, listed
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.change import set_box, set_rig, set_sockets
from hypotaxis.core.rig.listening import leading_boxes
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.rig.values import Box
from hypotaxis.core.sync.divisions import period_ms, rate_hz
from hypotaxis.core.sync.following import (
    bar_ticks,
    clocked,
    cures,
    misstep_told,
    needs_clock,
    ports_that_send,
    sending_of,
    walk,
)
from hypotaxis.core.sync.values import ARPEGGIO, NOTHING, PATTERN, POSITION, SONG_POSITION, START, WRAP_WORDS
from hypotaxis.core.units import CLOCKS_A_QUARTER

MOST_JITTER_MS = 1.0
EARS = {"usb": "USB", "midi": "DIN"}


def _send(plan: Plan, port: str, **fields) -> Plan:
    return set_sockets(plan, {port: {"sending": replace(sending_of(plan, port), **fields)}})


def pattern_parts(plan: Plan) -> Iterator[Finding]:
    """A pattern that is not where the host counts it, from some wrap on."""
    if plan.song is None:
        return
    for uid, ways in clocked(plan).items():
        box, port = plan.rig.box(uid), ways[0].port
        sending = sending_of(plan, port)
        off = next((ahead for ahead in walk(plan.song, sending, box.following) if ahead), None)
        if off is None:
            continue
        told = misstep_told(off, bar_ticks(plan.song), box.following.lasts_ticks)
        cure = next((wrap for wrap in cures(plan.song, sending, box.following) if wrap != sending.wrap), "")
        yield Finding(
            severity=WRONG,
            about=uid,
            lead=Lead("sync", "See it on Sync", uid),
            title=f"{box.name} parts from the song at the loop",
            message=f"At the wrap {WRAP_WORDS[sending.wrap]} is sent, and its pattern comes out {told}.",
            remedy=f"Send {WRAP_WORDS[cure]} there instead."
            if cure
            else "Take a loop that is a multiple of its pattern, or another length of pattern.",
            socket=port,
            facts=(told, sending.wrap),
            fix=Fix(f"Send {WRAP_WORDS[cure]}", lambda p, port=port, cure=cure: _send(p, port, wrap=cure))
            if cure
            else None,
        )


def position_ignored(plan: Plan) -> Iterator[Finding]:
    """Song position is sent at the wrap to a box that ignores it."""
    for uid, ways in clocked(plan).items():
        box, port = plan.rig.box(uid), ways[0].port
        if sending_of(plan, port).wrap == POSITION and SONG_POSITION not in box.following.obeys:
            yield Finding(
                severity=RISKY,
                about=uid,
                lead=Lead("sync", "See it on Sync", uid),
                title=f"{box.name} ignores the song position it is sent",
                message="It is stopped at the wrap and goes on where it stood, not where the song is.",
                remedy="Send it nothing or start there, whichever keeps it in step.",
                socket=port,
                fix=Fix("Send nothing", lambda p, port=port: _send(p, port, wrap=NOTHING)),
            )


def clock_by_other_socket(plan: Plan) -> Iterator[Finding]:
    """Clock comes by DIN while the box listens to USB, or the reverse."""
    for uid, ways in clocked(plan).items():
        box = plan.rig.box(uid)
        by = box.following.by
        ears = {EARS.get(way.ears, "") for way in ways}
        if by and by not in ears:
            comes = listed(sorted(one for one in ears if one))
            yield Finding(
                severity=WRONG,
                about=uid,
                lead=Lead("sync", "See it on Sync", uid),
                title=f"{box.name} takes its clock from {by}, and it comes by {comes}",
                message="It hears none: its pattern stays silent, or goes at its own tempo.",
                remedy=f"Set its clock to {comes} on the box, or send clock on the port that leads to its {by}.",
                socket=ways[0].port,
                facts=(by, comes),
                fix=Fix(
                    f"Plan it to take {comes}",
                    lambda p, uid=uid, by=comes: set_box(p, uid, following=replace(p.rig.box(uid).following, by=by)),
                )
                if len(ears) == 1
                else None,
            )


def clocked_twice(plan: Plan) -> Iterator[Finding]:
    """Two clocks come into one box."""
    for uid, ways in clocked(plan).items():
        box = plan.rig.box(uid)
        if len(ways) < 2 or not _follows(box) or (box.following.by and len({way.ears for way in ways}) == len(ways)):
            continue
        ports = [plan.rig.socket_text(way.port) for way in ways]
        last = ways[-1].port
        yield Finding(
            severity=WRONG,
            about=uid,
            lead=Lead("sync", "See it on Sync", uid),
            title=f"{box.name} gets clock twice",
            message=f"It comes from {listed(ports)}: counted together it runs at twice the tempo, or stumbles.",
            remedy="Send clock on one of them, or say which socket it listens to.",
            socket=last,
            facts=tuple(ports),
            fix=Fix(f"No clock on {ports[-1]}", lambda p, port=last: set_sockets(p, {port: {"clock": False}}))
            if last != ways[0].port
            else None,
        )


def _follows(box: Box) -> bool:
    return box.setup.takes_clock or box.setup.clock == "external" or bool(box.following.plays)


def stands_still(plan: Plan) -> Iterator[Finding]:
    """An arpeggio, LFO or delay that goes by a clock that nobody sends."""
    heard = clocked(plan)
    for box in plan.rig.boxes:
        own_finding = box.setup.clock == "external"
        if not needs_clock(box.following) or box.uid in heard or box.uid == plan.rig.leader or own_finding:
            continue
        arpeggio = box.following.plays == ARPEGGIO
        yield Finding(
            severity=RISKY,
            about=box.uid,
            lead=Lead("sync", "See it on Sync", box.uid),
            title=f"The {box.following.plays} of {box.name} gets no clock",
            message="It stands still until clock comes, and clock runs only while the song does."
            if arpeggio
            else f"It swings at a rate of its own{_expected(plan, box)}.",
            remedy="Send clock on the port that leads to it, on the Sync step.",
        )


def _expected(plan: Plan, box: Box) -> str:
    lasts = box.following.lasts_ticks
    if not lasts or plan.song is None:
        return ""
    bpm, quarters = plan.song.tempo.bpm_at(0), lasts / CLOCKS_A_QUARTER
    wanted = f"{period_ms(quarters, bpm):.1f} ms or {rate_hz(quarters, bpm):.3g} Hz"
    return f", where {wanted} are wanted at {bpm:.4g} BPM"


def clock_held_back(plan: Plan) -> Iterator[Finding]:
    """A box on the way holds the clock back that another waits for."""
    heard = clocked(plan)
    for end in ports_of(plan.rig, "out"):
        if not end.socket.clock:
            continue
        for reached in heard_from(plan.rig, end.socket.uid):
            box = plan.rig.box(reached.box)
            if reached.clock or box.uid in heard or box.setup.clock != "external":
                continue
            filters = next((hop.route for hop in reached.hops if hop.route and not hop.route.clock), None)
            owner = plan.rig.find(filters.source)[0].name if filters else "a box on the way"
            yield Finding(
                severity=RISKY,
                about=box.uid,
                lead=Lead("sync", "See it on Sync", box.uid),
                title=f"{owner} holds back the clock of {box.name}",
                message=f"{plan.rig.socket_text(end.socket.uid)} sends clock, and a route on the way lets none pass.",
                remedy=f"Let clock pass on the route inside {owner}.",
                socket=end.socket.uid,
                facts=(owner,),
            )


def leader_receives(plan: Plan) -> Iterator[Finding]:
    """The box that leads gets the host's clock as well."""
    ways = clocked(plan).get(plan.rig.leader, [])
    if ways:
        box, port = plan.rig.box(plan.rig.leader), ways[0].port
        yield Finding(
            severity=WRONG,
            about=box.uid,
            lead=Lead("sync", "See it on Sync", box.uid),
            title=f"{box.name} leads, and gets a clock as well",
            message="What follows itself by way of the host runs away or stumbles.",
            remedy=f"Send no clock on {plan.rig.socket_text(port)}.",
            socket=port,
            fix=Fix("Send it no clock", lambda p, port=port: set_sockets(p, {port: {"clock": False}})),
        )


def leader_unheard(plan: Plan) -> Iterator[Finding]:
    """A box leads, and the host hears none of its clock."""
    box = plan.rig.box(plan.rig.leader)
    if box and box.uid not in leading_boxes(plan.rig):
        yield Finding(
            severity=RISKY,
            about=box.uid,
            title=f"{box.name} leads, and its clock does not reach the host",
            message="Nothing of the host goes by it: no pass can begin with its start key, and its tempo is not known.",
            remedy="Bring its MIDI or USB to a port, and give that port the duty “clock from”; or let the host lead.",
            fix=Fix("Let the host lead", lambda p: set_rig(p, leader="")),
        )


def other_time_code(plan: Plan) -> Iterator[Finding]:
    """Time code leaves at another rate than a box is set to."""
    for end in ports_of(plan.rig, "out"):
        rate = end.socket.sending.time_code if end.socket.sending else ""
        for reached in heard_from(plan.rig, end.socket.uid) if rate and end.socket.clock else ():
            box = plan.rig.box(reached.box)
            wanted = box.following.time_code
            if wanted and wanted != rate:
                yield Finding(
                    severity=WRONG,
                    about=box.uid,
                    lead=Lead("sync", "See it on Sync", box.uid),
                    title=f"{box.name} is set to {wanted} frames a second, and {rate} are sent",
                    message="It reads the pieces as other times, or not at all.",
                    remedy=f"Set the box to {rate}, or send {wanted}.",
                    socket=end.socket.uid,
                    facts=(wanted, rate),
                    fix=Fix(
                        f"Send {wanted}",
                        lambda p, port=end.socket.uid, wanted=wanted: _send(p, port, time_code=wanted),
                    ),
                )


def clock_wobbles(plan: Plan) -> Iterator[Finding]:
    """Clock is sent anew so often on its way that what it may wait for adds up to more than a millisecond."""
    for uid, ways in clocked(plan).items():
        box, way = plan.rig.box(uid), ways[0]
        if way.jitter_ms > MOST_JITTER_MS and _follows(box):
            yield Finding(
                severity=WORTH_KNOWING,
                about=uid,
                lead=Lead("sync", "See it on Sync", uid),
                title=f"The clock of {box.name} may wobble by {way.jitter_ms:.1f} ms",
                message=f"It goes over {way.wires} wires one after the other, and waits on each for the byte that is "
                "going there.",
                remedy="Send it by a port that is nearer, or plug the box into a hardware thru.",
                socket=way.port,
                facts=(str(way.wires),),
            )


def length_unknown(plan: Plan) -> Iterator[Finding]:
    """A song is looped, and how long a clocked box's pattern is has not been said."""
    if plan.song is None or plan.song.times == 1:
        return
    unknown = [
        plan.rig.box(uid)
        for uid in clocked(plan)
        if plan.rig.box(uid).following.plays and plan.rig.box(uid).following.length_ticks is None
    ]
    if unknown:
        names = listed([box.name for box in unknown])
        yield Finding(
            severity=WORTH_KNOWING,
            about=unknown[0].uid,
            lead=Lead("sync", "See it on Sync", unknown[0].uid),
            also=tuple(box.uid for box in unknown[1:]),
            title=f"How long the pattern of {names} is has not been said",
            message="Whether it stays in step at the loop cannot be told.",
            remedy="Say it on the Sync step.",
        )


def pattern_beside_notes(plan: Plan) -> Iterator[Finding]:
    """A box is started, so that it plays its own pattern, and is sent notes as well."""
    for uid, ways in clocked(plan).items():
        box, port = plan.rig.box(uid), ways[0].port
        started = (
            _follows(box)
            and box.following.plays == PATTERN
            and START in box.following.obeys
            and any(sending.keys for socket, sending in ports_that_send(plan) if socket.uid == port)
        )
        names = [one.name for one in plan.instruments_of(uid)] if started else []
        if names:
            yield Finding(
                severity=WORTH_KNOWING,
                about=uid,
                lead=Lead("sync", "See it on Sync", uid),
                title=f"{box.name} is started with the song, and is sent notes as well",
                message=f"Its own pattern then sounds beside the notes of {listed(names)}, unless it holds none.",
                remedy="Choose an empty pattern on the box, or send it no start on the Sync step.",
                socket=port,
                fix=Fix("Send it no start", lambda p, port=port: _send(p, port, keys=False)),
            )


SERIOUS = (pattern_parts, clock_by_other_socket, clocked_twice, leader_receives, other_time_code)
RISKIER = (leader_unheard, position_ignored, stands_still, clock_held_back)
LESSER = (clock_wobbles, pattern_beside_notes, length_unknown)
RULES = (*SERIOUS, *RISKIER, *LESSER)
"""The most serious first: what is wrong, what is risky, what is worth knowing."""
NAMES = frozenset(rule.__name__.replace("_", "-") for rule in RULES)
