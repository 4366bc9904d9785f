"""What is kept to begin with, as it is listed: the owner's own first, then what ships with the program."""

from dataclasses import dataclass
from functools import cached_property

from hypotaxis.core.drawing.template import Block, picture_of
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.session.starters import STARTERS
from hypotaxis.core.session.templates import CLASSES, GRID, INSTRUMENT, KINDS, SESSION, Template
from hypotaxis.core.units import counted
from hypotaxis.records.models import Template as Row


@dataclass(frozen=True, eq=False)
class Kept:
    """A template. key: its uid, or of one that ships its name; own: it is the owner's."""

    key: str
    kind: str
    name: str
    value: Template
    own: bool = True

    @cached_property
    def picture(self) -> tuple[Block, ...]:
        return picture_of(self.value)

    @property
    def told(self) -> str:
        """What it holds, in words."""
        value = self.value
        if self.kind == INSTRUMENT:
            one = value.instrument
            told = [counted(len(one.seats), "part"), f"note map {one.note_map}" if one.note_map else ""]
            told += [counted(len(one.voices), "voice") if one.voices else ""]
            return ", ".join(filter(None, told))
        if self.kind == SESSION:
            return f"{counted(len(value.session.tracks), 'track')}"
        if self.kind == GRID:
            return f"{counted(len(value.grid.patterns), 'pattern')}, {counted(len(value.names), 'voice')}"
        return counted(len(value.passes), "pass", "passes")


def keep(kind: str, name: str, value: Template) -> Row:
    """Keep something to begin with; a further one of the same name is counted, the very same is kept once."""
    name, content = name.strip()[:74] or kind, to_json(value)
    mine = Row.objects.filter(kind=kind)
    if same := next((row for row in mine.filter(name__startswith=name) if row.content == content), None):
        return same
    taken = set(mine.values_list("name", flat=True))
    free = next(one for one in (name, *(f"{name} {number}" for number in range(2, 10_000))) if one not in taken)
    return Row.objects.create(kind=kind, name=free, content=content)


def of_kind(kind: str) -> list[Kept]:
    """All of a kind, own ones first."""
    mine = [_kept(row) for row in Row.objects.filter(kind=kind)]
    return mine + [Kept(f"starter-{name}", kind, name, value, False) for name, value in STARTERS.get(kind, {}).items()]


def found(kind: str, key: str) -> Kept | None:
    """The one that a form or address names."""
    return next((one for one in of_kind(kind) if one.key == key), None)


def owners() -> list[Kept]:
    """All that the owner has kept, by kind."""
    return [one for kind in KINDS for one in of_kind(kind) if one.own]


def _kept(row: Row) -> Kept:
    return Kept(str(row.uid), row.kind, row.name, from_json(CLASSES[row.kind], row.content))
