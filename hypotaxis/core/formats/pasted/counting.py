"""In which form and layout do the numbers of a text count on from each other best?"""

import re
from collections import Counter
from dataclasses import dataclass
from itertools import pairwise

from hypotaxis.core.formats.pasted.lines import RUBBISH, TOKEN, Line, is_head
from hypotaxis.core.patches.bankwords import says_only_bank_numbers
from hypotaxis.core.patches.numbers import FORMS, HEXADECIMAL, NumberForm

_AFTER = r"(?:\s*[.:)\]=|–—/]\s*|\s+-\s+|\s+)"
_SAYS_HEXADECIMAL = re.compile(
    r"\bhex\w*\b|\b00\s*h?\s*[-–—~…]\s*7F\s*h?\b|\b01\s*h?\s*[-–—~…]\s*80\s*h\b", re.IGNORECASE
)
FIRST, LAST, APART = "number first", "number last", "number and name on lines of their own"
STACKED = "a column of numbers, then a column of names"
LEAST_STACKED = 3
"""Numbers in a row on lines of their own that may be a column."""


@dataclass(frozen=True)
class Entry:
    """A number and a name as they stand on a line; name_line: the name's, where it is another; place: what the number
    means in a form."""

    line: int
    shown: str
    place: int
    name: str
    name_line: int


def likeliest_reading(text: str, lines: list[Line]) -> tuple[NumberForm, str, list[Entry]]:
    """The form and the layout in which a text reads best; where it speaks of hexadecimal numbers, in those, as long as
    no other form reads more of it."""
    plain = [form for form in FORMS.values() if form.key not in HEXADECIMAL]
    sixteen = [FORMS[key] for key in HEXADECIMAL]
    if _SAYS_HEXADECIMAL.search(text) is None:
        return best_reading(lines, [*plain, *sixteen])
    others, told = best_reading(lines, plain), best_reading(lines, sixteen)
    return told if len(told[2]) >= len(others[2]) else others


def best_reading(lines: list[Line], forms: list[NumberForm]) -> tuple[NumberForm, str, list[Entry]]:
    """The form and the layout in which most numbers count on from each other; of equals the plainest."""
    best: tuple[float, NumberForm, str, list[Entry]] | None = None
    for layout in (FIRST, LAST, APART, STACKED):
        found = _candidates(lines, layout)
        plain = _without_letter(found)
        for form in forms:
            entries, unread = _in_form(plain if plain and form.key in ("1", "0", "001", "000") else found, form)
            score = _score(entries, form) - unread
            if entries and (best is None or score > best[0] + 1e-9):
                best = (score, form, layout, entries)
    if best is None or best[0] <= 0:
        return forms[0], FIRST, []
    return best[1:]


_Found = tuple[int, str, str, int]
"""Line, number as it stands, name, line of the name."""


def _without_letter(found: list[_Found]) -> list[_Found] | None:
    """The entries without the one letter that stands before all of their numbers (P1, P2 …), or None."""
    letters = {shown[0].upper() for _, shown, *_ in found if shown[0].isalpha()}
    if len(letters) != 1 or any(not shown[0].isalpha() for _, shown, *_ in found):
        return None
    return [(line, shown[1:].lstrip("-"), *rest) for line, shown, *rest in found]


def _candidates(lines: list[Line], layout: str) -> list[_Found]:
    """Everything that may be an entry."""
    lines = [line for line in lines if not says_only_bank_numbers(line.text)]
    if layout == STACKED:
        return [
            (number.number, number.text.rstrip(".:)"), name.text, name.number)
            for numbers, names in _columns(lines)
            if len(names) >= len(numbers)
            for number, name in zip(numbers, names, strict=False)
        ]
    if layout == LAST:
        pattern = re.compile(rf"(\S.*?)\s+[-–—:]?\s*[(\[#]?({TOKEN})[)\]]?")
        pairs = ((line, pattern.fullmatch(line.text)) for line in lines)
        return [(line.number, found[2], found[1], line.number) for line, found in pairs if found]
    if layout == APART:
        kept = [line for line in lines if line.text]
        return [
            (one.number, one.text.rstrip(".:)"), other.text, other.number)
            for one, other in pairwise(kept)
            if _ALONE.fullmatch(one.text) and not _ALONE.fullmatch(other.text)
        ]
    found = []
    stride = _strides(lines)
    for line in lines:
        for number, name in _pieces(line.text, stride):
            found.append((line.number, number, name, line.number))
    return found


_ALONE = re.compile(rf"[#(\[]?{TOKEN}[.:)\]]?")


def _columns(lines: list[Line]) -> list[tuple[list[Line], list[Line]]]:
    """(numbers, what stands below them) where numbers on lines of their own follow each other: a page's columns come
    out one below the other."""
    kept = [line for line in lines if line.text]
    runs, at = [], 0
    while at < len(kept):
        end = at
        while end < len(kept) and _ALONE.fullmatch(kept[end].text):
            end += 1
        if end - at >= LEAST_STACKED:
            runs.append((at, end))
        at = max(end, at + 1)
    found = []
    for place, (begin, end) in enumerate(runs):
        until = runs[place + 1][0] if place + 1 < len(runs) else len(kept)
        below = [line for line in kept[end:until] if not is_head(line.text)]
        # A page's number may stand among the names, but a name may be a number, too: no more go than are too many.
        for line in reversed(below):
            if len(below) > end - begin and RUBBISH.fullmatch(line.text):
                below.remove(line)
        found.append((kept[begin:end], below))
    return found


def uneven(lines: list[Line]) -> str:
    """What keeps columns that stand one below the other from being put side by side; "" where there are none."""
    for numbers, names in _columns(lines):
        if len(names) < len(numbers):
            return (
                f"Below {len(numbers)} numbers (from line {numbers[0].number}) stand only {len(names)} names: they "
                "cannot be put side by side. Paste number and name of each sound on one line, or add what is missing."
            )
    return ""


_START = re.compile(rf"(?:^|(?<=\s\s)|(?<=\t))\s*[#(\[]?({TOKEN}){_AFTER}(?=\S)")


def _pieces(text: str, strides: set[int]) -> list[tuple[str, str]]:
    """The entries of one line: at its beginning, after each gap, and where a number is a column's stride further on."""
    starts = [(found.start(1), found.end(), found[1]) for found in _START.finditer(text)]
    if not starts or starts[0][0] > 3:
        return []
    starts = _after_commas(text, starts)
    first = starts[0][2]
    if strides and first.isdecimal():
        known = {start for start, _, _ in starts}
        for found in re.finditer(rf"(?<=\s)(\d{{1,4}}){_AFTER}(?=\S)", text):
            if found.start(1) not in known and int(found[1]) - int(first) in strides:
                starts.append((found.start(1), found.end(), found[1]))
        starts.sort()
    ends = [start for start, _, _ in starts[1:]] + [len(text)]
    pieces = [(number, text[begin:end].strip(" \t|")) for (_, begin, number), end in zip(starts, ends, strict=True)]
    # Commas between entries part them; behind the last one there is none to part.
    pieces = [(number, name.rstrip(" \t,;")) for number, name in pieces[:-1]] + pieces[-1:]
    return [(number, name) for number, name in pieces if name]


def _after_commas(text: str, starts: list[tuple[int, int, str]]) -> list[tuple[int, int, str]]:
    """The starts of a line, and those after a comma that count on from the one before."""
    for found in re.finditer(rf"(?<=[,;]\s)(\d{{1,4}}){_AFTER}(?=\S)", text):
        last = starts[-1][2]
        if last.isdecimal() and int(found[1]) == int(last) + 1 and found.start(1) > starts[-1][0]:
            starts.append((found.start(1), found.end(), found[1]))
    return starts


def _strides(lines: list[Line]) -> set[int]:
    """How far apart the numbers of neighbouring columns are, where a single space is between the columns."""
    counts: Counter[int] = Counter()
    rows = 0
    for line in lines:
        numbers = [int(number) for number in re.findall(r"(?:^|(?<=\s))(\d{1,4})(?=[\s.:)])", line.text)]
        if len(numbers) > 1 and re.match(r"\d", line.text):
            rows += 1
            counts.update({number - numbers[0] for number in numbers[1:] if number - numbers[0] > 3})
    return {stride for stride, many in counts.items() if many >= max(3, 0.6 * rows)}


def _in_form(found: list[_Found], form: NumberForm) -> tuple[list[Entry], int]:
    """(entries that read in a form, how many look like it and do not)."""
    entries, unread = [], 0
    for line, shown, name, name_line in found:
        bare = shown if form.key == "1-01" else re.sub(r"[-./:]", "", shown)
        if not re.fullmatch(form.pattern, bare) or (form.key in ("001", "000") and len(bare) != 3):
            continue
        place = form.read(bare)
        if place is None:
            unread += 1
        else:
            entries.append(Entry(line, shown, place, name, name_line))
    return entries, unread


def _score(entries: list[Entry], form: NumberForm) -> float:
    """How many entries have a neighbour in count, less what stands alone; a form that begins at its first place, that
    stands in order and has few gaps reads better."""
    if not entries:
        return 0.0
    places = Counter(entry.place for entry in entries)
    neighbours = sum(many for place, many in places.items() if place - 1 in places or place + 1 in places)
    alone = 0.5 * (len(entries) - neighbours)
    rising = 0.4 * sum(one.place < other.place for one, other in pairwise(entries))
    names = sum(bool(re.search(r"[^\W\d_]", entry.name)) for entry in entries)
    begins = 0.5 if 0 in places else 0.0
    padded = 0.2 if form.key in ("001", "000") else 0.0
    gaps = min(0.3 * len(places), (max(places) - min(places) + 1 - len(places)) * 0.1)
    return neighbours + rising - alone - gaps - (len(entries) - names) + begins + padded
