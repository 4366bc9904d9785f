"""Rules about instruments: what is missing or doubly used in their definitions."""

from collections import defaultdict
from collections.abc import Iterator

from hypotaxis.core.findings.finding import RISKY, WORTH_KNOWING, WRONG, Finding
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.shapes import SHAPES, column_of
from hypotaxis.core.rig.trips import heard_from, returns_text, trip_of

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
            )


def box_not_reached(plan: Plan) -> Iterator[Finding]:
    """An instrument whose send socket does not lead to its box."""
    for instrument in plan.instruments:
        found = plan.rig.find(instrument.send)
        box = plan.rig.box(instrument.box)
        if found and box and not trip_of(plan.rig, instrument).reaches:
            send = plan.rig.socket_text(instrument.send)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"No cable from {send} to {box.name}",
                message=f"{instrument.name} sends on {send}, but what leaves there does not reach {box.name}. "
                "It stays silent.",
                remedy=f"Cable {send} to {box.name}, or choose the output it hangs on.",
                socket=instrument.send,
            )


def return_missing(plan: Plan) -> Iterator[Finding]:
    """An instrument without a return, or with one that is gone."""
    for instrument in plan.instruments:
        gone = [uid for uid in instrument.returns if plan.rig.find(uid) is None]
        if not instrument.returns or gone:
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} has no return",
                message="Nothing says where its sound comes back, so it can be neither heard nor recorded.",
                remedy="Choose the input its cable ends at.",
            )


def return_not_cabled(plan: Plan) -> Iterator[Finding]:
    """A return at which no cable ends."""
    for instrument, uid, box, source in _returns(plan):
        if source is None:
            name = plan.rig.socket_text(uid)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} has no way home",
                message=f"Its return is {name}, but no cable ends there. It can be neither heard nor recorded.",
                remedy=f"Cable {box.name} to {name}, or choose the input it is plugged into.",
                socket=uid,
            )


def return_from_another_box(plan: Plan) -> Iterator[Finding]:
    """A return on which another box arrives."""
    for instrument, uid, box, source in _returns(plan):
        if source is not None and source[0].uid != box.uid:
            name = plan.rig.socket_text(uid)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{name} brings {source[0].name}, not {box.name}",
                message=f"{instrument.name} expects its sound there: its take would hold another box.",
                remedy=f"Cable {box.name} to {name}, or choose the input it is plugged into.",
                socket=uid,
            )


def _returns(plan: Plan):
    """Each return that is there, as (instrument, socket uid, its box, what is plugged in there or None)."""
    for instrument in plan.instruments:
        box = plan.rig.box(instrument.box)
        for uid in instrument.returns:
            if box is not None and plan.rig.find(uid) is not None:
                yield instrument, uid, box, plan.rig.far_end(uid)


def channel_shared(plan: Plan) -> Iterator[Finding]:
    """Two instruments that send on one channel into one chain of cables."""
    places: dict[tuple[str, int], list[Instrument]] = defaultdict(list)
    for instrument in plan.instruments:
        if plan.rig.find(instrument.send):
            places[instrument.send, instrument.channel].append(instrument)
    for (send, channel), sharers in places.items():
        if len(sharers) > 1:
            yield Finding(
                severity=RISKY,
                about=sharers[0].uid,
                also=tuple(instrument.uid for instrument in sharers[1:]),
                title=f"Channel {channel} of {plan.rig.socket_text(send)} is used twice",
                message=f"{_listed(sharers)} listen there. All of them will sound.",
                remedy="Move one of them to a free channel, here and on the box.",
                socket=send,
            )


def return_shared(plan: Plan) -> Iterator[Finding]:
    """Instruments that come home on one input: they need a pass each to be told apart."""
    users: dict[str, list[Instrument]] = defaultdict(list)
    for instrument in plan.instruments:
        for uid in instrument.returns:
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
            title=f"{_listed(sharers)} share {returns_text(plan.rig, sharers[0].returns)}",
            message="They come home on the same input: in one pass they could not be told apart.",
            remedy="Record them in a pass each.",
            socket=sharers[0].returns[0],
        )


def _listed(instruments: list[Instrument]) -> str:
    return " and ".join(instrument.name for instrument in instruments)


def one_side_only(plan: Plan) -> Iterator[Finding]:
    """A mono return for a box of which both sides are cabled."""
    for instrument in plan.instruments:
        if len(instrument.returns) != 1:
            continue
        source = plan.rig.far_end(instrument.returns[0])
        if source is None or not source[1].stereo:
            continue
        other = source[0].socket(source[1].stereo)
        if other and plan.rig.cable_at(other.uid):
            yield Finding(
                severity=WORTH_KNOWING,
                about=instrument.uid,
                title=f"Only {source[1].label} of {source[0].name} is taken home",
                message=f"{other.label} is cabled too, but the return is mono: half of the sound stays out.",
                remedy=f"Make the return stereo, or unplug {other.label} where the box sums to mono then.",
                socket=instrument.returns[0],
            )


def no_instrument_yet(plan: Plan) -> Iterator[Finding]:
    """A sounding box that hears the host, of which no instrument is made."""
    used = {instrument.box for instrument in plan.instruments}
    heard = {
        reached.box
        for box, socket in plan.rig.each_socket()
        if column_of(box.shape) == "interface" and socket.kind == "midi" and socket.direction == "out"
        for reached in heard_from(plan.rig, socket.uid)
    }
    for box in plan.rig.boxes:
        if box.uid in heard and box.uid not in used and box.shape in SHAPES and SHAPES[box.shape].sounds:
            yield Finding(
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{box.name} is not an instrument yet",
                message="It hears the host, but nothing says on which channel or where its sound comes back.",
                remedy="Define it on the Instruments step.",
            )


def port_set_aside(plan: Plan) -> Iterator[Finding]:
    """An instrument that sends on a port whose duty keeps it for something else."""
    for instrument in plan.instruments:
        found = plan.rig.find(instrument.send)
        if found and found[1].duty not in ("", "sends to boxes"):
            name = plan.rig.socket_text(instrument.send)
            yield Finding(
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} sends on a port kept for something else",
                message=f"The duty of {name} is “{found[1].duty}”, so it is not offered to instruments.",
                remedy="Choose a port that sends to boxes, or change the duty of this one.",
                socket=instrument.send,
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
        ends = [plan.rig.far_end(uid) for uid in instrument.returns]
        if all(end is not None and end[0].uid == instrument.box for end in ends):
            yield instrument, (ends[0][1], ends[1][1])


def more_instruments_than_parts(plan: Plan) -> Iterator[Finding]:
    """More instruments on one box than it has parts."""
    for box in plan.rig.boxes:
        sharers = [instrument for instrument in plan.instruments if instrument.box == box.uid]
        parts = SHAPES[box.shape].parts if box.shape in SHAPES else 0
        if parts and len(sharers) > parts:
            yield Finding(
                severity=RISKY,
                about=sharers[parts].uid,
                also=tuple(instrument.uid for instrument in sharers[:parts]),
                title=f"{box.name} has {parts} part{'s' if parts > 1 else ''} for {len(sharers)} instruments",
                message="Each part answers on one channel: one of the instruments will stay silent.",
                remedy="Remove one of them, or let it play another box.",
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
            )
