"""Rules about what is cabled and used by nothing.

Several idle ends mostly have one cause: a box that is cabled and not defined. The cause is told, with what makes use of
the cables; an end is idle only where no other finding explains it. Taking out what has just been plugged is no remedy.
"""

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import replace

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, Finding, Fix, Lead, listed
from hypotaxis.core.plan import Instrument, Plan, Return
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.change import set_instrument
from hypotaxis.core.rig.listening import arrivals, seats_of
from hypotaxis.core.rig.loops import loop_trip, sends_of, takes_audio
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.rig.shapes import parts_of
from hypotaxis.core.rig.trips import heard_from, homes_of, host_audio, returns_text, send_sockets, way_home, ways_into
from hypotaxis.core.rig.values import Box, Rig, Socket


def no_instrument_yet(plan: Plan) -> Iterator[Finding]:
    """A sounding box that hears the host or comes home, of which no instrument is made."""
    heard = {reached.box for _, socket in send_sockets(plan.rig) for reached in heard_from(plan.rig, socket.uid)}
    for box in plan.rig.boxes:
        homes = tuple(homes_of(plan.rig, box.uid)[:2])
        if not _undefined(plan, box) or not (box.uid in heard or homes):
            continue
        home = returns_text(plan.rig, homes)
        if box.uid not in heard:
            message = f"It comes home on {home}, and nothing that the host sends reaches it."
        elif homes:
            message = f"It hears the host and comes home on {home}, but nothing says on which channel it plays."
        else:
            message = "It hears the host, but nothing says on which channel or where its sound comes back."
        yield Finding(
            severity=WORTH_KNOWING,
            about=box.uid,
            title=f"{box.name} is not an instrument yet",
            message=message,
            remedy="Define it: what its cables say is filled in.",
            lead=Lead("instrument", "Define it", box.uid),
        )


def _undefined(plan: Plan, box: Box) -> bool:
    """Whether a box sounds, and no instrument is made of it."""
    return bool(parts_of(box.shape, box.setup)) and not plan.instruments_of(box.uid)


def no_loop_yet(plan: Plan) -> Iterator[Finding]:
    """A box that the host's audio goes into and that comes home, and that stands in no loop."""
    passed = _on_the_way(plan)
    sent: set[str] = set()
    for box in plan.rig.boxes:
        if box.uid in passed or parts_of(box.shape, box.setup) or not takes_audio(box):
            continue
        sends, homes = sends_of(plan.rig, box.uid), homes_of(plan.rig, box.uid)
        # Of several in a row the first is told: one loop goes through all of them.
        if not sends or not homes or sent & set(sends):
            continue
        sent |= set(sends)
        yield Finding(
            severity=WORTH_KNOWING,
            about=box.uid,
            title=f"{box.name} is in no effect loop yet",
            message=f"It is fed by {returns_text(plan.rig, tuple(sends[:2]))} and comes home on "
            f"{returns_text(plan.rig, tuple(homes[:2]))}, but nothing names it, so nothing is sent there.",
            remedy="Define the loop: what its cables say is filled in.",
            lead=Lead("loop", "Define the loop", box.uid),
        )


def _on_the_way(plan: Plan) -> set[str]:
    """The boxes that instruments come home through, and those of every loop."""
    rig = plan.rig
    ways = [way_home(rig, uid, one.box) for one in plan.instruments for uid in one.inputs]
    for loop in plan.loops:
        trip = loop_trip(rig, loop)
        ways += [*trip.outward, *trip.home]
    passed = {rig.find(end)[0].uid for way in ways for cable in way for end in (cable.source, cable.target)}
    return passed | {loop.box for loop in plan.loops}


def send_idle(plan: Plan) -> Iterator[Finding]:
    """A MIDI output that is cabled, and that no instrument sends on."""
    used = {seat.send for _, seat, _ in seats_of(plan)}
    stranded = {one.box for one, seat, _ in seats_of(plan) if not arrivals(plan, one, seat)}
    for end in ports_of(plan.rig, "out"):
        reached = [plan.rig.box(one.box) for one in heard_from(plan.rig, end.socket.uid)]
        cable = plan.rig.cable_at(end.socket.uid)
        if not reached or not cable or end.socket.uid in used:
            continue
        # Clock that is planned is not sent yet: it is no use of the output.
        if not any(_undefined(plan, box) or box.uid in stranded for box in reached):
            yield Finding(
                severity=WORTH_KNOWING,
                about=end.box.uid,
                title=f"{plan.rig.socket_text(end.socket.uid)} is idle",
                message=f"It is cabled to {reached[0].name}, and no instrument sends on it.",
                remedy="Choose it where an instrument's notes go, or mark it as meant.",
                socket=end.socket.uid,
            )


def return_idle(plan: Plan) -> Iterator[Finding]:
    """Audio inputs at which cables end, and that no instrument takes home."""
    used = _taken_home(plan)
    arriving: dict[str, list[Socket]] = defaultdict(list)
    for _, socket in host_audio(plan.rig, "in"):
        source = plan.rig.far_end(socket.uid)
        if source and socket.uid not in used and not source[1].separate:
            arriving[source[0].uid].append(socket)
    for uid, inputs in arriving.items():
        sounding = _sounding_behind(plan.rig, inputs)
        if any(_undefined(plan, box) or _lacks_home(plan, box) for box in sounding):
            continue
        if not sounding and takes_audio(plan.rig.box(uid)):
            continue
        text = returns_text(plan.rig, tuple(socket.uid for socket in inputs))
        yield Finding(
            severity=WORTH_KNOWING,
            about=plan.rig.find(inputs[0].uid)[0].uid,
            also=(uid,),
            title=f"{text[0].upper()}{text[1:]} {'is' if len(inputs) == 1 else 'are'} idle",
            message=f"{plan.rig.box(uid).name} is plugged in there, and no instrument takes it home.",
            remedy="Choose it as a return, or mark it as meant.",
            socket=inputs[0].uid,
            facts=tuple(socket.uid for socket in inputs[1:]),
            fix=_bring_home(plan, sounding, inputs),
        )


def _sounding_behind(rig: Rig, inputs: list[Socket]) -> list[Box]:
    """The sounding boxes that arrive at these inputs, each once."""
    begins = (rig.find(way[0].source)[0] for socket in inputs for way in ways_into(rig, socket.uid))
    return list(dict.fromkeys(box for box in begins if parts_of(box.shape, box.setup)))


def _lacks_home(plan: Plan, box: Box) -> bool:
    """Whether another finding asks for the way home of one of a box's instruments: it has none, one that is not cabled,
    or one side of two."""
    for one in plan.instruments_of(box.uid):
        ways = [way_home(plan.rig, uid, box.uid) for uid in one.inputs]
        if not one.returns or not all(ways):
            return True
        source = plan.rig.find(ways[0][0].source)
        if len(one.returns) == 1 and source and source[1].stereo:
            return True
    return False


def _bring_home(plan: Plan, sounding: list[Box], inputs: list[Socket]) -> Fix | None:
    """The inputs as a further return of the one instrument that arrives there."""
    boxes = {box.uid for box in sounding}
    mine = [one for one in plan.instruments if one.box in boxes]
    if len(mine) != 1 or len(inputs) > 2:
        return None
    return _further(plan, mine[0], plan.rig.far_end(inputs[0].uid)[1].label, tuple(one.uid for one in inputs))


def _further(plan: Plan, instrument: Instrument, name: str, inputs: tuple[str, ...]) -> Fix:
    words = f"Bring it home on {returns_text(plan.rig, inputs)}"
    back = Return(uid=new_uid(), name=name, inputs=inputs)
    voices = tuple(
        replace(voice, home=back.uid) if voice.name == name and not voice.home else voice for voice in instrument.voices
    )
    further = (*instrument.further, back)
    return Fix(
        f"{words}, as a further return of {instrument.name}",
        lambda p: set_instrument(p, instrument.uid, further=further, voices=voices),
        words,
    )


def separate_out_unheard(plan: Plan) -> Iterator[Finding]:
    """A separate out that is plugged, and that comes home, by whatever way, on no input that is taken home."""
    inputs = [socket.uid for _, socket in host_audio(plan.rig, "in")]
    arrives = {way[0].source: uid for uid in inputs for way in ways_into(plan.rig, uid)}
    heard = {way[0].source for uid in _taken_home(plan) for way in ways_into(plan.rig, uid)}
    for cable in plan.rig.cables:
        found, target = plan.rig.find(cable.source), plan.rig.find(cable.target)
        if not found or not target or not found[1].separate or cable.source in heard or _undefined(plan, found[0]):
            continue
        box, out = found
        mine = plan.instruments_of(box.uid)
        home = arrives.get(out.uid)
        yield Finding(
            severity=RISKY,
            about=box.uid,
            title=f"The {out.separate} of {box.name} is missing",
            message=f"A cable in {out.label} takes the {out.separate} out of the main outs, and nothing "
            f"takes home what goes into {plan.rig.socket_text(cable.target)}.",
            remedy=f"Choose the input where it ends as a further return{_of(mine)}.",
            socket=cable.source,
            facts=(cable.uid,),
            fix=_further(plan, mine[0], out.separate, (home,)) if home and mine else None,
        )


def _of(instruments: list[Instrument]) -> str:
    return f" of {listed([one.name for one in instruments])}" if instruments else ""


def _taken_home(plan: Plan) -> set[str]:
    """The inputs that instruments and effect loops take home."""
    uids = {uid for instrument in plan.instruments for uid in instrument.inputs}
    return uids | {uid for loop in plan.loops for uid in loop.returns}
