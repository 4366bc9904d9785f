"""The whole plan as one frozen value: the rig, the instruments defined on it, and what is known about both."""

from collections import defaultdict
from dataclasses import dataclass, field
from functools import cached_property

from hypotaxis.core.kept import Keeping
from hypotaxis.core.midi.programs import GAP_MS
from hypotaxis.core.midi.shaping import Shaping
from hypotaxis.core.patches.values import KeptList
from hypotaxis.core.rig.values import Rig
from hypotaxis.core.studio import Port, Reported, RunTold
from hypotaxis.core.sync.course import Course

TYPED = "typed"
GIVEN_FROM = ("", "take", "sounding", TYPED)
"""Where an instrument's lateness comes from: measured on a take of the session, by a sounding, typed by the owner."""


@dataclass(frozen=True, kw_only=True)
class Part:
    """A further channel of an instrument, with a sound of its own."""

    uid: str
    name: str
    channel: int
    send: str = ""
    """Another port than the instrument's ("" = the same)."""
    patch: str = ""
    level: int | None = None
    pan: int | None = None
    """Controllers 7 and 10 sent with its sound, 0–127, None = left as set on the box."""
    low: int = 0
    high: int = 127
    transpose: int = 0
    curve: str = "as played"
    """What becomes of notes that are played, as in midi.shaping.Shaping."""

    @property
    def shaping(self) -> Shaping:
        """The part's own range, transposition and curve."""
        return Shaping(low=self.low, high=self.high, transpose=self.transpose, curve=self.curve)


@dataclass(frozen=True, kw_only=True)
class Return:
    """A further way home of an instrument, for a voice of its own or a second pair: one input, or two (left, right).
    inverted: its polarity is turned when it is heard or handed over."""

    uid: str
    name: str
    inputs: tuple[str, ...] = ()
    inverted: bool = False


@dataclass(frozen=True, kw_only=True)
class Voice:
    """One sound of a drum machine: the note (0–127) that plays it, and the further return by which it comes home (uid;
    "" = with the rest on the main return)."""

    note: int
    name: str
    home: str = ""


@dataclass(frozen=True)
class Seat:
    """Where an instrument listens: a port (socket uid) and a channel 1–16. part: uid, "" for its first one; name: the
    part's, "" for the first one."""

    send: str
    channel: int
    part: str
    name: str


@dataclass(frozen=True, kw_only=True)
class Instrument:
    """A box made one thing: where its notes go and where its sound comes back. Sockets are named by uid and may
    point to something that is gone: that is a loose end, never an error here."""

    uid: str
    name: str
    box: str
    send: str = ""
    channel: int = 1
    """1–16."""
    returns: tuple[str, ...] = ()
    """One input (mono) or two (left, right); empty = none chosen."""
    home_trim_db: float = 0.0
    """Applied when the return is heard or handed over, never to the take itself."""
    given_ms: float | None = None
    """The lateness that was typed, or came with the rig from where it was measured, + late."""
    given_from: str = ""
    """One of GIVEN_FROM. What was measured in this rig is not kept here (timing.applied)."""
    colour: str = ""
    patch_list: str = ""
    """Uid of the list that names its sounds."""
    patch: str = ""
    """Uid of the one that is called up."""
    note_map: str = ""
    """Name of one of the list's maps."""
    bank_form: str = "both"
    """Which bank messages its box wants, a key of midi.programs.BANK_FORMS."""
    gap_ms: float = GAP_MS
    """Left after a change before the next note."""
    middle_c: int = 4
    """Octave in which the box writes note 60 (3 or 4)."""
    notes: str = ""
    """The owner's."""
    group: str = ""
    """A word under which instruments stand together."""
    shaping: Shaping = field(default_factory=Shaping)
    """What becomes of notes that are played."""
    inverted: bool = False
    """The main return's polarity is turned."""
    parts: tuple[Part, ...] = ()
    """Its further channels."""
    further: tuple[Return, ...] = ()
    """Its further ways home."""
    voices: tuple[Voice, ...] = ()
    """Which note plays which sound, and where that comes home (empty = as note_map says)."""
    standing: tuple[tuple[str, int], ...] = ()
    """Lines (port as a socket uid, channel 1–16 or 0 for all) from which it is always played, whatever is selected."""

    @cached_property
    def seats(self) -> tuple[Seat, ...]:
        """Where it listens: its first part, then the others."""
        more = (Seat(one.send or self.send, one.channel, one.uid, one.name) for one in self.parts)
        return (Seat(self.send, self.channel, "", ""), *more)

    def seat(self, part: str) -> Seat:
        """Where a part listens; the first one where there is no such part."""
        return next((one for one in self.seats if one.part == part), self.seats[0])

    @cached_property
    def every_return(self) -> tuple[Return, ...]:
        """Every return, the main one first (with an empty uid and name)."""
        return (Return(uid="", name="", inputs=self.returns, inverted=self.inverted), *self.further)

    @cached_property
    def inputs(self) -> tuple[str, ...]:
        """Every input by which it comes home, each once, in order."""
        return tuple(dict.fromkeys(uid for one in self.every_return for uid in one.inputs))


@dataclass(frozen=True, kw_only=True)
class Loop:
    """An effect loop: audio out to a box and its return; the same as an instrument, but sent audio."""

    uid: str
    name: str
    box: str
    """Empty: a cable straight from an output to an input, to measure the interface itself."""
    sends: tuple[str, ...] = ()
    returns: tuple[str, ...] = ()
    """The host's outputs and inputs (socket uids), one or two each, left first."""
    home_trim_db: float = 0.0
    inverted: bool = False
    given_ms: float | None = None
    given_from: str = ""
    """As of an instrument."""
    colour: str = ""
    notes: str = ""


@dataclass(frozen=True, kw_only=True)
class Meant:
    """A finding that the owner means to be so. cause: what it rests on (findings.finding.cause_of); when that changes,
    the finding returns."""

    rule: str
    about: str
    cause: str
    reason: str


@dataclass(frozen=True, kw_only=True)
class Plan(Keeping):
    """The rig, its instruments and its effect loops, in their order."""

    rig: Rig
    instruments: tuple[Instrument, ...] = ()
    loops: tuple[Loop, ...] = ()
    meant: tuple[Meant, ...] = ()
    """Findings marked as meant."""
    ticked: frozenset[str] = frozenset()
    """Keys of the start-up list ticked today and of panel settings made."""
    reported: tuple[Port, ...] | None = None
    """The ports the studio reports now, None when nobody has looked."""
    studio_kind: str = "stand-in"
    """The kind of studio that this computer uses."""
    studio: Reported | None = None
    """What real devices said last; None on the stand-in, and when nobody has looked."""
    told: RunTold | None = None
    """What the last run on real devices said of itself."""
    song: Course | None = None
    """How the session goes through its bars, None where there is none."""
    pictures: tuple[tuple[str, str], ...] = ()
    """(content hash, PNG in base64) of the boxes' pictures."""
    patch_lists: tuple[KeptList, ...] = ()
    """Those that name the instruments' sounds; both filled only where a plan travels as a file."""

    def instrument(self, uid: str) -> Instrument | None:
        """The instrument with this uid, or None."""
        return self._instruments.get(uid)

    @cached_property
    def _instruments(self) -> dict[str, Instrument]:
        return {instrument.uid: instrument for instrument in reversed(self.instruments)}

    def instruments_of(self, box: str) -> list[Instrument]:
        """The instruments that are made of a box (uid), in their order."""
        return self._made_of.get(box, [])

    @cached_property
    def _made_of(self) -> dict[str, list[Instrument]]:
        found: dict[str, list[Instrument]] = defaultdict(list)
        for instrument in self.instruments:
            found[instrument.box].append(instrument)
        return dict(found)

    def way_out(self, uid: str, part: str = "") -> tuple[str, int] | None:
        """(system name of the port, channel) that notes for an instrument, or for a part of it (uid), leave by; None
        where it has none."""
        instrument = self.instrument(uid)
        seat = instrument.seat(part) if instrument else None
        found = self.rig.find(seat.send) if seat else None
        return (found[1].system_name, seat.channel) if found and found[1].system_name else None

    def loop(self, uid: str) -> Loop | None:
        """The effect loop with this uid, or None."""
        return next((loop for loop in self.loops if loop.uid == uid), None)
