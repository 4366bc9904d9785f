"""Rules about boxes and cables: what is plugged so that it cannot work well, and what is plugged for nothing."""

from collections import defaultdict
from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, Lead, listed
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.change import replug, set_cable, with_cable, without_cable
from hypotaxis.core.rig.plug import kind_of_cable, pair_of
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.trips import host_audio, recording_interface
from hypotaxis.core.rig.values import LINKS, Box, Cable, Socket

LONGEST_DIN_M = 15.0
"""50 ft (MIDI 1.0 Detailed Specification, current loop)."""
LONGEST_USB_M = 5.0
"""Of one cable (USB 2.0 specification)."""
LONGEST_ACTIVE_M = 25.0
"""Of an active USB cable (common practice: five cables' length)."""
LONGEST_UNBALANCED_M = 6.0
"""Common practice: beyond it hum and loss of treble are heard."""


def nothing_connected(plan: Plan) -> Iterator[Finding]:
    """A box without any cable."""
    for box in plan.rig.boxes:
        if box.shape != "host" and not any(plan.rig.cable_at(socket.uid) for socket in box.sockets):
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{box.name} is not cabled",
                message="No cable ends at it, so it can neither hear nor be heard.",
                remedy="Choose one of its sockets on the sheet, then the one the cable goes to.",
                lead=_first_plug(box),
            )


def _first_plug(box: Box) -> Lead | None:
    plugs = (socket for socket in box.sockets if socket.pluggable and socket.kind not in LINKS)
    first = next(plugs, None)
    return Lead("cable", f"Cable {first.label}", first.uid) if first else None


def midi_run_too_long(plan: Plan) -> Iterator[Finding]:
    """A MIDI cable beyond what the current loop carries."""
    for cable in plan.rig.cables:
        if kind_of_cable(plan.rig, cable) == "din" and (cable.length_m or 0) > LONGEST_DIN_M:
            yield _too_long(
                plan,
                cable,
                f"One cable carries {LONGEST_DIN_M:g} m; beyond that notes get lost or hang.",
                "Put a MIDI interface nearer to the box, or go by network.",
            )


def usb_run_too_long(plan: Plan) -> Iterator[Finding]:
    """A USB cable beyond the limit of one cable."""
    for cable in plan.rig.cables:
        kind = kind_of_cable(plan.rig, cable)
        most_m = {"usb": LONGEST_USB_M, "usb-active": LONGEST_ACTIVE_M}.get(kind)
        if most_m is None or (cable.length_m or 0) <= most_m:
            continue
        active = Fix("Note it as an active cable", lambda p, uid=cable.uid: set_cable(p, uid, kind="usb-active"))
        yield _too_long(
            plan,
            cable,
            f"One {'active ' if kind == 'usb-active' else ''}cable carries {most_m:g} m; beyond that the link drops "
            "out "
            "now and then.",
            "Use an active cable, a powered hub nearer to the box, or MIDI by network.",
            active if kind == "usb" and cable.length_m <= LONGEST_ACTIVE_M else None,
        )


def unbalanced_run_long(plan: Plan) -> Iterator[Finding]:
    """An unbalanced audio cable that is long enough to catch hum."""
    for cable in plan.rig.cables:
        if kind_of_cable(plan.rig, cable) == "unbalanced" and (cable.length_m or 0) > LONGEST_UNBALANCED_M:
            yield _too_long(
                plan,
                cable,
                f"Unbalanced audio catches hum and loses treble beyond about {LONGEST_UNBALANCED_M:g} m.",
                "Use a balanced cable where both sockets are balanced, or a direct box at the box.",
                severity=WORTH_KNOWING,
            )


def _too_long(plan: Plan, cable, message: str, remedy: str, fix: Fix | None = None, severity: str = RISKY) -> Finding:
    return Finding(
        severity=severity,
        about=plan.rig.find(cable.source)[0].uid,
        title=f"{cable.length_m:g} m from {plan.rig.socket_text(cable.source)} is too far",
        message=message,
        remedy=remedy,
        socket=cable.source,
        facts=(f"{cable.length_m:g}", kind_of_cable(plan.rig, cable)),
        fix=fix,
    )


def stereo_into_mono(plan: Plan) -> Iterator[Finding]:
    """A socket that carries both sides, in an input that takes one: the sides cancel."""
    for cable, one, other in _audio_cables(plan):
        if one[1].both_sides and not other[1].both_sides:
            yield Finding(
                severity=RISKY,
                about=one[0].uid,
                title=f"{plan.rig.socket_text(cable.source)} is stereo, {plan.rig.socket_text(cable.target)} is mono",
                message="A balanced input takes the difference of the two contacts: what is in the middle vanishes, "
                "and "
                "what is left sounds hollow.",
                remedy="Use a cable that parts the sides onto two inputs, or a mono out.",
                socket=cable.target,
                facts=(cable.uid,),
                fix=_from_a_mono_out(plan, cable),
            )


def _from_a_mono_out(plan: Plan, cable: Cable) -> Fix | None:
    """The cable begins at a free out of the box that carries one side."""
    box, _ = plan.rig.find(cable.source)
    outs = (s for s in box.sockets if s.kind == "audio" and s.direction == "out" and not (s.both_sides or s.separate))
    out = next((one for one in outs if plan.rig.cable_at(one.uid) is None), None)
    if out is None:
        return None
    return Fix(f"Use {out.label} instead", lambda p: replug(p, cable, cable.source, out.uid))


def mono_into_stereo(plan: Plan) -> Iterator[Finding]:
    """A mono out in a socket that takes both sides: only the left one sounds."""
    for cable, one, other in _audio_cables(plan):
        if other[1].both_sides and not one[1].both_sides:
            yield Finding(
                severity=WORTH_KNOWING,
                about=other[0].uid,
                title=f"Only the left side of {plan.rig.socket_text(cable.target)} is fed",
                message=f"{plan.rig.socket_text(cable.source)} is mono, and the socket takes left and right on one "
                "plug.",
                remedy="Join two outs by a cable that brings them onto one plug, or pan the sound to the middle.",
                socket=cable.target,
                facts=(cable.uid,),
            )


def _audio_cables(plan: Plan):
    for cable in plan.rig.cables:
        one, other = plan.rig.find(cable.source), plan.rig.find(cable.target)
        if one and other and one[1].kind == "audio":
            yield cable, one, other


def _unplug(plan: Plan, cable) -> Fix:
    return Fix(
        f"Unplug {plan.rig.socket_text(cable.source)}", lambda p, uid=cable.uid: without_cable(p, uid), "Unplug it"
    )


def second_interface(plan: Plan) -> Iterator[Finding]:
    """Audio inputs of an interface beside the one that is recorded by."""
    first = recording_interface(plan.rig)
    others = {box.uid: box for box, _ in host_audio(plan.rig, "in") if box is not first}
    for box in others.values():
        yield Finding(
            severity=WORTH_KNOWING,
            about=box.uid,
            title=f"{box.name} is not recorded from",
            message=f"Sound is recorded by one interface, {first.name}: the clocks of two wander apart.",
            remedy=f"Cable what comes home to {first.name}, and use {box.name} for MIDI and to listen.",
        )


def right_without_left(plan: Plan) -> Iterator[Finding]:
    """Only the right socket of a pair is plugged: many boxes sum to mono on the left one alone."""
    for box, socket in plan.rig.each_socket():
        other = box.socket(socket.stereo) if socket.stereo else None
        if is_interface(box.shape) or socket.direction != "out" or other is None or socket.is_left:
            continue
        if plan.rig.cable_at(socket.uid) and not plan.rig.cable_at(other.uid):
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"Only {socket.label} of {box.name} is plugged",
                message=f"Many boxes sum both sides on {other.label} alone; {socket.label} carries half of the sound.",
                remedy=f"Plug {other.label} too, or instead.",
                socket=socket.uid,
                fix=_with_the_left(plan, plan.rig.cable_at(socket.uid), other),
            )


def _with_the_left(plan: Plan, cable: Cable, left: Socket) -> Fix:
    """The left side beside the right one where its neighbour is free, otherwise in its place."""
    both = pair_of(plan.rig, cable.source, cable.target)
    if both:
        return Fix(f"Plug {left.label} into {plan.rig.socket_text(both[1])} too", lambda p: with_cable(p, *both))
    return Fix(f"Plug {left.label} instead", lambda p: replug(p, cable, cable.source, left.uid))


def effect_one_way(plan: Plan) -> Iterator[Finding]:
    """An effect that is fed and not heard, or heard and not fed."""
    for box in plan.rig.boxes:
        if not box.shape.startswith("effect"):
            continue
        ways = {
            direction: any(
                plan.rig.cable_at(s.uid) for s in box.sockets if s.kind == "audio" and s.direction == direction
            )
            for direction in ("in", "out")
        }
        if ways["in"] != ways["out"]:
            state = "is fed, and no return brings it home" if ways["in"] else "comes home, and nothing feeds it"
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{box.name} {state}",
                message="An effect works as a loop: out to it and back.",
                remedy="Plug the other half of the loop.",
            )


def audio_into_itself(plan: Plan) -> Iterator[Finding]:
    """Audio that comes back to where it came from, by cables and what boxes pass on: it feeds back."""
    reported: set[frozenset[str]] = set()
    for cable in plan.rig.cables:
        circle = _audio_circle(plan, cable)
        if not circle or frozenset(one.uid for one in circle) in reported:
            continue
        reported.add(frozenset(one.uid for one in circle))
        names = [plan.rig.find(one.source)[0].name for one in circle]
        source, target = plan.rig.find(cable.source), plan.rig.find(cable.target)
        alone = len(circle) == 1
        yield Finding(
            severity=WRONG,
            about=source[0].uid,
            also=tuple(dict.fromkeys(plan.rig.find(one.source)[0].uid for one in circle[1:])),
            title=f"{names[0]} is plugged into itself" if alone else f"Audio runs in a loop through {listed(names)}",
            message=f"{source[1].label} goes back into {target[1].label}: it feeds back, as loud as it can."
            if alone
            else f"{' → '.join([*names, names[0]])}: it feeds back, as loud as it can.",
            remedy="Take this cable out before you switch anything on.",
            socket=cable.source,
            facts=tuple(sorted(one.uid for one in circle)),
            fix=_unplug(plan, cable),
        )


def _audio_circle(plan: Plan, first: Cable) -> tuple[Cable, ...]:
    """The shortest circle of cables that begins with this one, through what boxes pass on; empty where there is none.
    The host is no part of it: what it sends is its own, and a cable from its output to its input measures it."""
    found = plan.rig.find(first.source)
    if found is None or found[1].kind != "audio":
        return ()
    open_ends: list[tuple[Cable, ...]] = [(first,)]
    seen = {first.uid}
    while open_ends:
        way = open_ends.pop(0)
        for out, _ in plan.rig.onward(way[-1].target):
            if out.uid == first.source:
                return way
            cable = plan.rig.cable_at(out.uid)
            if cable and cable.source == out.uid and cable.uid not in seen:
                seen.add(cable.uid)
                open_ends.append((*way, cable))
    return ()


def same_name(plan: Plan) -> Iterator[Finding]:
    """Boxes, or instruments, that cannot be told apart by their names."""
    for things, word in ((plan.rig.boxes, "boxes"), (plan.instruments, "instruments")):
        called = defaultdict(list)
        for thing in things:
            called[thing.name.strip().casefold()].append(thing)
        for alike in called.values():
            if len(alike) > 1:
                yield Finding(
                    severity=WORTH_KNOWING,
                    about=alike[0].uid,
                    also=tuple(thing.uid for thing in alike[1:]),
                    title=f"{len(alike)} {word} are called {alike[0].name}",
                    message="In lists and on labels they cannot be told apart.",
                    remedy="Give each a name of its own.",
                )
