"""Patch lists pasted from a manual: which lines are sounds, which number form is it, what is page rubbish?

The text is read in every form of core.patches.numbers; the one in which the numbers count on from each other best is
taken. Entries may stand several to a line, number first or number last, number and name on lines of their own, or in a
table whose head names MSB, LSB and program. Whatever could mean something else is told with its line; nothing is
guessed in silence.
"""

import html
import re
from collections import Counter
from dataclasses import dataclass, replace
from itertools import pairwise

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.patchcsv import columns_of
from hypotaxis.core.patches.numbers import FORMS, PROGRAMS, NumberForm
from hypotaxis.core.patches.values import Bank, Doubt, Patch, PatchList, ReadList

MOST_CHARACTERS = 2_000_000
LEAST_ENTRIES = 2
_RUBBISH = re.compile(
    r"(page|p\.|seite)?\s*[-–—]?\s*\d{1,4}\s*([-–—/]|of)?\s*\d{0,4}\s*[-–—]?"
    r"|.*(www\.|https?://|©|\(c\) ?\d{4}|all rights).*",
    re.IGNORECASE,
)
_CONTINUED = re.compile(r"\(?\b(continued|cont(\.|'d)?)( (on|from|over|overleaf)\b[\w ]*)?\)?", re.IGNORECASE)
_BANK = re.compile(r"\b(bank|group|preset|presets|user|internal|card|rom|ram|set|library|part)\b", re.IGNORECASE)
_MSB = re.compile(r"(?:\bmsb\b|\bcc ?#? ?0+\b(?!\d)|bank select)\D{0,12}?(\d{1,3})", re.IGNORECASE)
_LSB = re.compile(r"(?:\blsb\b|\bcc ?#? ?32\b)\D{0,12}?(\d{1,3})", re.IGNORECASE)
_BOTH = re.compile(r"(?:msb ?/ ?lsb|bank select)\D{0,8}(\d{1,3}) ?[/,;] ?(\d{1,3})", re.IGNORECASE)
_TOKEN = r"(?:[A-Za-z]?-?\d{1,4}|\d{1,2}[-./:]\d{1,3})"
_WORD, _WORDS, _NUMBER = r"\S+", r"\S[^\t]*?", rf"-|–|{_TOKEN}"
_MARKED = re.compile(
    r"(?P<mark>(?:prog|program|patch|preset|prst|pre|no|nr|num|number|int|ext|usr|user|crd|card|rom|ram|exp)\b)"
    r"\s*[-.:_#]*\s*(?=#?[A-Za-z]?\d{1,4}(?:[-./:]\d{1,3})?[\s.:)\]=-]+.*[^\W\d_])",
    re.IGNORECASE,
)
"""A word before a number that stands before a name: Patch 01 …, INT-A11 …"""
_QUOTED = re.compile(r"(?P<sign>[\"'])(?P<name>.+)(?P=sign)|[“„«‘](?P<other>.+)[”“»’]")
_LEADERS = re.compile(r"(\s?\.){3,}|…+|_{3,}|(\s-){3,}")
_AFTER = r"(?:\s*[.:)\]=|–—/]\s*|\s+-\s+|\s+)"


@dataclass(frozen=True)
class _Line:
    """A line of the text: its number, what is left of it without leaders and ornaments, and the bank that the word
    before its number begins."""

    number: int
    text: str
    bank: str = ""


@dataclass(frozen=True)
class _Entry:
    """A number and a name as they stand on a line; place: what the number means in a form."""

    line: int
    shown: str
    place: int
    name: str


def read_pasted(text: str, form: str = "") -> ReadList:
    """The patch list in a pasted text. form: the key of the only number form to read it in; "": the one that fits best.
    Raises UnreadableFile where nothing counts on."""
    if len(text) > MOST_CHARACTERS:
        raise UnreadableFile(f"The text has more than {MOST_CHARACTERS} characters. Paste one list at a time.")
    lines = _lines(text)
    table = None if form else _table(lines) or _triples(lines)
    if table:
        return table
    best, layout, entries = _best(lines, [FORMS[form]] if form else list(FORMS.values()))
    if form and len(entries) < LEAST_ENTRIES:
        raise UnreadableFile(f"No number in this text reads as {best.title}. Choose another form.")
    if len(entries) < LEAST_ENTRIES:
        raise UnreadableFile(
            "No numbers in this text count on from each other. Each sound needs its number, in one form throughout: "
            "1, 001, A1, A01 or 11 to 88."
        )
    return _Gathering(lines, best, layout, entries).read()


def _lines(text: str) -> list[_Line]:
    """Lines without ornaments; a run of dots that leads the eye becomes a gap."""
    text = html.unescape(text).replace("\r\n", "\n").replace("\r", "\n").replace("\ufeff", "").replace("\u00a0", " ")
    found = []
    for number, line in enumerate(text.split("\n"), start=1):
        plain = _LEADERS.sub("   ", line).replace("\u00ad", "").strip(" \t•·*†‡▪►|")
        plain = "" if re.fullmatch(r"[-+=_|\s]+", plain) else plain
        found.append(_Line(number, re.sub(r"\s*\|\s*", "  ", plain)))
    # A letter that stands apart from its number belongs to it.
    apart = [re.match(r"[A-P] (?=\d{1,3}[\s.:)])", line.text) for line in found]
    if sum(map(bool, apart)) > 0.6 * sum(bool(line.text) for line in found):
        return [
            replace(line, text=line.text[0] + line.text[2:]) if one else line
            for line, one in zip(found, apart, strict=True)
        ]
    return _without_mark(found)


def _without_mark(lines: list[_Line]) -> list[_Line]:
    """Lines without a word that stands before most of their numbers; where there are several such words, each begins a
    bank."""
    marks = [_MARKED.match(line.text) for line in lines]
    if sum(map(bool, marks)) <= 0.6 * sum(bool(line.text) for line in lines):
        return lines
    words = {mark["mark"].casefold() for mark in marks if mark}
    found, last = [], ""
    for line, mark in zip(lines, marks, strict=True):
        if mark is None:
            found.append(line)
            continue
        begins = len(words) > 1 and mark["mark"].casefold() != last
        last = mark["mark"].casefold()
        found.append(_Line(line.number, line.text[mark.end() :], mark["mark"] if begins else ""))
    return found


# --- a table with a head -------------------------------------------------------------------------


def _table(lines: list[_Line]) -> ReadList | None:
    """The list in a table whose head names a program or bank column, or None. A head may come again on each page."""
    for place, line in enumerate(lines):
        heads = _head(line.text)
        if heads:
            return _rows_below(lines[place + 1 :], heads)
    return None


_TRIPLE = r"(?P<msb>\d{1,3})\s*[-/.,:]\s*(?P<lsb>\d{1,3})\s*[-/.,:]\s*(?P<program>\d{1,3})"


def _triples(lines: list[_Line]) -> ReadList | None:
    """The list in lines that begin or end with bank MSB, bank LSB and program joined by signs, or None."""
    first, last = (
        re.compile(p) for p in (rf"{_TRIPLE}[\s:.)]+(?P<name>\S.*)", rf"(?P<name>\S.*?)\s+[(\[]?{_TRIPLE}[)\]]?")
    )
    rows, doubts = [], []
    for line in (line for line in lines if line.text):
        found = first.fullmatch(line.text) or last.fullmatch(line.text)
        if found:
            rows.append((line, found.groupdict()))
        elif not _RUBBISH.fullmatch(line.text) and not _head(line.text) and not _is_head(line.text):
            doubts.append(Doubt(line.number, line.text, "It has no bank and program; left out."))
    if len(rows) < LEAST_ENTRIES or len(rows) < 2 * len(doubts):
        return None
    values = [int(row["program"]) for _, row in rows]
    return _from_table(rows, "program", 0 if 0 in values else 1, doubts)


def _head(text: str) -> list[str] | None:
    """Kinds of the columns from left to right; None where the line is no head with numbers beside a name."""
    cells = [cell for cell in re.split(r"\t+|\s{2,}", text) if cell]
    if len(cells) < 3:
        cells = text.split()
    columns = columns_of(cells)
    if "name" not in columns or len(columns) < 3 or not {"program", "msb", "lsb"} & columns.keys():
        return None
    return sorted(columns, key=columns.get)


def _rows_below(lines: list[_Line], heads: list[str]) -> ReadList | None:
    at = heads.index("name")
    words = {"bank", "category"}
    left = [kind for kind in heads[:at]]
    right = [kind for kind in heads[at + 1 :]]
    pattern = re.compile(
        r"\s*"
        + "".join(rf"(?P<{kind}>{_WORD if kind in words else _TOKEN})\s+" for kind in left)
        + r"(?P<name>\S.*?)"
        + "".join(rf"\s+(?P<{kind}>{_WORDS if kind in words else _NUMBER})" for kind in right)
        + r"\s*"
    )
    rows, doubts = [], []
    for line in lines:
        found = pattern.fullmatch(line.text)
        if found:
            rows.append((line, found.groupdict()))
        elif line.text and not _head(line.text) and not _RUBBISH.fullmatch(line.text):
            doubts.append(Doubt(line.number, line.text, "It does not fit the columns of the table; left out."))
    if len(rows) < LEAST_ENTRIES:
        return None
    kind = "program" if "program" in heads else "number"
    values = [int(row[kind]) for _, row in rows if row.get(kind, "").isdecimal()]
    first = 0 if 0 in values else 1
    if values and 0 not in values and PROGRAMS not in values and min(values) != 1:
        doubts.append(Doubt(0, "", "Neither 0 nor 128 is among the programs; they are taken as counting from 1."))
    return _from_table(rows, kind, first, doubts)


def _from_table(rows: list[tuple[_Line, dict]], kind: str, first: int, doubts: list[Doubt]) -> ReadList:
    banks: list[Bank] = []
    patches = []
    for line, row in rows:
        numbers = {name: _small(row.get(name)) for name in ("msb", "lsb")}
        text = row[kind]
        program = int(text) - first if text.isdecimal() else None
        if program is None or not 0 <= program < PROGRAMS:
            doubts.append(Doubt(line.number, line.text, f"“{text}” is no program; left out."))
            continue
        bank = Bank(name=row.get("bank") or "", **numbers)
        if bank not in banks:
            banks.append(bank)
        patches.append(
            Patch(
                name=row["name"].strip(),
                program=program,
                number=row.get("number") or text,
                bank=banks.index(bank),
                category=(row.get("category") or "").strip(),
                **numbers,
            )
        )
    ordered = tuple(sorted(doubts, key=lambda doubt: doubt.line))
    return ReadList(PatchList(name="", banks=tuple(banks), patches=tuple(patches)), ordered, "1" if first else "0")


def _small(text: str | None) -> int | None:
    return int(text) if text and text.isdecimal() and int(text) <= 127 else None


# --- numbers that count on -----------------------------------------------------------------------

_FIRST, _LAST, _APART = "number first", "number last", "number and name on lines of their own"


def _best(lines: list[_Line], forms: list[NumberForm]) -> tuple[NumberForm, str, list[_Entry]]:
    """The form and the layout in which most numbers count on from each other; of equals the plainest."""
    best: tuple[float, NumberForm, str, list[_Entry]] | None = None
    for layout in (_FIRST, _LAST, _APART):
        found = _candidates(lines, layout)
        plain = _without_letter(found)
        for form in forms:
            entries, unread = _in_form(plain if plain and form.key in ("1", "0", "001", "000") else found, form)
            score = _score(entries, form) - unread
            if entries and (best is None or score > best[0] + 1e-9):
                best = (score, form, layout, entries)
    if best is None or best[0] <= 0:
        return forms[0], _FIRST, []
    return best[1:]


def _without_letter(found: list[tuple[int, str, str]]) -> list[tuple[int, str, str]] | None:
    """The entries without the one letter that stands before all of their numbers (P1, P2 …), or None."""
    letters = {shown[0].upper() for _, shown, _ in found if shown[0].isalpha()}
    if len(letters) != 1 or any(not shown[0].isalpha() for _, shown, _ in found):
        return None
    return [(line, shown[1:].lstrip("-"), name) for line, shown, name in found]


def _candidates(lines: list[_Line], layout: str) -> list[tuple[int, str, str]]:
    """(line, number as it stands, name) of everything that may be an entry."""
    if layout == _LAST:
        pattern = re.compile(rf"(\S.*?)\s+[-–—:]?\s*[(\[#]?({_TOKEN})[)\]]?")
        pairs = ((line, pattern.fullmatch(line.text)) for line in lines)
        return [(line.number, found[2], found[1]) for line, found in pairs if found]
    if layout == _APART:
        kept = [line for line in lines if line.text]
        return [
            (one.number, one.text.rstrip(".:)"), other.text)
            for one, other in pairwise(kept)
            if re.fullmatch(rf"{_TOKEN}[.:)]?", one.text) and not re.fullmatch(rf"{_TOKEN}[.:)]?", other.text)
        ]
    found = []
    stride = _strides(lines)
    for line in lines:
        for number, name in _pieces(line.text, stride):
            found.append((line.number, number, name))
    return found


_START = re.compile(rf"(?:^|(?<=\s\s)|(?<=\t))\s*[#(\[]?({_TOKEN}){_AFTER}(?=\S)")


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
    pieces = [(number, text[begin:end].strip(" \t,;|")) for (_, begin, number), end in zip(starts, ends, strict=True)]
    return [(number, name) for number, name in pieces if name]


def _after_commas(text: str, starts: list[tuple[int, int, str]]) -> list[tuple[int, int, str]]:
    """The starts of a line, and those after a comma that count on from the one before."""
    for found in re.finditer(rf"(?<=[,;]\s)(\d{{1,4}}){_AFTER}(?=\S)", text):
        last = starts[-1][2]
        if last.isdecimal() and int(found[1]) == int(last) + 1 and found.start(1) > starts[-1][0]:
            starts.append((found.start(1), found.end(), found[1]))
    return starts


def _strides(lines: list[_Line]) -> set[int]:
    """How far apart the numbers of neighbouring columns are, where a single space is between the columns."""
    counts: Counter[int] = Counter()
    rows = 0
    for line in lines:
        numbers = [int(number) for number in re.findall(r"(?:^|(?<=\s))(\d{1,4})(?=[\s.:)])", line.text)]
        if len(numbers) > 1 and re.match(r"\d", line.text):
            rows += 1
            counts.update({number - numbers[0] for number in numbers[1:] if number - numbers[0] > 3})
    return {stride for stride, many in counts.items() if many >= max(3, 0.6 * rows)}


def _in_form(found: list[tuple[int, str, str]], form: NumberForm) -> tuple[list[_Entry], int]:
    """(entries that read in a form, how many look like it and do not)."""
    entries, unread = [], 0
    for line, shown, name in found:
        plain = shown if form.key == "1-01" else re.sub(r"[-./:]", "", shown)
        if not re.fullmatch(form.pattern, plain) or (form.key in ("001", "000") and len(plain) != 3):
            continue
        place = form.read(plain)
        if place is None:
            unread += 1
        else:
            entries.append(_Entry(line, shown, place, name))
    return entries, unread


def _score(entries: list[_Entry], form: NumberForm) -> float:
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


_EACH_LETTER = ("A01/100", "A00/100", "A001")
"""Forms whose letter is a bank of its own."""


class _Gathering:
    """Puts entries into banks, and says of every other line what it is."""

    def __init__(self, lines: list[_Line], form: NumberForm, layout: str, entries: list[_Entry]) -> None:
        self.lines, self.form, self.layout = lines, form, layout
        self.entries: dict[int, list[_Entry]] = {}
        self.with_category = 2 * sum(bool(re.search(r"\s{2,}|\t", entry.name)) for entry in entries) > len(entries)
        for entry in entries:
            self.entries.setdefault(entry.line, []).append(entry)
        self.doubts: list[Doubt] = []
        self.banks: list[Bank] = []
        self.patches: list[Patch] = []
        self.seen: dict[int, int] = {}
        self.heading: str | None = None
        self.numbers: tuple[int | None, int | None] = (None, None)
        self.category = ""
        self.title = ""
        repeated = Counter(line.text for line in lines if line.text)
        self.running = {text for text, many in repeated.items() if many > 2}
        self.name_lines = {entry.line for entry in entries} if layout == _APART else set()

    def read(self) -> ReadList:
        waiting = False
        for line in self.lines:
            if not line.text:
                continue
            self.heading = line.bank or self.heading
            if line.number in self.entries:
                for entry in self.entries[line.number]:
                    self._entry(entry)
                waiting = self.layout == _APART
            elif waiting:
                # The name that belongs to the number on the line before.
                waiting = False
            else:
                self._other(line)
        self._gaps()
        self._order()
        only = self.banks[0].name if len(self.banks) == 1 else ""
        name = self.title or ("" if only.casefold() == "bank" else only)
        doubts = tuple(sorted(self.doubts, key=lambda doubt: doubt.line))
        banks = tuple(self.banks) or (Bank(name=""),)
        return ReadList(PatchList(name=name, banks=banks, patches=tuple(self.patches)), doubts, self.form.key)

    def _other(self, line: _Line) -> None:
        text = _CONTINUED.sub("", line.text).strip()
        numbers = _bank_numbers(text)
        if numbers != (None, None) or (_BANK.search(text) and len(text) < 60):
            repeated = self.heading is None and self.banks and text.casefold() == self.banks[-1].name.casefold()
            if not repeated:
                self.heading = _heading_name(text) or self.heading
                if numbers != (None, None):
                    self.numbers = numbers
                self.category = ""
        elif _RUBBISH.fullmatch(text) or line.text in self.running or not re.search(r"\w", text) or _is_head(text):
            pass
        elif re.search(r"\t|\s{2,}", text) and not re.search(r"\d", text):
            told = "Several words side by side: headings of columns, perhaps. Not used; a column of category names is."
            self.doubts.append(Doubt(line.number, line.text, told))
        elif re.fullmatch(r"[A-Z][\w &/+,'-]{1,28}:?", text) and not re.search(r"\d", text):
            # A short line without a number: the title before the first entry, afterwards a category.
            if not self.patches and not self.title and not text.isupper() and not text.endswith(":"):
                self.title = text
            else:
                self.category = text.rstrip(":").strip()
                if self.patches and not text.isupper() and not text.endswith(":"):
                    told = "Taken as a heading for the sounds below it. Or does it belong to the name above?"
                    self.doubts.append(Doubt(line.number, line.text, told))
        elif not self.patches and not self.title and len(text) < 60:
            self.title = text
        else:
            self.doubts.append(Doubt(line.number, line.text, "It is neither a numbered sound nor a heading; left out."))

    def _entry(self, entry: _Entry) -> None:
        if not re.search(r"\w", entry.name):
            self.doubts.append(Doubt(entry.line, f"{entry.shown} {entry.name}", "It has no name; left out."))
            return
        each_letter = self.form.key in _EACH_LETTER
        size = {"A01/100": 99, "A00/100": 100}.get(self.form.key, PROGRAMS)
        group, program = divmod(entry.place, size)
        named = self.heading is not None or self.numbers != (None, None)
        if named or not self.banks or entry.place in self.seen:
            if not named and entry.place in self.seen and entry.place != min(self.seen):
                self.doubts.append(
                    Doubt(
                        entry.line, f"{entry.shown} {entry.name}", f"Number {entry.shown} is there already; left out."
                    )
                )
                return
            self._begin(self.heading or (f"Bank {len(self.banks) + 1}" if self.banks else ""), group)
        elif group != self.group:
            self._begin(f"Bank {chr(65 + group) if each_letter else group + 1}", group)
        self.seen[entry.place] = entry.line
        bank = self.banks[-1]
        name, category = self._name_of(entry)
        if not re.search(r"[^\W\d_]", entry.name):
            self.doubts.append(
                Doubt(entry.line, f"{entry.shown} {entry.name}", "Its name is only a number. Is it one?")
            )
        self.patches.append(
            Patch(
                name=name,
                program=program,
                number=entry.shown,
                bank=len(self.banks) - 1,
                msb=bank.msb,
                lsb=bank.lsb,
                category=category,
            )
        )

    def _name_of(self, entry: _Entry) -> tuple[str, str]:
        """(name, category): where most lines have a gap in their names, what stands behind it is the category."""
        parts = [_unquoted(part) for part in re.split(r"\s{2,}|\t", entry.name) if part]
        if self.with_category and len(parts) > 1:
            return " ".join(parts[:-1]), parts[-1]
        return " ".join(parts), self.category

    def _begin(self, name: str, group: int) -> None:
        same = self.banks and self.heading is None and group != 0
        msb, lsb = self.numbers if not same else (None, None)
        self.banks.append(Bank(name=name, msb=msb, lsb=lsb))
        self.group = group
        if len(self.banks) == 1:
            self.first_group = group
        self.heading, self.numbers = None, (None, None)
        if not same:
            self.seen = {}

    def _order(self) -> None:
        """Columns side by side are read line by line; the list goes by number. The first of several banks is named."""
        self.patches.sort(key=lambda patch: (patch.bank, patch.program))
        if len(self.banks) > 1 and not self.banks[0].name:
            by_letter = self.form.key in _EACH_LETTER
            first = chr(65 + self.first_group) if by_letter else 1
            self.banks[0] = replace(self.banks[0], name=f"Bank {first}")
        if len(self.banks) > 1 and all(bank.msb is None and bank.lsb is None for bank in self.banks):
            told = "Several banks, and no bank numbers beside them: fill in MSB and LSB from the manual."
            self.doubts.append(Doubt(0, ", ".join(bank.name for bank in self.banks), told))

    def _gaps(self) -> None:
        """Numbers that are missing between others of a bank."""
        for number, bank in enumerate(self.banks):
            programs = {patch.program for patch in self.patches if patch.bank == number}
            if not programs:
                continue
            missing = [p for p in range(min(programs), max(programs)) if p not in programs]
            if missing and len(missing) <= 24:
                size = {"A01/100": 99, "A00/100": 100}.get(self.form.key, PROGRAMS)
                told = ", ".join(self.form.show(p % size) for p in missing[:8])
                more = f" and {len(missing) - 8} more" if len(missing) > 8 else ""
                where = f" of {bank.name}" if bank.name else ""
                self.doubts.append(Doubt(0, told, f"Missing between others{where}: {told}{more}."))


def _bank_numbers(text: str) -> tuple[int | None, int | None]:
    """(MSB, LSB) that a line names, each None where it does not."""
    both = _BOTH.search(text)
    if both:
        return _small(both[1]), _small(both[2])
    msb, lsb = _MSB.search(text), _LSB.search(text)
    return (_small(msb[1]) if msb else None, _small(lsb[1]) if lsb else None)


def _heading_name(text: str) -> str:
    """A bank's name without the numbers that are told beside it."""
    text = re.sub(r"^[\[({<](.*)[\])}>]$", r"\1", text.strip())
    plain = re.split(r"[(\[]|\bmsb\b|\blsb\b|\bcc ?#? ?0|\bcc ?#? ?32|bank select", text, flags=re.IGNORECASE)[0]
    return plain.strip(" :-–—,;=")


def _unquoted(text: str) -> str:
    found = _QUOTED.fullmatch(text.strip())
    return (found["name"] or found["other"]).strip() if found else text


def _is_head(text: str) -> bool:
    """Heads of columns: nothing but words such as no., name, patch."""
    words = re.findall(r"[^\W\d_]+", text.casefold())
    known = {
        "no",
        "nr",
        "num",
        "number",
        "name",
        "patch",
        "patches",
        "program",
        "prog",
        "preset",
        "sound",
        "voice",
        "tone",
        "category",
        "type",
    }
    return bool(words) and set(words) <= known


def with_name(found: ReadList, name: str) -> ReadList:
    """The same list under another name."""
    return replace(found, patches=replace(found.patches, name=name))
