"""A patch list: named sounds, each with the number the box displays and the program on the wire."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

from hypotaxis.core.midi.programs import Program, change_messages, hexed


@dataclass(frozen=True, kw_only=True)
class Bank:
    """A bank as the box calls it, with its bank select numbers (None = the list names none)."""

    name: str
    msb: int | None = None
    lsb: int | None = None


class BankRows:
    """Banks in the order in which they come, each once."""

    def __init__(self) -> None:
        self._places: dict[Bank, int] = {}

    def place_of(self, bank: Bank) -> int:
        """Its place among them; a new one stands last."""
        return self._places.setdefault(bank, len(self._places))

    def __iter__(self) -> Iterator[Bank]:
        return iter(self._places)


@dataclass(frozen=True, kw_only=True)
class Patch:
    """A sound."""

    name: str
    program: int | None
    """0–127 as on the wire, None for one that is called up by controllers alone."""
    number: str = ""
    """As the box displays it."""
    bank: int = 0
    """Place in the list's banks."""
    msb: int | None = None
    lsb: int | None = None
    """Its own where it has any, otherwise those of its bank."""
    category: str = ""
    controls: tuple[tuple[int, int], ...] = ()
    """Other controllers that belong to it, (number, value)."""

    @property
    def on_the_wire(self) -> Program:
        """What calls it up."""
        return Program(self.program, self.msb, self.lsb, self.controls)

    @property
    def sent(self) -> str:
        """The bytes that call it up on channel 1, as they are shown."""
        return hexed(change_messages(1, self.on_the_wire))


@dataclass(frozen=True, kw_only=True)
class NoteName:
    """A named note of a drum kit or of key switches; note: 0–127."""

    note: int
    name: str


@dataclass(frozen=True, kw_only=True)
class NoteMap:
    """Named notes, in ascending order."""

    name: str
    notes: tuple[NoteName, ...] = ()


@dataclass(frozen=True, kw_only=True)
class PatchList:
    """Banks, patches in their order, and note maps."""

    name: str
    banks: tuple[Bank, ...] = ()
    patches: tuple[Patch, ...] = ()
    note_maps: tuple[NoteMap, ...] = ()


@dataclass(frozen=True, kw_only=True)
class KeptPatch(Patch):
    """A sound as it is kept, and what its owner noted: a favourite, checked by ear on a day (ISO, "" = never)."""

    uid: str
    favourite: bool = False
    checked: str = ""


@dataclass(frozen=True, kw_only=True)
class KeptList(PatchList):
    """A list as it is kept. form: its display numbers, a key of numbers.FORMS or ""."""

    uid: str
    form: str = ""
    patches: tuple[KeptPatch, ...] = ()


@dataclass(frozen=True)
class Doubt:
    """A line that could mean something else, or that was left out. line: counts from 1, 0 = the whole."""

    line: int
    text: str
    reason: str


@dataclass(frozen=True)
class ReadList:
    """A list as it was read. form: display numbers as recognised (a key of numbers.FORMS, or ""). reasons: for each
    bank where its numbers were read, "" where they were not; empty where the format says them itself."""

    patches: PatchList
    doubts: tuple[Doubt, ...] = ()
    form: str = ""
    reasons: tuple[str, ...] = ()


def with_remark(found: ReadList, remark: str) -> ReadList:
    """A list with one more thing to doubt of the whole, where there is one."""
    return replace(found, doubts=(Doubt(0, "", remark), *found.doubts)) if remark else found
