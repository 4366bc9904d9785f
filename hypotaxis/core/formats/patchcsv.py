"""Patch lists as tables: comma, semicolon or tab between columns, one patch a row.

The columns are found by their heads, in any order; without heads two columns are number and name. Our own tables are
written with `bank, number, msb, lsb, program (0-127), name, category` and read back exactly. Cells that a spreadsheet
would take for a formula are written with an apostrophe in front.
"""

import csv
import io
import re

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.text import text_of
from hypotaxis.core.patches.values import Bank, Doubt, Patch, PatchList, ReadList

HEAD = ("bank", "number", "msb", "lsb", "program (0-127)", "name", "category")
MAX_FAULTS = 20
_WORDS = {
    "name": r"(patch|program|preset|sound|voice|tone)?[ _-]*name|patch|sound|voice|preset|tone|title|instrument",
    "number": r"no\.?|nr\.?|#|num|number|(patch|preset|display|sound|voice)[ _-]*(no\.?|number|#)",
    "msb": r"(bank[ _-]*)?msb|cc[ _#-]*0+|bank[ _-]*(select[ _-]*)?(cc[ _-]*0|msb)|bank[ _-]*hi(gh)?",
    "lsb": r"(bank[ _-]*)?lsb|cc[ _#-]*32|bank[ _-]*(select[ _-]*)?(cc[ _-]*32|lsb)|bank[ _-]*lo(w)?",
    "program": r"(pc|pgm|prg|prog|program)([ _-]*(change|no\.?|number|#))?[ _#]*(\(?\d+ ?[-–] ?\d+\)?)?",
    "bank": r"bank([ _-]*name)?|group|set",
    "category": r"categor(y|ies)|cat\.?|type|tags?|family|class",
}


def read_patch_table(data: bytes) -> ReadList:
    """The patch list in a table. Raises UnreadableFile that names every bad line."""
    text = text_of(data, "table")
    rows = _rows(text)
    if not rows:
        raise UnreadableFile("The table has no rows.")
    columns = columns_of(rows[0][1])
    head = rows[0][1] if columns else []
    body = rows[1:] if columns else rows
    if not columns:
        columns = _guessed(body)
    if not body:
        raise UnreadableFile("The table has a head and no patches below it.")
    if "program" not in columns and "number" not in columns:
        raise UnreadableFile("Line 1: no column says the program or the number. Name one “program” or “number”.")
    return _Table(columns, head).read(body)


def write_patch_table(patches: PatchList, delimiter: str = ",") -> str:
    """The patches of a list as a table, with every number as on the wire beside what the box displays."""
    stream = io.StringIO()
    writer = csv.writer(stream, delimiter=delimiter, lineterminator="\n")
    writer.writerow(HEAD)
    for patch in patches.patches:
        bank = patches.banks[patch.bank].name if patch.bank < len(patches.banks) else ""
        numbers = ["" if value is None else value for value in (patch.msb, patch.lsb)]
        row = [bank, patch.number, *numbers, patch.program, patch.name, patch.category]
        writer.writerow([_safe(cell) if isinstance(cell, str) else cell for cell in row])
    return stream.getvalue()


def _safe(cell: str) -> str:
    """Not taken for a formula by a spreadsheet, and read back as it was."""
    return f"'{cell}" if cell[:1] in tuple("=+-@'\t\r") and cell else cell


def _plain(cell: str) -> str:
    cell = cell.strip()
    return cell[1:] if len(cell) > 1 and cell[0] == "'" and cell[1] in "=+-@'\t\r" else cell


def _rows(text: str) -> list[tuple[int, list[str]]]:
    """(line, cells) of every row that holds anything."""
    first = next((line for line in text.split("\n") if line.strip()), "")
    delimiter = max("\t;,|", key=first.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    rows = []
    try:
        for cells in reader:
            if any(cell.strip() for cell in cells):
                rows.append((reader.line_num, [_plain(cell) for cell in cells]))
    except csv.Error as error:
        raise UnreadableFile(f"Line {reader.line_num} of the table cannot be read: {error}.") from error
    return rows


def columns_of(head: list[str]) -> dict[str, int]:
    """Where each kind of column stands; empty when the first row is no head."""
    found: dict[str, int] = {}
    for place, cell in enumerate(head):
        word = cell.strip().casefold()
        kind = next((kind for kind, words in _WORDS.items() if re.fullmatch(words, word)), None)
        if kind:
            found.setdefault(kind, place)
    return found if "name" in found else {}


def _guessed(rows: list[tuple[int, list[str]]]) -> dict[str, int]:
    """Columns of a table without a head: by what stands in them."""
    width = max(len(cells) for _, cells in rows)
    numeric = [
        place for place in range(width) if all(re.fullmatch(r"\d{1,4}", c[place]) for _, c in rows if len(c) > place)
    ]
    words = [place for place in range(width) if place not in numeric]
    if not words:
        raise UnreadableFile("Line 1: no column holds names.")
    known = {1: ("number",), 2: ("number", "program"), 3: ("msb", "lsb", "program")}.get(len(numeric), ())
    if not known:
        raise UnreadableFile("Line 1: give the columns heads, such as number, msb, lsb, program and name.")
    return dict(zip(known, numeric, strict=True)) | {"name": words[0]}


class _Table:
    """Reads the rows of one table, collecting what is wrong and what is doubtful."""

    def __init__(self, columns: dict[str, int], head: list[str]) -> None:
        self.columns, self.head = columns, head
        self.faults: list[str] = []
        self.doubts: list[Doubt] = []
        self.banks: list[Bank] = []

    def read(self, rows: list[tuple[int, list[str]]]) -> ReadList:
        first = self._first_program(rows)
        patches = [patch for line, cells in rows if (patch := self._patch(line, cells, first))]
        if self.faults:
            more = f"; and {len(self.faults) - MAX_FAULTS} more" if len(self.faults) > MAX_FAULTS else ""
            raise UnreadableFile(f"The table cannot be used: {'; '.join(self.faults[:MAX_FAULTS])}{more}.")
        banks = tuple(self.banks) or (Bank(name=""),)
        return ReadList(PatchList(name="", banks=banks, patches=tuple(patches)), tuple(self.doubts))

    def _cell(self, cells: list[str], kind: str) -> str:
        place = self.columns.get(kind)
        return cells[place] if place is not None and place < len(cells) else ""

    def _first_program(self, rows: list[tuple[int, list[str]]]) -> int:
        """Whether programs count from 0 or from 1, from the head or from what is there."""
        kind = "program" if "program" in self.columns else "number"
        told = self.head[self.columns[kind]] if self.head else ""
        if re.search(r"\b0 ?[-–] ?127", told):
            return 0
        if re.search(r"\b1 ?[-–] ?128", told):
            return 1
        values = [int(cell) for _, cells in rows if (cell := self._cell(cells, kind)).isdecimal()]
        if 0 in values:
            return 0
        if any(value >= 128 for value in values) or (values and min(values) == 1):
            return 1
        if values and kind == "program":
            self.doubts.append(
                Doubt(
                    0,
                    told,
                    "Neither 0 nor 128 is among the programs; they are taken as counting from 0, as on the wire.",
                )
            )
            return 0
        return 1

    def _patch(self, line: int, cells: list[str], first: int) -> Patch | None:
        before = len(self.faults)
        name = self._cell(cells, "name")
        number = self._cell(cells, "number")
        if not name:
            self.doubts.append(Doubt(line, " ".join(cells).strip(), "It has no name, and was left out."))
            return None
        msb, lsb = self._number(line, cells, "msb"), self._number(line, cells, "lsb")
        program = self._program(line, cells, first)
        if len(self.faults) > before:
            return None
        bank = self._bank(self._cell(cells, "bank"), msb, lsb)
        shown = number or str(program + first)
        return Patch(
            name=name,
            program=program,
            number=shown,
            bank=bank,
            msb=msb,
            lsb=lsb,
            category=self._cell(cells, "category"),
        )

    def _number(self, line: int, cells: list[str], kind: str) -> int | None:
        cell = self._cell(cells, kind)
        if not cell or cell in ("-", "–", "n/a"):
            return None
        if cell.isdecimal() and int(cell) <= 127:
            return int(cell)
        self.faults.append(f"line {line}: {kind} “{cell}” should be 0 to 127")
        return None

    def _program(self, line: int, cells: list[str], first: int) -> int:
        kind = "program" if "program" in self.columns else "number"
        cell = self._cell(cells, kind)
        if not cell.isdecimal():
            self.faults.append(f"line {line}: {kind} “{cell}” is no number")
            return 0
        program = int(cell) - first
        if kind == "number":
            return program % 128
        if not 0 <= program <= 127:
            self.faults.append(f"line {line}: program “{cell}” should be {first} to {127 + first}")
            return 0
        return program

    def _bank(self, name: str, msb: int | None, lsb: int | None) -> int:
        bank = Bank(name=name, msb=msb, lsb=lsb)
        if bank not in self.banks:
            self.banks.append(bank)
        return self.banks.index(bank)
