"""Pasted tables: rows below a head that names their columns, or bank and program joined beside each name."""

import re

from hypotaxis.core.formats.pasted.lines import RUBBISH, TOKEN, Line, is_head
from hypotaxis.core.patches.bankwords import counts_in_sixteens, number_in
from hypotaxis.core.patches.heads import columns_of
from hypotaxis.core.patches.numbers import PROGRAMS
from hypotaxis.core.patches.values import Bank, BankRows, Doubt, Patch, PatchList, ReadList

LEAST_ENTRIES = 2
_WORD, _WORDS, _NUMBER = r"\S+", r"\S[^\t]*?", rf"-|–|{TOKEN}"


def table_in(lines: list[Line]) -> ReadList | None:
    """The list in a table whose head names a program or bank column, or None. A head may come again on each page."""
    for place, line in enumerate(lines):
        heads = _head(line.text)
        if heads:
            return _rows_below(lines[place + 1 :], heads, line)
    return None


_TRIPLE = r"(?P<msb>\d{1,3})\s*[-/.,:]\s*(?P<lsb>\d{1,3})\s*[-/.,:]\s*(?P<program>\d{1,3})"


def triples_in(lines: list[Line]) -> ReadList | None:
    """The list in lines that begin or end with bank MSB, bank LSB and program joined by signs, or None."""
    first, last = (
        re.compile(p) for p in (rf"{_TRIPLE}[\s:.)]+(?P<name>\S.*)", rf"(?P<name>\S.*?)\s+[(\[]?{_TRIPLE}[)\]]?")
    )
    rows, doubts = [], []
    for line in (line for line in lines if line.text):
        found = first.fullmatch(line.text) or last.fullmatch(line.text)
        if found:
            rows.append((line, found.groupdict()))
        elif not RUBBISH.fullmatch(line.text) and not _head(line.text) and not is_head(line.text):
            doubts.append(Doubt(line.number, line.text, "It has no bank and program; left out."))
    if len(rows) < LEAST_ENTRIES or len(rows) < 2 * len(doubts):
        return None
    values = [int(row["program"]) for _, row in rows]
    decimal = dict.fromkeys(("msb", "lsb", "program"), False)
    return _from_table(rows, "program", 0 if 0 in values else 1, doubts, decimal, "the three numbers beside each name")


def _head(text: str) -> list[str] | None:
    """Kinds of the columns from left to right; None where the line is no head with numbers beside a name."""
    cells = [cell for cell in re.split(r"\t+|\s{2,}", text) if cell]
    if len(cells) < 3:
        cells = text.split()
    columns = columns_of(cells)
    if "name" not in columns or len(columns) < 3 or not {"program", "msb", "lsb"} & columns.keys():
        return None
    # Banks without a number in them call up nothing.
    if not {"program", "number"} & columns.keys():
        return None
    return sorted(columns, key=columns.get)


def _rows_below(lines: list[Line], heads: list[str], head: Line) -> ReadList | None:
    at = heads.index("name")
    words = {"bank", "category"}
    left, right = heads[:at], heads[at + 1 :]
    pattern = re.compile(
        r"\s*"
        + "".join(rf"(?P<{kind}>{_WORD if kind in words else TOKEN})\s+" for kind in left)
        + r"(?P<name>\S.*?)"
        + "".join(rf"\s+(?P<{kind}>{_WORDS if kind in words else _NUMBER})" for kind in right)
        + r"\s*"
    )
    rows, doubts = [], []
    for line in lines:
        found = pattern.fullmatch(line.text)
        if found:
            rows.append((line, found.groupdict()))
        elif line.text and not _head(line.text) and not RUBBISH.fullmatch(line.text):
            doubts.append(Doubt(line.number, line.text, "It does not fit the columns of the table; left out."))
    if len(rows) < LEAST_ENTRIES:
        return None
    kind = "program" if "program" in heads else "number"
    by_sixteen = {
        name: counts_in_sixteens(head.text, [row.get(name) or "" for _, row in rows]) for name in ("msb", "lsb", kind)
    }
    values = [value for _, row in rows if (value := number_in(row.get(kind, ""), by_sixteen[kind])) is not None]
    first = 1 if (values and 0 not in values and not by_sixteen[kind]) or PROGRAMS in values else 0
    if values and 0 not in values and PROGRAMS not in values and min(values) != 1:
        counting = "on the wire, from 0" if by_sixteen[kind] else "counting from 1"
        doubts.append(Doubt(0, "", f"Neither 0 nor 128 is among the programs; they are taken as {counting}."))
    return _from_table(rows, kind, first, doubts, by_sixteen, f"the columns below line {head.number}")


def _from_table(
    rows: list[tuple[Line, dict]],
    kind: str,
    first: int,
    doubts: list[Doubt],
    by_sixteen: dict[str, bool],
    reason: str,
) -> ReadList:
    banks = BankRows()
    patches = []
    for line, row in rows:
        numbers = {name: _seven_bits(number_in(row.get(name) or "", by_sixteen[name])) for name in ("msb", "lsb")}
        text = row[kind]
        value = number_in(text, by_sixteen[kind])
        if value is None or not 0 <= value - first < PROGRAMS:
            doubts.append(Doubt(line.number, line.text, f"“{text}” is no program; left out."))
            continue
        for name, number in numbers.items():
            if number is None and number_in(row.get(name) or "", by_sixteen[name]) is not None:
                doubts.append(
                    Doubt(line.number, line.text, f"{name.upper()} {row[name]} should be 0 to 127; left out.")
                )
        bank = banks.place_of(Bank(name=row.get("bank") or "", **numbers))
        patches.append(
            Patch(
                name=row["name"].strip(),
                program=value - first,
                number=row.get("number") or text,
                bank=bank,
                category=(row.get("category") or "").strip(),
                **numbers,
            )
        )
    ordered = tuple(sorted(doubts, key=lambda doubt: doubt.line))
    found = PatchList(name="", banks=tuple(banks), patches=tuple(patches))
    reasons = (reason,) * len(found.banks)
    return ReadList(found, ordered, "1" if first else "0", reasons)


def _seven_bits(value: int | None) -> int | None:
    return value if value is not None and value <= 127 else None
