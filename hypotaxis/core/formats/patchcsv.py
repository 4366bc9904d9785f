"""Patch lists as tables: comma, semicolon or tab between columns, one patch a row.

The columns are found by their heads, in any order; without heads two columns are number and name. Our own tables are
written with `bank, number, msb, lsb, program (0-127), name, category` and read back exactly. Cells that a spreadsheet
would take for a formula are written with an apostrophe in front.
"""

import re

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.cells import table_rows, table_text
from hypotaxis.core.formats.text import western_text
from hypotaxis.core.patches.bankwords import HEXADECIMAL, counts_in_sixteens, number_in
from hypotaxis.core.patches.heads import columns_of
from hypotaxis.core.patches.values import Bank, BankRows, Doubt, Patch, PatchList, ReadList, with_remark

HEAD = ("bank", "number", "msb", "lsb", "program (0-127)", "name", "category")
CONTROLS = "controllers"
"""A further column of lists in which sounds have controllers of their own: number=value, parted by spaces."""
MAX_FAULTS = 20


def read_patch_table(data: bytes) -> ReadList:
    """The patch list in a table. Raises UnreadableFile that names every bad line."""
    text, remark = western_text(data, "table")
    rows = table_rows(text)
    if not rows:
        raise UnreadableFile("The table has no rows.")
    columns = columns_of(rows[0][1])
    head = rows[0][1] if columns else []
    columns |= {CONTROLS: head.index(CONTROLS)} if CONTROLS in head else {}
    body = rows[1:] if columns else rows
    if not columns:
        columns = _guessed(body)
    if not body:
        raise UnreadableFile("The table has a head and no patches below it.")
    if "program" not in columns and "number" not in columns:
        raise UnreadableFile("Line 1: no column says the program or the number. Name one “program” or “number”.")
    return with_remark(_Table(columns, head, body).read(body), remark)


def write_patch_table(patches: PatchList, delimiter: str = ",") -> str:
    """The patches of a list as a table, with every number as on the wire beside what the box displays."""
    controls = any(patch.controls for patch in patches.patches)
    rows = [[*HEAD, *([CONTROLS] if controls else [])]]
    for patch in patches.patches:
        bank = patches.banks[patch.bank].name if patch.bank < len(patches.banks) else ""
        numbers = ["" if value is None else value for value in (patch.msb, patch.lsb)]
        program = "" if patch.program is None else patch.program
        row = [bank, patch.number, *numbers, program, patch.name, patch.category]
        row += [" ".join(f"{number}={value}" for number, value in patch.controls)] if controls else []
        rows.append(row)
    return table_text(rows, delimiter)


def _guessed(rows: list[tuple[int, list[str]]]) -> dict[str, int]:
    """Columns of a table without a head: by what stands in them."""
    width = max(len(cells) for _, cells in rows)
    number = re.compile(rf"\d{{1,4}}|{HEXADECIMAL}")
    numeric = [place for place in range(width) if all(number.fullmatch(c[place]) for _, c in rows if len(c) > place)]
    words = [place for place in range(width) if place not in numeric]
    if not words:
        raise UnreadableFile("Line 1: no column holds names.")
    known = {1: ("number",), 2: ("number", "program"), 3: ("msb", "lsb", "program")}.get(len(numeric), ())
    if not known:
        raise UnreadableFile("Line 1: give the columns heads, such as number, msb, lsb, program and name.")
    return dict(zip(known, numeric, strict=True)) | {"name": words[0]}


class _Table:
    """Reads the rows of one table, collecting what is wrong and what is doubtful."""

    def __init__(self, columns: dict[str, int], head: list[str], rows: list[tuple[int, list[str]]]) -> None:
        self.columns, self.head = columns, head
        self.by_sixteen = {
            kind: counts_in_sixteens(self._cell(head, kind), [self._cell(cells, kind) for _, cells in rows])
            for kind in ("msb", "lsb", "program", "number")
        }
        self.faults: list[str] = []
        self.doubts: list[Doubt] = []
        self.banks = BankRows()

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

    def _read(self, cells: list[str], kind: str) -> int | None:
        return number_in(self._cell(cells, kind), self.by_sixteen[kind])

    def _first_program(self, rows: list[tuple[int, list[str]]]) -> int:
        """Whether programs count from 0 or from 1, from the head or from what is there."""
        kind = "program" if "program" in self.columns else "number"
        told = self.head[self.columns[kind]] if self.head else ""
        if re.search(r"\b0 ?[-–] ?127", told):
            return 0
        if re.search(r"\b1 ?[-–] ?128", told):
            return 1
        values = [value for _, cells in rows if (value := self._read(cells, kind)) is not None]
        if 0 in values:
            return 0
        if any(value >= 128 for value in values) or (values and min(values) == 1):
            return 1
        if values and (kind == "program" or self.by_sixteen[kind]):
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
        controls = self._controls(line, cells)
        # A sound that bank select or controllers alone call up has an empty cell in the column of programs.
        alone = bool(controls) or (msb, lsb) != (None, None)
        bare = alone and "program" in self.columns and not self._cell(cells, "program")
        program = None if bare else self._program(line, cells, first)
        if len(self.faults) > before:
            return None
        bank = self._bank(self._cell(cells, "bank"), msb, lsb)
        shown = number or ("" if program is None else str(program + first))
        return Patch(
            name=name,
            program=program,
            number=shown,
            bank=bank,
            msb=msb,
            lsb=lsb,
            category=self._cell(cells, "category"),
            controls=controls,
        )

    def _controls(self, line: int, cells: list[str]) -> tuple[tuple[int, int], ...]:
        found = []
        for word in self._cell(cells, CONTROLS).split():
            pair = re.fullmatch(r"(\d{1,3})=(\d{1,3})", word)
            if not pair or max(int(pair[1]), int(pair[2])) > 127:
                self.faults.append(f"line {line}: controller “{word}” should be a number and a value, such as 70=5")
                continue
            found.append((int(pair[1]), int(pair[2])))
        return tuple(found)

    def _number(self, line: int, cells: list[str], kind: str) -> int | None:
        cell = self._cell(cells, kind)
        if not cell or cell in ("-", "–", "n/a"):
            return None
        value = self._read(cells, kind)
        if value is not None and value <= 127:
            return value
        self.faults.append(f"line {line}: {kind} “{cell}” should be 0 to 127")
        return None

    def _program(self, line: int, cells: list[str], first: int) -> int:
        kind = "program" if "program" in self.columns else "number"
        cell, value = self._cell(cells, kind), self._read(cells, kind)
        if value is None:
            self.faults.append(f"line {line}: {kind} “{cell}” is no number")
            return 0
        program = value - first
        if kind == "number":
            return program % 128
        if not 0 <= program <= 127:
            self.faults.append(f"line {line}: program “{cell}” should be {first} to {127 + first}")
            return 0
        return program

    def _bank(self, name: str, msb: int | None, lsb: int | None) -> int:
        bank = Bank(name=name, msb=msb, lsb=lsb)
        return self.banks.place_of(bank)
