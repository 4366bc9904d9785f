"""The whole plan as one frozen value: the rig, the instruments defined on it, and what is known about both."""

from dataclasses import dataclass, field

from hypotaxis.core.midi.programs import GAP_MS
from hypotaxis.core.midi.shaping import Shaping
from hypotaxis.core.rig.values import Rig
from hypotaxis.core.studio import Port


@dataclass(frozen=True, kw_only=True)
class Instrument:
    """A box made one thing: where its notes go and where its sound comes back.

    Sockets are named by uid and may point to something that is gone: that is a loose end, never an error here.
    channel: 1–16. returns: one input (mono) or two (left, right); empty = none chosen. home_trim_db: applied when
    the return is heard or handed over, never to the take itself. lateness_ms: None until measured; + late.
    patch_list: uid of the list that names its sounds; patch: uid of the one that is called up; note_map: name of one of
    the list's maps. bank_form: which bank messages its box wants, a key of midi.programs.BANK_FORMS; gap_ms: left after
    a change before the next note. middle_c: octave in which the box writes note 60 (3 or 4). notes: the owner's. group:
    a word under which instruments stand together. shaping: what becomes of notes that are played.
    """

    uid: str
    name: str
    box: str
    send: str = ""
    channel: int = 1
    returns: tuple[str, ...] = ()
    home_trim_db: float = 0.0
    lateness_ms: float | None = None
    colour: str = ""
    patch_list: str = ""
    patch: str = ""
    note_map: str = ""
    bank_form: str = "both"
    gap_ms: float = GAP_MS
    middle_c: int = 4
    notes: str = ""
    group: str = ""
    shaping: Shaping = field(default_factory=Shaping)


@dataclass(frozen=True, kw_only=True)
class Meant:
    """A finding that the owner means to be so. cause: what it rests on (findings.finding.cause_of); when that changes,
    the finding returns."""

    rule: str
    about: str
    cause: str
    reason: str


@dataclass(frozen=True, kw_only=True)
class Plan:
    """The rig and its instruments, in their order.

    meant: findings marked as meant. ticked: keys of the start-up list ticked today and of panel settings made.
    reported: the ports the studio reports now, None when nobody has looked. pictures: (content hash, PNG in base64) of
    the boxes' pictures, filled only where a plan travels as a file.
    """

    rig: Rig
    instruments: tuple[Instrument, ...] = ()
    meant: tuple[Meant, ...] = ()
    ticked: frozenset[str] = frozenset()
    reported: tuple[Port, ...] | None = None
    pictures: tuple[tuple[str, str], ...] = ()

    def instrument(self, uid: str) -> Instrument | None:
        """The instrument with this uid, or None."""
        return next((instrument for instrument in self.instruments if instrument.uid == uid), None)
