"""What is missing or doubly used in the plan?

Each rule is a function from the plan to findings. A finding points at one thing by uid (an instrument, a box or
a socket), has a severity ("wrong", "risky", "worth knowing"), and says in sentences what, why and what to do.
"""

from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.shapes import SHAPES, column_of
from hypotaxis.core.rig.trips import heard_from, returns_text, trip_of

WRONG, RISKY, WORTH_KNOWING = "wrong", "risky", "worth knowing"


@dataclass(frozen=True, kw_only=True)
class Finding:
    """One thing found. about: uid it belongs to; also: uids of others it concerns as much; socket: uid of the
    socket that is the loose end, if any."""

    rule: str
    severity: str
    about: str
    title: str
    message: str
    remedy: str
    socket: str = ""
    also: tuple[str, ...] = ()

    def concerns(self, uid: str) -> bool:
        """Whether the finding belongs to the thing with this uid."""
        return uid == self.about or uid in self.also


Rule = Callable[[Plan], Iterator[Finding]]


def send_missing(plan: Plan) -> Iterator[Finding]:
    """An instrument without a send socket, or with one that is gone."""
    for instrument in plan.instruments:
        if plan.rig.find(instrument.send) is None:
            yield Finding(
                rule="send-missing",
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
                rule="box-not-reached",
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
                rule="return-missing",
                severity=WRONG,
                about=instrument.uid,
                title=f"{instrument.name} has no return",
                message="Nothing says where its sound comes back, so it can be neither heard nor recorded.",
                remedy="Choose the input its cable ends at.",
            )


def return_not_cabled(plan: Plan) -> Iterator[Finding]:
    """A return on which the instrument's box does not arrive."""
    for instrument in plan.instruments:
        box = plan.rig.box(instrument.box)
        for uid in instrument.returns:
            if plan.rig.find(uid) is None or box is None:
                continue
            cable = plan.rig.cable_at(uid)
            name = plan.rig.socket_text(uid)
            source = plan.rig.find(cable.source) if cable else None
            if source is None:
                yield Finding(
                    rule="return-not-cabled",
                    severity=WRONG,
                    about=instrument.uid,
                    title=f"{instrument.name} has no way home",
                    message=f"Its return is {name}, but no cable ends there. It can be neither heard nor recorded.",
                    remedy=f"Cable {box.name} to {name}, or choose the input it is plugged into.",
                    socket=uid,
                )
            elif source[0].uid != box.uid:
                yield Finding(
                    rule="return-from-another-box",
                    severity=WRONG,
                    about=instrument.uid,
                    title=f"{name} brings {source[0].name}, not {box.name}",
                    message=f"{instrument.name} expects its sound there: its take would hold another box.",
                    remedy=f"Cable {box.name} to {name}, or choose the input it is plugged into.",
                    socket=uid,
                )


def channel_shared(plan: Plan) -> Iterator[Finding]:
    """Two instruments that send on one channel into one chain of cables."""
    places: dict[tuple[str, int], list[Instrument]] = defaultdict(list)
    for instrument in plan.instruments:
        if plan.rig.find(instrument.send):
            places[instrument.send, instrument.channel].append(instrument)
    for (send, channel), sharers in places.items():
        if len(sharers) > 1:
            yield Finding(
                rule="channel-shared",
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
            rule="return-shared",
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


def mono_side_missing(plan: Plan) -> Iterator[Finding]:
    """A mono return for a box of which both sides are cabled."""
    for instrument in plan.instruments:
        if len(instrument.returns) != 1:
            continue
        cable = plan.rig.cable_at(instrument.returns[0])
        source = plan.rig.find(cable.source) if cable else None
        if source is None or not source[1].stereo:
            continue
        other = source[0].socket(source[1].stereo)
        if other and plan.rig.cable_at(other.uid):
            yield Finding(
                rule="one-side-only",
                severity=WORTH_KNOWING,
                about=instrument.uid,
                title=f"Only {source[1].label} of {source[0].name} is taken home",
                message=f"{other.label} is cabled too, but the return is mono: half of the sound stays out.",
                remedy=f"Make the return stereo, or unplug {other.label} where the box sums to mono then.",
                socket=instrument.returns[0],
            )


def nothing_connected(plan: Plan) -> Iterator[Finding]:
    """A box without any cable."""
    for box in plan.rig.boxes:
        if box.shape != "host" and not any(plan.rig.cable_at(socket.uid) for socket in box.sockets):
            yield Finding(
                rule="nothing-connected",
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{box.name} is not cabled",
                message="No cable ends at it, so it can neither hear nor be heard.",
                remedy="Choose one of its sockets on the sheet, then the one the cable goes to.",
            )


def not_an_instrument_yet(plan: Plan) -> Iterator[Finding]:
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
                rule="no-instrument-yet",
                severity=WORTH_KNOWING,
                about=box.uid,
                title=f"{box.name} is not an instrument yet",
                message="It hears the host, but nothing says on which channel or where its sound comes back.",
                remedy="Define it on the Instruments step.",
            )


RULES: tuple[Rule, ...] = (
    send_missing,
    box_not_reached,
    return_missing,
    return_not_cabled,
    channel_shared,
    return_shared,
    mono_side_missing,
    nothing_connected,
    not_an_instrument_yet,
)

_RANK = {WRONG: 0, RISKY: 1, WORTH_KNOWING: 2}


def check(plan: Plan) -> tuple[Finding, ...]:
    """All findings over the plan, the most serious first; an empty rig gives none."""
    found = [finding for rule in RULES for finding in rule(plan)]
    return tuple(sorted(found, key=lambda finding: _RANK[finding.severity]))
