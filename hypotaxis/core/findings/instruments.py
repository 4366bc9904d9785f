"""Rules about instruments: what is missing or doubly used in their definitions."""

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import replace

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding, Fix, listed
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.change import set_instrument, set_up, with_cable
from hypotaxis.core.rig.plug import fits
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.rig.shapes import SHAPES, parts_of
from hypotaxis.core.rig.trips import heard_from, homes_of, returns_text, send_sockets, trip_of, way_home, ways_into
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
    """An instrument whose send socket does not lead to its box."""
    for instrument in plan.instruments:
        found = plan.rig.find(instrument.send)
        box = plan.rig.box(instrument.box)
        trip = trip_of(plan.rig, instrument)
        if found and box and not trip.reaches and not trip.held_back:
            send = plan.rig.socket_text(instrument.send)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"No cable from {send} to {box.name}",
                message=f"{instrument.name} sends on {send}, but what leaves there does not reach {box.name}. "
                "It stays silent.",
                remedy=f"Cable {send} to {box.name}, or choose the output it hangs on.",
                socket=instrument.send,
                fix=_send_on(plan, instrument) or _cable_to(plan, instrument.send, _free_ins(plan.rig, box)),
            )


def _free_ins(rig: Rig, box: Box) -> list[Socket]:
    return [s for s in box.sockets if s.kind == "midi" and s.direction == "in" and not rig.cable_at(s.uid)]


def _cable_to(plan: Plan, source: str, goals: list[Socket]) -> Fix | None:
    goal = next((socket for socket in goals if fits(plan.rig, source, socket.uid)), None)
    if goal is None:
        return None
    words = f"Cable {plan.rig.socket_text(source)} to {plan.rig.socket_text(goal.uid)}"
    return Fix(words, lambda p: with_cable(p, source, goal.uid), "Draw this cable")


def channel_held_back(plan: Plan) -> Iterator[Finding]:
    """An instrument whose channel a router on the way does not let pass."""
    for instrument in plan.instruments:
        if trip_of(plan.rig, instrument).held_back:
            box = plan.rig.box(instrument.box)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"Channel {instrument.channel} does not get through to {box.name}",
                message=f"A route on the way from {plan.rig.socket_text(instrument.send)} holds it back, so "
                f"{instrument.name} stays silent.",
                remedy="Let the channel pass in the router, or use one that does.",
                socket=instrument.send,
                facts=(str(instrument.channel),),
            )


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
                fix=_plug_home(plan, end, uid),
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


def channel_shared(plan: Plan) -> Iterator[Finding]:
    """Two instruments that send on one channel into one chain of cables."""
    places: dict[tuple[str, int], list[Instrument]] = defaultdict(list)
    for instrument in plan.instruments:
        for seat in instrument.seats:
            if plan.rig.find(seat.send):
                places[seat.send, seat.channel].append(instrument)
    for (send, channel), sharers in places.items():
        if len(sharers) > 1:
            yield Finding(
                severity=RISKY,
                about=sharers[0].uid,
                also=tuple(one.uid for one in sharers[1:] if one is not sharers[0]),
                title=f"Channel {channel} of {plan.rig.socket_text(send)} is used twice",
                message=f"{_names(sharers)} listen there. All of them will sound."
                if sharers[0] is not sharers[-1]
                else f"Two parts of {sharers[0].name} listen there. Both will sound.",
                remedy="Move one of them to a free channel, here and on the box, or mark the layer as meant.",
                socket=send,
                facts=(str(channel),),
                fix=_move_channel(plan, sharers[-1], channel),
            )


def _move_channel(plan: Plan, instrument: Instrument, channel: int) -> Fix | None:
    taken = {seat.channel for other in plan.instruments for seat in other.seats if seat.send == instrument.send}
    free = next((channel for channel in range(1, 17) if channel not in taken), None)
    if free is None or instrument.channel != channel:
        return None
    words = f"Move {instrument.name} to channel {free}"
    return Fix(words, lambda p: set_instrument(p, instrument.uid, channel=free))


def return_shared(plan: Plan) -> Iterator[Finding]:
    """Instruments that come home on one input: they need a pass each to be told apart."""
    users: dict[str, list[Instrument]] = defaultdict(list)
    for instrument in plan.instruments:
        for uid in instrument.inputs:
            users[uid].append(instrument)
    told: set[tuple[str, ...]] = set()
    for sharers in users.values():
        uids = tuple(instrument.uid for instrument in sharers)
        if len(sharers) < 2 or uids in told:
            continue
        told.add(uids)
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
                title=f"Only {source[1].label} of {source[0].name} is taken home",
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
        if len(instrument.returns) == 2 and len(outs) == 1 and not outs[0].both_sides:
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


def no_instrument_yet(plan: Plan) -> Iterator[Finding]:
    """A sounding box that hears the host, of which no instrument is made."""
    used = {instrument.box for instrument in plan.instruments}
    heard = {reached.box for _, socket in send_sockets(plan.rig) for reached in heard_from(plan.rig, socket.uid)}
    for box in plan.rig.boxes:
        if box.uid in heard and box.uid not in used and parts_of(box.shape, box.setup) and box.shape in SHAPES:
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{box.name} is not an instrument yet",
                message="It hears the host, but nothing says on which channel or where its sound comes back.",
                remedy="Define it on the Instruments step.",
            )


def left_and_right_swapped(plan: Plan) -> Iterator[Finding]:
    """A stereo return whose left side brings the box's right socket."""
    for instrument, (left, right) in _stereo(plan):
        if left.stereo == right.label and right.stereo == left.label and right.is_left:
            yield Finding(
                severity=RISKY,
                about=instrument.uid,
                title=f"{instrument.name}: left and right are swapped",
                message=f"{left.label} comes home on the left side and {right.label} on the right.",
                remedy="Swap the two cables at the interface, or the two returns in the definition.",
                socket=instrument.returns[0],
                fix=Fix(
                    "Swap the two returns",
                    lambda p, one=instrument: set_instrument(p, one.uid, returns=one.returns[::-1]),
                ),
            )


def not_a_pair(plan: Plan) -> Iterator[Finding]:
    """A stereo return made of two outs that are no pair."""
    for instrument, (left, right) in _stereo(plan):
        if left.stereo != right.label:
            yield Finding(
                severity=RISKY,
                about=instrument.uid,
                title=f"{instrument.name} takes two outs for a pair",
                message=f"{left.label} and {right.label} are no stereo pair: each would sit hard on one side.",
                remedy="Make the return mono, or plug the box's own pair.",
                socket=instrument.returns[0],
            )


def _stereo(plan: Plan):
    """Instruments both sides of which arrive from their box, with the two sockets they leave by."""
    for instrument in plan.instruments:
        if len(instrument.returns) != 2:
            continue
        ways = [way_home(plan.rig, uid, instrument.box) for uid in instrument.returns]
        if all(ways):
            yield instrument, tuple(plan.rig.find(way[0].source)[1] for way in ways)


def more_instruments_than_parts(plan: Plan) -> Iterator[Finding]:
    """More instruments on one box, each on a channel of its own, than it has parts."""
    for box in plan.rig.boxes:
        sharers = [instrument for instrument in plan.instruments if instrument.box == box.uid]
        parts = parts_of(box.shape, box.setup) if box.shape in SHAPES else 0
        seats = {(seat.send, seat.channel) for instrument in sharers for seat in instrument.seats}
        if parts and len(seats) > parts:
            yield Finding(
                severity=RISKY,
                about=sharers[-1].uid,
                also=tuple(instrument.uid for instrument in sharers[:-1]),
                title=f"{box.name} has {parts} part{'s' if parts > 1 else ''} for {len(seats)} channels",
                message="Each part answers on one channel: what is sent on one of them stays silent.",
                remedy="Remove an instrument or a part, or let it play another box.",
            )


def voice_without_return(plan: Plan) -> Iterator[Finding]:
    """A voice that comes home by a further return which is gone, or which its box does not feed by a separate out."""
    for instrument in plan.instruments:
        ways = {one.uid: one for one in instrument.further}
        for voice in instrument.voices:
            if voice.home and voice.home not in ways:
                yield Finding(
                    severity=RISKY,
                    about=instrument.uid,
                    title=f"{voice.name} of {instrument.name} comes home by a return that is gone",
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


def standing_line_open(plan: Plan) -> Iterator[Finding]:
    """A standing line from a port that is gone, or that is not played from."""
    played = {end.socket.uid for end in keys_in(plan.rig)}
    for instrument in plan.instruments:
        for port, channel in instrument.standing:
            if port not in played:
                found = plan.rig.find(port)
                name = plan.rig.socket_text(port) if found else "a port that is gone"
                yield Finding(
                    severity=RISKY,
                    about=instrument.uid,
                    title=f"{instrument.name} waits for {name}",
                    message="A standing line says it is always played from there, and that port is not played from.",
                    remedy="Give the port the duty “played from”, or take the standing line out.",
                    socket=port if found else "",
                    facts=(port, str(channel)),
                    fix=Fix(
                        "Take the standing line out",
                        lambda p, one=instrument, line=(port, channel): set_instrument(
                            p, one.uid, standing=tuple(known for known in one.standing if known != line)
                        ),
                    ),
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
                title=f"{instrument.name} is lifted by {instrument.home_trim_db:.1f} dB on its way home",
                message="The noise of everything before it is lifted by as much.",
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
