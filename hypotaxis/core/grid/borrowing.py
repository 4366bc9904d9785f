"""A pattern borrowed from another box: which of its voices plays what there?"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from hypotaxis.core.grid.values import Pattern

_SHORTER = (("hihat", "hat"), ("bassdrum", "kick"))


@dataclass(frozen=True)
class Borrowed:
    """A pattern on the notes of the box that borrows it. lost: names of the voices that found none there."""

    pattern: Pattern
    lost: tuple[str, ...]


def key_of(name: str) -> str:
    """What is compared of a voice's name: letters and digits, in any case; of two usual names for one voice the shorter
    (common practice).

    >>> key_of("Closed Hi-Hat"), key_of("Bass Drum 1")
    ('closedhat', 'kick1')
    """
    key = "".join(one for one in name.casefold() if one.isalnum())
    for usual, short in _SHORTER:
        key = key.replace(usual, short)
    return key


def namesakes(notes: Iterable[int], theirs: Mapping[int, str], mine: Mapping[int, str]) -> dict[int, int]:
    """Which of my notes plays what each of theirs does, by the names of the voices: the same name, otherwise the only
    one of which one holds the other, of several the one on the same note; each of mine once. What finds none is left
    out."""
    by_key: dict[str, int] = {}
    for note, voice in mine.items():
        by_key.setdefault(key_of(voice), note)
    found: dict[int, int] = {}
    # Exact names take theirs first.
    for note in sorted(dict.fromkeys(notes), key=lambda note: key_of(theirs.get(note, "")) not in by_key):
        free = {key: one for key, one in by_key.items() if one not in found.values()}
        mate = _note_for(key_of(theirs.get(note, "")), free, note)
        if mate is not None:
            found[note] = mate
    return found


def borrowed(pattern: Pattern, theirs: Mapping[int, str], mine: Mapping[int, str], *, name: str) -> Borrowed:
    """The pattern on the notes of its voices' namesakes. theirs, mine: names by note. name: the letter it gets."""
    sounding = [row for row in pattern.rows if row.steps]
    notes = namesakes((row.note for row in sounding), theirs, mine)
    rows = tuple(replace(row, note=notes[row.note]) for row in sounding if row.note in notes)
    lost = tuple(theirs.get(row.note, "") or f"note {row.note}" for row in sounding if row.note not in notes)
    return Borrowed(Pattern(name, rows), lost)


def _note_for(key: str, mine: Mapping[str, int], same: int) -> int | None:
    if key in mine:
        return mine[key]
    near = [note for other, note in mine.items() if key and other and (key in other or other in key)]
    return near[0] if len(near) == 1 else next((note for note in near if note == same), None)
