"""Rules about instruments: what is missing or doubly used in their definitions."""

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import replace

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, listed
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.change import set_instrument, set_up, with_cable
from hypotaxis.core.rig.listening import arrivals, held_back, seats_of
from hypotaxis.core.rig.plug import fits
from hypotaxis.core.rig.trips import heard_from, homes_of, returns_text, send_sockets, way_home, ways_into
from hypotaxis.core.rig.values import Box, Rig, Socket
from hypotaxis.core.session.lanes import lanes_of, sequencers_of

HIGH_TRIM_DB = 12.0


def send_missing(plan: Plan) -> Iterator[Finding]:
    """An instrument without a send socket, or with one that is gone."""
    for instrument in plan.instruments:
        if plan.rig.find(instrument.send) is None:
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} has no way out",
                message="No send socket is chosen, so its notes go nowhere.",
                remedy="Choose the MIDI output that leads to its box.",
                facts=(instrument.send,),
                fix=_send_on(plan, instrument),
            )


def _send_on(plan: Plan, instrument: Instrument) -> Fix | None:
    """Another output that does reach the instrument's box."""
    for _, socket in send_sockets(plan.rig):
        if any(reached.box == instrument.box for reached in heard_from(plan.rig, socket.uid)):
            name, send = plan.rig.socket_text(socket.uid), socket.uid
            return Fix(f"Send on {name}", lambda p, send=send: set_instrument(p, instrument.uid, send=send))
    return None


def box_not_reached(plan: Plan) -> Iterator[Finding]:
    """An instrument, or a part of one, whose send socket does not lead to its box."""
    reported: set[tuple[str, str]] = set()
    for instrument, seat, name in seats_of(plan):
        found = plan.rig.find(seat.send)
        box = plan.rig.box(instrument.box)
        reaches = arrivals(plan, instrument, seat) or held_back(plan, instrument, seat)
        if found and box and not reaches and (instrument.uid, seat.send) not in reported:
            reported.add((instrument.uid, seat.send))
            send = plan.rig.socket_text(seat.send)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"No cable from {send} to {box.name}",
                message=f"{name} sends on {send}, but what leaves there does not reach {box.name}. It stays silent.",
                remedy=f"Cable {send} to {box.name}, or choose the output it is plugged into.",
                socket=seat.send,
                fix=(None if seat.part else _send_on(plan, instrument))
                or _cable_to(plan, seat.send, _free_ins(plan.rig, box)),
            )


def _free_ins(rig: Rig, box: Box) -> list[Socket]:
    return [s for s in box.sockets if s.kind == "midi" and s.direction == "in" and not rig.cable_at(s.uid)]


def _cable_to(plan: Plan, source: str, goals: list[Socket]) -> Fix | None:
    goal = next((socket for socket in goals if fits(plan.rig, source, socket.uid)), None)
    if goal is None:
        return None
    words = f"Cable {plan.rig.socket_text(source)} to {plan.rig.socket_text(goal.uid)}"
    return Fix(words, lambda p: with_cable(p, source, goal.uid), "Draw this cable")


def return_missing(plan: Plan) -> Iterator[Finding]:
    """An instrument without a return, or with one that is gone."""
    for instrument in plan.instruments:
        gone = [uid for uid in instrument.inputs if plan.rig.find(uid) is None]
        if not instrument.returns or gone:
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} has no return",
                message="Nothing says where its sound comes back, so it can be neither heard nor recorded.",
                remedy="Choose the input its cable ends at.",
                facts=tuple(gone),
                fix=_homes_fix(plan, instrument),
            )


def _homes_fix(plan: Plan, instrument: Instrument) -> Fix | None:
    """The inputs at which the instrument's box arrives now."""
    homes = homes_of(plan.rig, instrument.box)[:2]
    if not homes or tuple(homes) == instrument.returns:
        return None
    words = f"Take {returns_text(plan.rig, tuple(homes))} as its return"
    return Fix(words, lambda p: set_instrument(p, instrument.uid, returns=tuple(homes)))


def return_not_cabled(plan: Plan) -> Iterator[Finding]:
    """A return at which no cable ends."""
    for instrument, uid, box in _returns(plan):
        if plan.rig.cable_at(uid) is None:
            name = plan.rig.socket_text(uid)
            end = _open_end(plan.rig, box)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} has no way home",
                message=f"Its return is {name}, but no cable ends there. It can be neither heard nor recorded.",
                remedy=f"Cable {plan.rig.socket_text(end.uid) if end else box.name} to {name}, or choose the input "
                "it is "
                "plugged into.",
                socket=uid,
                fix=_homes_fix(plan, instrument) or _plug_home(plan, end, uid),
            )


def _open_end(rig: Rig, box: Box) -> Socket | None:
    """Where a box's way home stops: its own first free out, or that of the converter it goes into."""
    outs = [s for s in box.sockets if s.kind == "audio" and s.direction == "out" and not s.separate]
    for out in outs:
        far = rig.far_end(out.uid)
        if far is None:
            return out
        for onward, route in rig.onward(far[1].uid):
            if route and rig.cable_at(onward.uid) is None:
                return onward
    return None


def _plug_home(plan: Plan, end: Socket | None, uid: str) -> Fix | None:
    if end is None or not fits(plan.rig, end.uid, uid):
        return None
    words = f"Cable {plan.rig.socket_text(end.uid)} to {plan.rig.socket_text(uid)}"
    return Fix(words, lambda p: with_cable(p, end.uid, uid), "Draw this cable")


def return_from_another_box(plan: Plan) -> Iterator[Finding]:
    """A return on which another box arrives."""
    for instrument, uid, box in _returns(plan):
        ways = ways_into(plan.rig, uid)
        if ways and not way_home(plan.rig, uid, box.uid):
            name, source = plan.rig.socket_text(uid), plan.rig.find(ways[-1][0].source)[0]
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{name} brings {source.name}, not {box.name}",
                message=f"{instrument.name} expects its sound there: its take would hold another box.",
                remedy=f"Cable {box.name} to {name}, or choose the input it is plugged into.",
                socket=uid,
                facts=(source.uid,),
                fix=_homes_fix(plan, instrument),
            )


def _returns(plan: Plan):
    """Each return that is there, as (instrument, socket uid, its box)."""
    for instrument in plan.instruments:
        box = plan.rig.box(instrument.box)
        for uid in instrument.inputs:
            if box is not None and plan.rig.find(uid) is not None:
                yield instrument, uid, box


def return_shared(plan: Plan) -> Iterator[Finding]:
    """Instruments that come home on one input: they need a pass each to be told apart."""
    users: dict[str, list[Instrument]] = defaultdict(list)
    for instrument in plan.instruments:
        for uid in instrument.inputs:
            users[uid].append(instrument)
    reported: set[tuple[str, ...]] = set()
    for sharers in users.values():
        uids = tuple(instrument.uid for instrument in sharers)
        if len(sharers) < 2 or uids in reported:
            continue
        reported.add(uids)
        yield Finding(
            severity=WORTH_KNOWING,
            about=uids[0],
            also=uids[1:],
            title=f"{_names(sharers)} share {returns_text(plan.rig, sharers[0].returns)}",
            message="They come home on the same input: in one pass they could not be told apart.",
            remedy="Record them in a pass each.",
            socket=sharers[0].returns[0],
        )


def _names(instruments: list[Instrument]) -> str:
    return listed([instrument.name for instrument in instruments])


def one_side_only(plan: Plan) -> Iterator[Finding]:
    """A mono return for a box of which both sides are cabled."""
    for instrument in plan.instruments:
        way = way_home(plan.rig, instrument.returns[0], instrument.box) if len(instrument.returns) == 1 else ()
        source = plan.rig.find(way[0].source) if way else None
        if source is None or not source[1].stereo:
            continue
        other = source[0].socket(source[1].stereo)
        pair = _pair_home(plan, instrument, source[1], other)
        if other and plan.rig.cable_at(other.uid):
            yield Finding(
                severity=WORTH_KNOWING,
                about=instrument.uid,
                title=f"Only {source[1].label} of {source[0].name} comes home",
                message=f"{other.label} is cabled too, but the return is mono: half of the sound stays out.",
                remedy=f"Make the return stereo, or unplug {other.label} where the box sums to mono then.",
                socket=instrument.returns[0],
                fix=Fix(
                    f"Take {returns_text(plan.rig, pair)} as its return",
                    lambda p, uid=instrument.uid, pair=pair: set_instrument(p, uid, returns=pair),
                )
                if pair
                else None,
            )


def _pair_home(plan: Plan, instrument: Instrument, mine: Socket, other: Socket | None) -> tuple[str, ...]:
    """Both inputs of a box's pair, left first; empty when the other side ends elsewhere."""
    far = plan.rig.far_end(other.uid) if other else None
    if far is None or far[1].kind != "audio" or far[1].direction != "in":
        return ()
    ends = (instrument.returns[0], far[1].uid)
    return ends if mine.is_left else ends[::-1]


def both_sides_from_one(plan: Plan) -> Iterator[Finding]:
    """A stereo return of which only one side arrives from the box, which has one out only: a side stays dead."""
    for instrument in plan.instruments:
        box = plan.rig.box(instrument.box)
        outs = [s for s in box.sockets if s.kind == "audio" and s.direction == "out"] if box else []
        dead = [uid for uid in instrument.returns if not way_home(plan.rig, uid, instrument.box)]
        if len(instrument.returns) == 2 and len(outs) == 1 and not outs[0].both_sides and dead:
            left = instrument.returns[0]
            yield Finding(
                severity=RISKY,
                about=instrument.uid,
                title=f"{instrument.name} is mono and has a stereo return",
                message=f"{box.name} has one out, {outs[0].label}: the other side of the return stays silent, and "
                "the sound "
                "sits at one side.",
                remedy="Make the return mono: one input is enough.",
                socket=left,
                fix=Fix(
                    f"Take {plan.rig.socket_text(left)} alone",
                    lambda p, uid=instrument.uid, left=left: set_instrument(p, uid, returns=(left,)),
                ),
            )


def left_and_right_swapped(plan: Plan) -> Iterator[Finding]:
    """A stereo return whose left side brings the box's right socket."""
    for instrument, lefts, rights in _stereo(plan):
        swapped = next(((one, other) for one in lefts for other in rights if _are_pair(other, one)), None)
        if swapped and not any(_are_pair(one, other) for one in lefts for other in rights):
            yield Finding(
                severity=RISKY,
                about=instrument.uid,
                title=f"{instrument.name}: left and right are swapped",
                message=f"{swapped[0].label} comes home on the left side and {swapped[1].label} on the right.",
                remedy="Swap the two cables at the interface, or the two returns in the definition.",
                socket=instrument.returns[0],
                fix=Fix(
                    "Swap the two returns",
                    lambda p, one=instrument: set_instrument(p, one.uid, returns=one.returns[::-1]),
                ),
            )


def not_a_pair(plan: Plan) -> Iterator[Finding]:
    """A stereo return made of two outs that are no pair."""
    for instrument, lefts, rights in _stereo(plan):
        pairs = any(_are_pair(one, other) or _are_pair(other, one) for one in lefts for other in rights)
        # One out that a mixer brings to both sides stands in the middle.
        if not pairs and not set(lefts) & set(rights):
            yield Finding(
                severity=RISKY,
                about=instrument.uid,
                title=f"{instrument.name} takes two outs for a pair",
                message=f"{lefts[0].label} and {rights[0].label} are no stereo pair: each would sit hard on one side.",
                remedy="Make the return mono, or plug the box's own pair.",
                socket=instrument.returns[0],
            )


def _are_pair(left: Socket, right: Socket) -> bool:
    return left.is_left and left.stereo == right.label


def _stereo(plan: Plan) -> Iterator[tuple[Instrument, list[Socket], list[Socket]]]:
    """Instruments both sides of which arrive from their box, with the sockets that come home on each side."""
    for instrument in plan.instruments:
        if len(instrument.returns) == 2:
            sides = [_outs_home(plan, uid, instrument.box) for uid in instrument.returns]
            if all(sides):
                yield instrument, *sides


def _outs_home(plan: Plan, uid: str, box: str) -> list[Socket]:
    """The outs of a box that arrive at an input, on whatever way."""
    ends = (plan.rig.find(way[0].source) for way in ways_into(plan.rig, uid))
    return list(dict.fromkeys(socket for owner, socket in ends if owner.uid == box))


def voice_without_return(plan: Plan) -> Iterator[Finding]:
    """A voice that comes home by a further return which is gone, or which its box does not feed by a separate out."""
    for instrument in plan.instruments:
        ways = {one.uid: one for one in instrument.further}
        for voice in instrument.voices:
            if voice.home and voice.home not in ways:
                yield Finding(
                    severity=RISKY,
                    about=instrument.uid,
                    title=f"{voice.name} of {instrument.name} has lost its return",
                    message="The voice table still names it, so nothing says where this voice is recorded.",
                    remedy="Choose its return anew in the voice table.",
                    facts=(str(voice.note), voice.home),
                    fix=Fix(
                        "Let it come home with the rest",
                        lambda p, one=instrument, note=voice.note: set_instrument(
                            p, one.uid, voices=tuple(replace(v, home="") if v.note == note else v for v in one.voices)
                        ),
                    ),
                )


def voices_beyond_lanes(plan: Plan) -> Iterator[Finding]:
    """More sounds of a drum machine than lanes of the sequencers that drive it."""
    for instrument in plan.instruments:
        left = [lane.voice.name for lane in lanes_of(plan, instrument) if not lane.number]
        if left:
            players = sequencers_of(plan, instrument)
            lanes = sum(box.setup.lanes for box in players)
            yield Finding(
                severity=WORTH_KNOWING,
                about=instrument.uid,
                title=f"{listed([box.name for box in players])} drives {lanes} of {len(instrument.voices)} sounds",
                message=f"A lane drives one sound, so nothing is left for {listed(left)} of {instrument.name}.",
                remedy="Let a second sequencer play beside it by a standing line, leave those sounds out of the voice "
                "table, or program them in the host.",
                facts=(str(lanes), *left),
            )


def further_return_open(plan: Plan) -> Iterator[Finding]:
    """A further return without an input."""
    for instrument in plan.instruments:
        for one in instrument.further:
            if not one.inputs:
                yield Finding(
                    severity=RISKY,
                    about=instrument.uid,
                    title=f"The return {one.name} of {instrument.name} has no input",
                    message="What should come home there is not recorded.",
                    remedy="Choose the input its cable ends at, or remove the return.",
                    facts=(one.uid,),
                )


def home_trim_high(plan: Plan) -> Iterator[Finding]:
    """A home trim that lifts noise along with the sound (common practice: box up, preamp low)."""
    for instrument in plan.instruments:
        if instrument.home_trim_db > HIGH_TRIM_DB:
            yield Finding(
                severity=WORTH_KNOWING,
                about=instrument.uid,
                title=f"{instrument.name} is raised by {instrument.home_trim_db:.1f} dB on its way home",
                message="The noise of everything before it is raised by as much.",
                remedy="Turn the box up first, then the input, and bring the home trim back towards 0.",
                facts=(f"{instrument.home_trim_db:.1f}",),
                fix=Fix(
                    "Set the home trim to 0 dB",
                    lambda p, uid=instrument.uid: set_instrument(p, uid, home_trim_db=0.0),
                ),
            )


def separate_out_expected(plan: Plan) -> Iterator[Finding]:
    """A separate out that is switched on and not plugged: on many boxes its voice is then nowhere."""
    for box in plan.rig.boxes:
        for socket in box.sockets:
            if socket.separate and socket.separate in box.setup.uses and not plan.rig.cable_at(socket.uid):
                uses = tuple(voice for voice in box.setup.uses if voice != socket.separate)
                yield Finding(
                    severity=RISKY,
                    about=box.uid,
                    title=f"The {socket.separate} of {box.name} has no cable",
                    message=f"It is set to leave by {socket.label} alone, and nothing is plugged there: it is "
                    "missing from "
                    "the main outs and heard nowhere.",
                    remedy=f"Plug {socket.label}, or let the {socket.separate} leave by the main outs.",
                    socket=socket.uid,
                    fix=Fix(
                        "Let it leave by the main outs",
                        lambda p, uid=box.uid, uses=uses: set_up(p, uid, uses=uses),
                    ),
                )
