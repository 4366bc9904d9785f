"""Playing a note, a chord or a pattern, or nothing at all, and looking where it comes back."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.midi.messages import note_off, note_on
from hypotaxis.core.midi.shaping import shaped
from hypotaxis.core.plan import Instrument, Plan, Seat
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.rig.trips import returns_text, trip_of
from hypotaxis.core.session.watching import Sender, watched_inputs
from hypotaxis.core.studio import Message

MIDDLE_C = 60
VOICES = {"kick": 36, "snare": 38, "hat": 42}
"""Notes of a drum machine's voices (General MIDI percussion)."""
LEAD_NS = 200_000_000
CALL_NS = 5_000_000
"""Time of bank and program on the wire, rounded up (8 bytes, 2.56 ms)."""
LOUDEST_CHORD = (36, 48, 55, 60, 64, 67)
"""Six notes over three octaves at full velocity: as loud as a box is played (common practice)."""
LOOPED_S = 60.0
"""How long a pattern loops for setting the gain, unless it is stopped."""
KEYS_S = 8.0
"""Listened while someone plays from the keys."""
DEMO_S = 6.0
"""Listened to a box that plays its own demo."""
LISTEN_S = 1.4
"""Listened after the key is let go: room for a slow release (common practice)."""


@dataclass(frozen=True)
class PlayedNote:
    """A note of a try-out; start_s counts from its first note."""

    start_s: float
    length_s: float
    note: int
    velocity: int


@dataclass(frozen=True)
class TryOut:
    """The messages of a try-out and how long to listen, in seconds; played: its notes, before any part shapes them."""

    messages: tuple[Message, ...]
    seconds: float
    played: tuple[PlayedNote, ...] = ()


@dataclass(frozen=True, kw_only=True)
class TryOutWish:
    """A try-out as it is asked for."""

    kind: str = "note"
    """"note", "chord" (the loudest), "pattern" (looped), "demo" (the box plays by itself) or "keys"."""
    note: int = MIDDLE_C
    velocity: int = 100
    length_s: float = 0.6
    hold_s: float = 0
    """How long meters hold their peak; 0: until reset."""
    aim_db: int | None = None
    """The mark on the meters, dBFS."""
    fast: bool = False
    """On the stand-in only: faster than real time."""
    session: str = ""
    """Uid of the session whose pattern is looped."""


@dataclass(frozen=True, kw_only=True)
class InputHeard:
    """An input during a try-out. Levels in dBFS."""

    uid: str
    name: str
    level: float
    peak: float
    clips: int
    moved: bool
    mine: bool
    """One of the instrument's own."""


@dataclass(frozen=True, kw_only=True)
class Heard:
    """What a try-out has shown so far."""

    send: str = ""
    """Where it left, as it is spoken of."""
    bytes: tuple[str, ...] = ()
    """The first messages that left, hexadecimal."""
    more: int = 0
    """Messages that are not written out."""
    played: tuple[PlayedNote, ...] = ()
    came_by: str = ""
    """The ports at which hands played."""
    came: tuple[str, ...] = ()
    """The first messages that came in from hands."""
    inputs: tuple[InputHeard, ...] = ()
    verdict: str = ""
    causes: tuple[str, ...] = ()
    """The likeliest causes where nothing came back, in order."""
    home: bool = False
    """One of the instrument's inputs moved."""
    gain: str = ""
    """What the loudest chord says about the gain."""

    @property
    def moved(self) -> list[str]:
        """Uids of the inputs that moved."""
        return [one.uid for one in self.inputs if one.moved]


def together(notes: Sequence[tuple[int, int]], length_s: float) -> list[PlayedNote]:
    """Notes with their velocities struck at once."""
    return [PlayedNote(0.0, length_s, note, velocity) for note, velocity in notes]


def looped(notes: Sequence[PlayedNote], period_s: float) -> list[PlayedNote]:
    """A pattern again and again for about LOOPED_S seconds."""
    times = max(1, round(LOOPED_S / period_s))
    return [replace(one, start_s=one.start_s + turn * period_s) for turn in range(times) for one in notes]


def plan_tryout(
    plan: Plan, instrument: Instrument, notes: Sequence[PlayedNote], *, calls: Sequence[tuple[str, bytes]] = ()
) -> TryOut:
    """Notes on an instrument's channel and on those of its parts whose range holds them. calls: messages that call up
    its sounds, each with its port (socket uid), sent first, with the gap its box needs. Raises CannotSchedule when
    there is nowhere to send them."""
    found = plan.rig.find(instrument.send)
    if found is None:
        raise CannotSchedule(f"{instrument.name} has no send socket, so there is nowhere to send a note.")
    ports = {seat.send: plan.rig.find(seat.send) or found for seat in instrument.seats}
    first_ns = max(LEAD_NS, round(instrument.gap_ms * 1e6) + CALL_NS * len(instrument.seats)) if calls else LEAD_NS
    events: list[tuple[int, int, str, bytes]] = []
    end_s = 0.0
    for one in notes:
        end_s = max(end_s, one.start_s + one.length_s)
        on_ns = first_ns + round(one.start_s * 1e9)
        for seat, note, velocity in _on_each_part(instrument, one):
            port, channel = ports[seat.send][1].system_name, seat.channel
            events.append((on_ns, 1, port, note_on(channel, note, velocity)))
            off_ns = on_ns + round(one.length_s * 1e9)
            events.append((off_ns, 0, port, note_off(channel, note)))
    # At one time offs go first, so that a repeated note is not cut by the end of the one before.
    events.sort(key=lambda event: event[:2])
    messages = [Message(0, ports[send][1].system_name, call) for send, call in calls]
    messages += [Message(time_ns, port, data) for time_ns, _, port, data in events]
    return TryOut(tuple(messages), first_ns / 1e9 + end_s + LISTEN_S, tuple(notes))


def _on_each_part(instrument: Instrument, one: PlayedNote) -> Iterator[tuple[Seat, int, int]]:
    """(seat, note, velocity) of a note on the first part and on every other that lets it through."""
    first, *more = instrument.seats
    yield first, one.note, one.velocity
    for seat, part in zip(more, instrument.parts, strict=True):
        for note, velocity in shaped(one.note, one.velocity, part.shaping):
            yield seat, note, velocity


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
        return f"It came home on {home}.", _answered_too(plan, instrument, moved)
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


def _answered_too(plan: Plan, instrument: Instrument, moved: Sequence[str]) -> list[str]:
    """What the other inputs say that moved: a box that was not asked answered too."""
    senders = [Sender(seat.part, seat.send, seat.channel) for seat in instrument.seats]
    watched = watched_inputs(plan, instrument.inputs, [instrument.box], senders)
    names = {plan.rig.find(uid)[1].system_name for uid in moved if plan.rig.find(uid)}
    return [one.told for one in watched if one.input in names]


def explain_demo(plan: Plan, instrument: Instrument, moved: Sequence[str]) -> tuple[str, list[str]]:
    """The same while nothing was sent and the box played by itself: only the way home is looked at."""
    rig, box = plan.rig, plan.rig.box(instrument.box)
    name, home = box.name if box else instrument.name, returns_text(plan.rig, instrument.returns)
    if any(uid in moved for uid in instrument.inputs):
        return f"{name} came home on {home}: its way home is whole. What is silent now is the way out.", []
    if moved:
        names = " and ".join(rig.socket_text(uid) for uid in moved)
        return f"{names} moved, and {home} did not.", [
            f"{name} is plugged into {names}: choose that as the return, or move its cable."
        ]
    return "No input moved.", [
        f"{name} does not play: start its demo on the box.",
        f"{name}'s volume is down, or it is off.",
        f"The cable from {name} to {home} is out, or in another socket.",
    ]


def explain_silent_keys(plan: Plan, instrument: Instrument) -> tuple[str, list[str]]:
    """Nothing came in while someone should have played."""
    ends = keys_in(plan.rig)
    if not ends:
        return "No port is played from, so no key can be heard.", [
            "On the Rig step, give the port of the keyboard the duty “played from”."
        ]
    names = " and ".join(plan.rig.socket_text(end.socket.uid) for end in ends)
    return f"No key was heard on {names}.", [
        "Nobody played, or the keyboard is off.",
        "Its transmit port or channel is set to something else: look at its panel settings.",
        "Another program holds the port, or the keyboard was started after this one.",
    ]
