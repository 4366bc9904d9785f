"""Entries put into banks, and what every other line is: a heading, bank numbers, a category, rubbish, or a doubt."""

import re
from collections import Counter
from dataclasses import replace
from itertools import pairwise

from hypotaxis.core.formats.pasted.counting import LAST, STACKED, Entry
from hypotaxis.core.formats.pasted.lines import BANK_WORD, CONTINUED, RUBBISH, Line, is_head
from hypotaxis.core.patches.bankwords import bank_numbers
from hypotaxis.core.patches.numbers import PROGRAMS, NumberForm
from hypotaxis.core.patches.values import Bank, Doubt, Patch, PatchList, ReadList

_QUOTED = re.compile(r"(?P<sign>[\"'])(?P<name>.+)(?P=sign)|[“„«‘](?P<other>.+)[”“»’]")
_LOOSE, _ITS_OWN = " \t.,;:…·", " \t."
"""Signs left over at the end of a name; of these, a full stop that follows a word may be its own (Str.)."""
_EACH_LETTER = ("A01/100", "A00/100", "A001")
"""Forms whose letter is a bank of its own."""
_SIZES = {"A01/100": 99, "A00/100": 100}
"""Sounds in a bank where they are not PROGRAMS."""


class Gathering:
    """Puts entries into banks, and says of every other line what it is."""

    def __init__(self, lines: list[Line], form: NumberForm, layout: str, entries: list[Entry]) -> None:
        self.lines, self.form, self.layout = lines, form, layout
        self.size = _SIZES.get(form.key, PROGRAMS)
        self.entries: dict[int, list[Entry]] = {}
        self.led = {line.number for line in lines if line.led} if layout != LAST else set()
        self.paged = _page_numbers(entries) if layout != LAST else False
        self.dotted = 2 * sum(entry.name.endswith(".") for entry in entries) > len(entries) >= 4
        self.tidied: list[tuple[Entry, str]] = []
        gaps = sum(bool(re.search(r"\s{2,}|\t", self._tidy(entry))) for entry in entries)
        self.with_category = 2 * gaps > len(entries)
        for entry in entries:
            self.entries.setdefault(entry.line, []).append(entry)
        self.doubts: list[Doubt] = []
        self.banks: list[Bank] = []
        self.patches: list[Patch] = []
        self.seen: dict[int, int] = {}
        self.heading: str | None = None
        self.numbers: tuple[int | None, int | None] = (None, None)
        self.source = ""
        self.reasons: list[str] = []
        self.category = ""
        self.title = ""
        repeated = Counter(line.text for line in lines if line.text)
        self.running = {text for text, many in repeated.items() if many > 2}
        self.name_lines = {entry.name_line for entry in entries}

    def read(self) -> ReadList:
        for line in self.lines:
            if not line.text:
                continue
            self.heading = line.bank or self.heading
            for entry in self.entries.get(line.number, ()):
                self._entry(entry)
            if line.number not in self.entries and line.number not in self.name_lines:
                self._other(line)
        self._gaps()
        self._told_of_the_whole()
        self._order()
        only = self.banks[0].name if len(self.banks) == 1 else ""
        name = self.title or ("" if only.casefold() == "bank" else only)
        doubts = tuple(sorted(self.doubts, key=lambda doubt: doubt.line))
        banks = tuple(self.banks) or (Bank(name=""),)
        reasons = tuple(self.reasons) or ("",)
        return ReadList(PatchList(name=name, banks=banks, patches=tuple(self.patches)), doubts, self.form.key, reasons)

    def _other(self, line: Line) -> None:
        text = CONTINUED.sub("", line.text).strip()
        numbers = bank_numbers(text)
        if numbers.named or (BANK_WORD.search(text) and len(text) < 60):
            repeated = self.heading is None and self.banks and text.casefold() == self.banks[-1].name.casefold()
            if not repeated:
                self.heading = _heading_name(text) or self.heading
                # MSB and LSB may stand on a line each.
                both = zip((numbers.msb, numbers.lsb), self.numbers, strict=True)
                self.numbers = tuple(old if new is None else new for new, old in both)
                self.category = ""
            if numbers.named:
                self.source = f"line {line.number}: {text[:80]}"
            if numbers.doubt:
                self.doubts.append(Doubt(line.number, line.text, f"Bank numbers: {numbers.doubt}"))
        elif RUBBISH.fullmatch(text) or line.text in self.running or not re.search(r"\w", text) or is_head(text):
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

    def _entry(self, entry: Entry) -> None:
        if not re.search(r"\w", entry.name):
            self.doubts.append(Doubt(entry.line, f"{entry.shown} {entry.name}", "It has no name; left out."))
            return
        each_letter = self.form.key in _EACH_LETTER
        group, program = divmod(entry.place, self.size)
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

    def _name_of(self, entry: Entry) -> tuple[str, str]:
        """(name, category): where most lines have a gap in their names, what stands behind it is the category."""
        tidy = self._tidy(entry)
        if tidy != entry.name.strip():
            self.tidied.append((entry, tidy))
        parts = [_unquoted(part) for part in re.split(r"\s{2,}|\t", tidy) if part]
        if self.with_category and len(parts) > 1:
            return " ".join(parts[:-1]), parts[-1]
        return " ".join(parts), self.category

    def _tidy(self, entry: Entry) -> str:
        """A name without what a page leaves at its end: page numbers behind leading dots, loose commas and dots."""
        name = entry.name.strip()
        if entry.name_line in self.led or self.paged:
            name = re.sub(r"(?:\s{2,}|\t\s*)\d{1,4}$", "", name)
        shorter = _without_loose(name)
        if self.dotted:
            shorter = shorter.rstrip(". ")
        return shorter if re.search(r"\w", shorter) else name

    def _told_of_the_whole(self) -> None:
        """What was done to the whole list is said once."""
        if self.tidied:
            entry, tidy = self.tidied[0]
            many, shown = len(self.tidied), re.sub(r"\s{2,}|\t", " … ", entry.name.strip())
            told = (
                f"Dots, commas and page numbers at the end of {many} name{'s were' if many > 1 else ' was'} taken off, "
                f"first on line {entry.name_line}: “{shown}” became “{tidy}”."
            )
            self.doubts.append(Doubt(0, "", told))
        beside = [patch for patch in self.patches if bank_numbers(patch.name).named]
        if beside:
            told = (
                f"Bank or program numbers stand in {len(beside)} names, first “{beside[0].name}”: they are not read. "
                "Give the columns heads (number, name, MSB, LSB, PC), or type the bank's numbers at the right."
            )
            self.doubts.append(Doubt(0, "", told))
        if self.layout == STACKED and self.patches:
            told = (
                "The numbers stand in a column above the names; they were put side by side in their order, from "
                f"{self.patches[0].number} {self.patches[0].name} to {self.patches[-1].number} {self.patches[-1].name}."
            )
            self.doubts.append(Doubt(0, "", told))
        if self.form.key == "01h":
            told = (
                "The hexadecimal numbers have no 00: they are taken as counting from 01. Or are they those on the wire?"
            )
            self.doubts.append(Doubt(0, "", told))

    def _begin(self, name: str, group: int) -> None:
        same = bool(self.banks) and self.heading is None and group != 0
        msb, lsb = self.numbers if not same else (None, None)
        self.banks.append(Bank(name=name, msb=msb, lsb=lsb))
        self.reasons.append("" if same else self.source)
        self.group = group
        if len(self.banks) == 1:
            self.first_group = group
        self.heading, self.numbers, self.source = None, (None, None), ""
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
        of_banks: dict[int, set[int]] = {}
        for patch in self.patches:
            of_banks.setdefault(patch.bank, set()).add(patch.program)
        for number, bank in enumerate(self.banks):
            programs = of_banks.get(number)
            if not programs:
                continue
            missing = [p for p in range(min(programs), max(programs)) if p not in programs]
            if missing and len(missing) <= 24:
                told = ", ".join(self.form.show(p % self.size) for p in missing[:8])
                more = f" and {len(missing) - 8} more" if len(missing) > 8 else ""
                where = f" of {bank.name}" if bank.name else ""
                self.doubts.append(Doubt(0, told, f"Missing between others{where}: {told}{more}."))


def _page_numbers(entries: list[Entry]) -> bool:
    """Whether most names end, behind a gap, in numbers that never fall: those of the pages they are on."""
    found = [re.search(r"(?:\s{2,}|\t)(\d{1,4})$", entry.name.strip()) for entry in entries]
    pages = [int(one[1]) for one in found if one]
    return len(entries) >= 3 and len(pages) > 0.6 * len(entries) and all(one <= other for one, other in pairwise(pages))


def _heading_name(text: str) -> str:
    """A bank's name without the numbers that are told beside it."""
    text = re.sub(r"^[\[({<](.*)[\])}>]$", r"\1", text.strip())
    return _NUMBERS_BEGIN.split(text)[0].strip(" :-–—,;=/")


_NUMBERS_BEGIN = re.compile(
    r"[(\[]|\bmsb\b|\blsb\b|\bcc ?#? ?\d|\bcontroll?er\b|\bcontrol change\b|\bbank ?-?(?:select|wahl)|\bb[0-9a-f] 00\b",
    re.IGNORECASE,
)


def _unquoted(text: str) -> str:
    found = _QUOTED.fullmatch(text.strip())
    return (found["name"] or found["other"]).strip() if found else text


def _without_loose(name: str) -> str:
    """A name without the signs left over at its end.

    >>> [_without_loose(name) for name in ("Str.", "Str. .", "Str.,", "Brass ;:")]
    ['Str.', 'Str.', 'Str', 'Brass']
    """
    bare = name.rstrip(_LOOSE)
    tail = name[len(bare) :]
    if tail.strip(_ITS_OWN):
        return bare
    return bare + tail[: len(tail) - len(tail.lstrip("."))]
