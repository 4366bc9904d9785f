"""A pattern borrowed from another box: which of its voices plays what there?"""

from collections.abc import Mapping
from dataclasses import dataclass, replace

from hypotaxis.core.grid.values import Pattern


@dataclass(frozen=True)
class Borrowed:
    """A pattern on the notes of the box that borrows it. lost: names of the voices that found none there."""

    pattern: Pattern
    lost: tuple[str, ...]


def key_of(name: str) -> str:
    """What is compared of a voice's name: letters and digits, in any case.

    >>> key_of("Closed Hi-Hat") == key_of("closed hihat")
    True
    """
    return "".join(one for one in name.casefold() if one.isalnum())


def borrowed(pattern: Pattern, theirs: Mapping[int, str], mine: Mapping[int, str], *, name: str) -> Borrowed:
    """The pattern by voices' names: the same name, otherwise the only one of which one holds the other. theirs, mine:
    names by note. name: the letter it gets."""
    by_key = {}
    for note, voice in mine.items():
        by_key.setdefault(key_of(voice), note)
    rows, lost, taken = [], [], set()
    exact_first = sorted(pattern.rows, key=lambda row: key_of(theirs.get(row.note, "")) not in by_key)
    for row in exact_first:
        if not row.steps:
            continue
        voice = theirs.get(row.note, "")
        note = _note_for(key_of(voice), {key: note for key, note in by_key.items() if note not in taken})
        if note is None:
            lost.append(voice or f"note {row.note}")
            continue
        taken.add(note)
        rows.append(replace(row, note=note))
    return Borrowed(Pattern(name, tuple(rows)), tuple(lost))


def _note_for(key: str, mine: Mapping[str, int]) -> int | None:
    if key in mine:
        return mine[key]
    near = [note for other, note in mine.items() if key and other and (key in other or other in key)]
    return near[0] if len(near) == 1 else None
