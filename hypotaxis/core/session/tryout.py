"""Playing one note and looking where it comes back."""

from collections.abc import Sequence
from dataclasses import dataclass

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.midi.shaping import shaped
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import returns_text, trip_of
from hypotaxis.core.studio import Message

MIDDLE_C = 60
VOICES = {"kick": 36, "snare": 38, "hat": 42}
"""Notes of a drum machine's voices (General MIDI percussion)."""
LEAD_NS = 200_000_000
CALL_NS = 5_000_000
"""Time of bank and program on the wire, rounded up (8 bytes, 2.56 ms)."""
LOUDEST_CHORD = (36, 48, 55, 60, 64, 67)
"""Six notes over three octaves at full velocity: as loud as a box is played (common practice)."""
LISTEN_S = 1.4
"""Listened after the key is let go: room for a slow release (common practice)."""


@dataclass(frozen=True)
class TryOut:
    """The messages of a try-out and how long to listen, in seconds."""

    messages: tuple[Message, ...]
    seconds: float


def plan_tryout(
    plan: Plan,
    instrument: Instrument,
    *,
    notes: Sequence[tuple[int, int]],
    length_s: float,
    calls: Sequence[tuple[str, bytes]] = (),
) -> TryOut:
    """A note, or several at once, with their velocities, on an instrument's channel and on those of its parts whose
    range holds it. calls: messages that call up its sounds, each with its port (socket uid), sent first, with the gap
    its box needs. Raises CannotSchedule when there is nowhere to send them."""
    found = plan.rig.find(instrument.send)
    if found is None:
        raise CannotSchedule(f"{instrument.name} has no send socket, so there is nowhere to send a note.")
    ports = {seat.send: plan.rig.find(seat.send) or found for seat in instrument.seats}
    on_ns = max(LEAD_NS, round(instrument.gap_ms * 1e6) + CALL_NS * len(instrument.seats)) if calls else LEAD_NS
    off_ns = on_ns + round(length_s * 1e9)
    messages = [Message(0, ports[send][1].system_name, call) for send, call in calls]
    played = [(instrument.seats[0], one) for one in notes]
    for seat, part in zip(instrument.seats[1:], instrument.parts, strict=True):
        played += [(seat, one) for note in notes for one in shaped(*note, part.shaping)]
    for time_ns, status in ((on_ns, 0x90), (off_ns, 0x80)):
        for seat, (note, velocity) in played:
            data = bytes([status | (seat.channel - 1), note, velocity if status == 0x90 else 64])
            messages.append(Message(time_ns, ports[seat.send][1].system_name, data))
    return TryOut(tuple(messages), off_ns / 1e9 + LISTEN_S)


def usual_note(plan: Plan, instrument: Instrument) -> int:
    """A note that should come home on the instrument's returns: middle C, or a voice of a drum machine that leaves by
    what is cabled there."""
    box = plan.rig.box(instrument.box)
    if box is None or box.shape != "drum-machine":
        return MIDDLE_C
    ways = trip_of(plan.rig, instrument).homeward
    mine = {plan.rig.find(way[0].source)[1].separate for way in ways}
    apart = {socket.separate for socket in box.sockets if socket.separate and plan.rig.cable_at(socket.uid)}
    leaves = {voice: voice if voice in apart else "" for voice in VOICES}
    return next((note for voice, note in VOICES.items() if leaves[voice] in mine), VOICES["kick"])


def explain(plan: Plan, instrument: Instrument, moved: Sequence[str]) -> tuple[str, list[str]]:
    """(what happened in a sentence, likely causes in order). moved: socket uids of the inputs that moved."""
    rig = plan.rig
    home = returns_text(rig, instrument.returns)
    mine = [uid for uid in instrument.returns if uid in moved]
    if instrument.returns and len(mine) == len(instrument.returns):
        return f"It came home on {home}.", []
    box = rig.box(instrument.box)
    name = box.name if box else instrument.name
    if mine:
        return f"Only {rig.socket_text(mine[0])} moved; the other side of {home} stayed silent.", [
            f"The cable of the silent side is out at {name} or at the interface.",
            f"{name} is panned hard to one side, or plays mono on one socket: then a mono return is right.",
        ]
    trip = trip_of(rig, instrument)
    causes = []
    if not trip.reaches:
        causes.append(f"On the sheet no cable leads from {rig.socket_text(instrument.send)} to {name}.")
    elsewhere = [uid for uid in moved if uid not in instrument.inputs]
    if elsewhere:
        names = " and ".join(rig.socket_text(uid) for uid in elsewhere)
        causes.append(f"{names} moved instead: the return, or the channel, belongs to another box.")
    if len(trip.homeward) < len(instrument.returns) or not instrument.returns:
        causes.append(f"On the sheet no cable brings {name} home to {home}.")
    causes += [
        f"{name} receives on another channel than {instrument.channel}: look at the box's own setting.",
        f"{name}'s volume is down, it is off, or it is in a mode that ignores MIDI.",
    ]
    return f"Nothing came home on {home}.", causes
