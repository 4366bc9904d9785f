"""Rules about levels: what is too loud for where it goes, or too weak, with the decibels."""

import math
from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding
from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.levels import CLASSES, levels_along, maximum_dbu, nominal_dbu
from hypotaxis.core.rig.trips import host_audio, ways_into
from hypotaxis.core.rig.values import Box, Cable, Socket

LINE = ("line +4", "line -10")
LEAST_HEADROOM_DB = 6.0
"""Common practice: peaks of played music stand well above a steady sine."""
WEAK_DB = 14.0


def _joints(plan: Plan, sources: tuple[str, ...], targets: tuple[str, ...]):
    """Audio and voltage cables from an out of one of these levels to an in of one of those."""
    for cable, one, other in _levelled(plan):
        if one[1].level in sources and other[1].level in targets:
            yield cable, one, other


@kept_with_it
def _levelled(plan: Plan) -> tuple[tuple[Cable, tuple[Box, Socket], tuple[Box, Socket]], ...]:
    """Every cable between two sockets that have a level, with its ends."""
    ends = ((cable, plan.rig.find(cable.source), plan.rig.find(cable.target)) for cable in plan.rig.cables)
    return tuple((cable, one, other) for cable, one, other in ends if one and other and one[1].level and other[1].level)


def _finding(plan: Plan, cable: Cable, one: tuple[Box, Socket], other: tuple[Box, Socket], **fields) -> Finding:
    return Finding(about=one[0].uid, socket=cable.target, facts=(cable.uid, one[1].level, other[1].level), **fields)


def _over(one: Socket, other: Socket) -> float:
    return nominal_dbu(one) - nominal_dbu(other)


def modular_into_line(plan: Plan) -> Iterator[Finding]:
    """A modular out plugged straight into an input for a lower level: it can damage it."""
    for cable, one, other in _joints(plan, ("modular",), (*LINE, "instrument", "microphone")):
        over, most = _over(one[1], other[1]), maximum_dbu(other[1])
        pad = math.ceil(max(over, CLASSES["modular"].maximum_dbu - most))
        yield _finding(
            plan,
            cable,
            one,
            other,
            severity=WRONG,
            title=f"{one[0].name} is {over:.0f} dB above what {plan.rig.socket_text(cable.target)} expects",
            message=f"Modular level (+13.2 dBu at 10 V peak to peak, up to +19.2 dBu) goes straight into "
            f"{CLASSES[other[1].level].name}, which takes {most:+.1f} dBu at most. It clips, and can damage the input.",
            remedy=f"Put a level converter between, or a pad of {pad} dB.",
        )


def line_into_modular(plan: Plan) -> Iterator[Finding]:
    """A line out plugged straight into a modular input, which needs more."""
    for cable, one, other in _joints(plan, (*LINE, "instrument", "microphone"), ("modular",)):
        under = -_over(one[1], other[1])
        yield _finding(
            plan,
            cable,
            one,
            other,
            severity=RISKY,
            title=f"{one[0].name} is {under:.0f} dB too weak for {plan.rig.socket_text(cable.target)}",
            message="A modular input wants volts: envelopes will not open, filters will hardly be driven.",
            remedy=f"Put a level converter between; about {under:.0f} dB of gain are needed.",
        )


def line_into_microphone(plan: Plan) -> Iterator[Finding]:
    """A line out in a microphone input that cannot take it."""
    for cable, one, other in _joints(plan, LINE, ("microphone",)):
        room = maximum_dbu(other[1]) - nominal_dbu(one[1])
        if room >= LEAST_HEADROOM_DB:
            continue
        yield _finding(
            plan,
            cable,
            one,
            other,
            severity=RISKY,
            title=f"{one[0].name} is {_over(one[1], other[1]):.0f} dB above a microphone",
            message=f"{plan.rig.socket_text(cable.target)} takes {maximum_dbu(other[1]):+.1f} dBu at most; line level "
            f"leaves it {room:.0f} dB of headroom.",
            remedy=f"Use a line input or a direct box, or a pad of {math.ceil(LEAST_HEADROOM_DB - room + 4)} dB "
            "with the "
            "preamp all the way down.",
        )


def line_into_instrument(plan: Plan) -> Iterator[Finding]:
    """A line out in an instrument input."""
    for cable, one, other in _joints(plan, LINE, ("instrument",)):
        over = _over(one[1], other[1])
        yield _finding(
            plan,
            cable,
            one,
            other,
            severity=RISKY,
            title=f"{one[0].name} is {over:.0f} dB too loud for {plan.rig.socket_text(cable.target)}",
            message="An instrument input expects the level of a guitar; line level clips it before the box is half up.",
            remedy=f"Switch the input to line, use a line input, or turn the box down by {over:.0f} dB and lose its "
            "quiet.",
        )


def too_weak(plan: Plan) -> Iterator[Finding]:
    """An instrument or microphone out in an input that expects line level."""
    for cable, one, other in _joints(plan, ("instrument", "microphone"), LINE):
        under = -_over(one[1], other[1])
        if under >= WEAK_DB:
            yield _finding(
                plan,
                cable,
                one,
                other,
                severity=WORTH_KNOWING,
                title=f"{one[0].name} is {under:.0f} dB too weak for {plan.rig.socket_text(cable.target)}",
                message="It is heard, with as much noise as has to be turned up with it.",
                remedy="Use an instrument or microphone input, or a preamp between.",
            )


def other_line_level(plan: Plan) -> Iterator[Finding]:
    """The two line levels on one cable: 11.8 dB apart."""
    for cable, one, other in _joints(plan, LINE, LINE):
        over = _over(one[1], other[1])
        # Where no room is left at all, that is what is said.
        if one[1].level == other[1].level or maximum_dbu(other[1]) - nominal_dbu(one[1]) < LEAST_HEADROOM_DB:
            continue
        word = "louder" if over > 0 else "quieter"
        yield _finding(
            plan,
            cable,
            one,
            other,
            severity=WORTH_KNOWING,
            title=f"{one[0].name} is {abs(over):.1f} dB {word} than {plan.rig.socket_text(cable.target)} expects",
            message=f"{CLASSES[one[1].level].name} goes into {CLASSES[other[1].level].name}.",
            remedy="Switch one of them to the other's level, or allow for it with the gain.",
        )


def no_headroom(plan: Plan) -> Iterator[Finding]:
    """A way home, straight or with all that stands on it, that leaves too little room at the input."""
    for box, socket in host_audio(plan.rig, "in"):
        tight = [
            (points[-1], way)
            for way in ways_into(plan.rig, socket.uid)
            if not (len(way) == 1 and _said_of_the_joint(plan, way[0]))
            if (points := levels_along(plan.rig, way)) and points[-1].headroom_db is not None
            if points[-1].headroom_db < LEAST_HEADROOM_DB
        ]
        if not tight:
            continue
        point, way = min(tight, key=lambda one: one[0].headroom_db)
        source = plan.rig.find(way[0].source)[0]
        after = "After everything on its way it" if len(way) > 1 else "It"
        yield Finding(
            severity=RISKY,
            about=box.uid,
            also=(source.uid,),
            title=f"{source.name} arrives at {socket.name} with {point.headroom_db:.0f} dB of headroom",
            message=f"{after} stands at {point.level_dbu:+.1f} dBu; the input takes {point.maximum_dbu:+.1f} dBu.",
            remedy="Turn down what stands on the way, or put a pad in front of the input."
            if len(way) > 1
            else f"Turn {source.name} down, or put a pad in front of the input.",
            socket=socket.uid,
            facts=tuple(cable.uid for cable in way),
        )


def _said_of_the_joint(plan: Plan, cable: Cable) -> bool:
    """Whether another rule already says that a cable's out is too loud for its kind of input."""
    one, other = plan.rig.find(cable.source)[1], plan.rig.find(cable.target)[1]
    return (one.level == "modular" and other.level != "modular") or (
        one.level in LINE and other.level in ("microphone", "instrument")
    )
