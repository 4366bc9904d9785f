"""Rules about boxes and cables: what is plugged so that it cannot work well, and what is plugged for nothing."""

from collections import defaultdict
from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.rig.values import Box, Socket

LONGEST_DIN_M = 15.0
"""50 ft (MIDI 1.0 Detailed Specification, current loop)."""
LONGEST_USB_M = 5.0
"""Of one cable (USB 2.0 specification)."""
LONGEST_CHAIN = 3
"""Boxes on one chain of thrus; beyond it a splitter (common practice)."""


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
            )


def midi_run_too_long(plan: Plan) -> Iterator[Finding]:
    """A MIDI cable beyond what the current loop carries."""
    yield from _too_long(
        plan,
        "midi",
        LONGEST_DIN_M,
        "notes get lost or hang",
        "Put a MIDI interface nearer to the box, or go by network.",
    )


def usb_run_too_long(plan: Plan) -> Iterator[Finding]:
    """A USB cable beyond the limit of one cable."""
    yield from _too_long(
        plan,
        "usb",
        LONGEST_USB_M,
        "the link drops out now and then",
        "Use an active cable, a powered hub half-way, or MIDI by network.",
    )


def _too_long(plan: Plan, kind: str, most_m: float, harm: str, remedy: str) -> Iterator[Finding]:
    for cable in plan.rig.cables:
        found = plan.rig.find(cable.source)
        if found and found[1].kind == kind and (cable.length_m or 0) > most_m:
            yield Finding(
                severity=RISKY,
                about=found[0].uid,
                title=f"{cable.length_m:g} m from {plan.rig.socket_text(cable.source)} is too far",
                message=f"One cable carries {most_m:g} m; beyond that {harm}.",
                remedy=remedy,
                socket=cable.source,
            )


def thru_chain_long(plan: Plan) -> Iterator[Finding]:
    """More boxes on one chain of thrus than is good for the signal's edges."""
    for box, socket in _host_sockets(plan, "midi", "out"):
        chain = heard_from(plan.rig, socket.uid)
        if len(chain) > LONGEST_CHAIN:
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{len(chain)} boxes hang on {plan.rig.socket_text(socket.uid)}",
                message="Each thru rounds the signal's edges a little more; the last boxes of a chain may miss bytes.",
                remedy="Use a thru splitter, or another MIDI output for some of them.",
                socket=socket.uid,
            )


def interface_not_joined(plan: Plan) -> Iterator[Finding]:
    """An interface without a cable to the computer."""
    for box in plan.rig.boxes:
        links = [socket for socket in box.sockets if socket.kind == "usb"]
        if is_interface(box.shape) and links and not any(plan.rig.cable_at(socket.uid) for socket in links):
            yield Finding(
                severity=WRONG,
                about=box.uid,
                title=f"{box.name} is not joined to the computer",
                message="The host sees none of its ports and inputs.",
                remedy=f"Cable {box.name} {links[0].label} to a USB socket of the computer.",
                socket=links[0].uid,
            )


def send_idle(plan: Plan) -> Iterator[Finding]:
    """A MIDI output that is cabled, and that no instrument sends on."""
    used = {instrument.send for instrument in plan.instruments}
    for box, socket in _host_sockets(plan, "midi", "out"):
        reached = heard_from(plan.rig, socket.uid)
        if reached and socket.uid not in used:
            first = plan.rig.box(reached[0].box)
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{plan.rig.socket_text(socket.uid)} is idle",
                message=f"It is cabled to {first.name}, and no instrument sends on it.",
                remedy=f"Define an instrument for {first.name}, or take the cable out.",
                socket=socket.uid,
            )


def return_idle(plan: Plan) -> Iterator[Finding]:
    """An audio input at which a cable ends, and that no instrument takes home."""
    used = {uid for instrument in plan.instruments for uid in instrument.returns}
    for box, socket in _host_sockets(plan, "audio", "in"):
        source = plan.rig.far_end(socket.uid)
        if source and socket.uid not in used and not source[1].separate:
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{plan.rig.socket_text(socket.uid)} is idle",
                message=f"{plan.rig.socket_text(source[1].uid)} ends there, and no instrument takes it home.",
                remedy="Choose it as a return, or take the cable out.",
                socket=socket.uid,
            )


def separate_out_unheard(plan: Plan) -> Iterator[Finding]:
    """A separate out that is plugged, and whose input no instrument takes home."""
    used = {uid for instrument in plan.instruments for uid in instrument.returns}
    for cable in plan.rig.cables:
        found, target = plan.rig.find(cable.source), plan.rig.find(cable.target)
        if found and target and found[1].separate and cable.target not in used:
            yield Finding(
                severity=RISKY,
                about=found[0].uid,
                title=f"The {found[1].separate} of {found[0].name} is missing",
                message=f"A cable in {found[1].label} takes the {found[1].separate} out of the main outs, and no "
                f"instrument takes {plan.rig.socket_text(cable.target)} home.",
                remedy=f"Choose that input as a return, or pull the cable out of {found[1].label}.",
                socket=cable.source,
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
                remedy=f"Plug {other.label} instead, or both.",
                socket=socket.uid,
            )


def effect_one_way(plan: Plan) -> Iterator[Finding]:
    """An effect that is fed and not heard, or heard and not fed."""
    for box in plan.rig.boxes:
        if box.shape != "effect":
            continue
        ways = {
            direction: any(
                plan.rig.cable_at(s.uid) for s in box.sockets if s.kind == "audio" and s.direction == direction
            )
            for direction in ("in", "out")
        }
        if ways["in"] != ways["out"]:
            state = "is fed, and nothing brings it home" if ways["in"] else "comes home, and nothing feeds it"
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{box.name} {state}",
                message="An effect works as a loop: out to it and back.",
                remedy="Plug the other half of the loop.",
            )


def audio_into_itself(plan: Plan) -> Iterator[Finding]:
    """A box whose own out is plugged into its own in."""
    for cable in plan.rig.cables:
        source, target = plan.rig.find(cable.source), plan.rig.find(cable.target)
        if source and target and source[1].kind == "audio" and source[0].uid == target[0].uid:
            yield Finding(
                severity=WRONG,
                about=source[0].uid,
                title=f"{source[0].name} is plugged into itself",
                message=f"{source[1].label} goes back into {target[1].label}: it feeds back, as loud as it can.",
                remedy="Take this cable out before you switch anything on.",
                socket=cable.source,
            )


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


def _host_sockets(plan: Plan, kind: str, direction: str) -> Iterator[tuple[Box, Socket]]:
    for box, socket in plan.rig.each_socket():
        if is_interface(box.shape) and socket.kind == kind and socket.direction == direction:
            yield box, socket
