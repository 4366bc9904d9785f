"""The ProgramList resource of MIDI-CI Property Exchange (M2-103/M2-104, from memory) as JSON: `title`, `bankPC` [msb,
lsb, program], `category`, `tags`. All numbers as on the wire."""

import json
from typing import Any

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.text import json_of, text_of
from hypotaxis.core.patches.values import Bank, BankRows, Patch, PatchList, ReadList

MAX_FAULTS = 20


def read_program_list(data: bytes) -> ReadList:
    """The patch list in a ProgramList. Raises UnreadableFile that names every bad entry."""
    document = json_of(text_of(data, "program list"), "The program list")
    rows = _entries(document)
    banks = BankRows()
    patches, faults = [], []
    for place, row in enumerate(rows):
        fault = _fault(row)
        if fault:
            faults.append(f"entry {place + 1}: {fault}")
            continue
        msb, lsb, program = row["bankPC"]
        bank = banks.place_of(Bank(name=f"{msb}/{lsb}", msb=msb, lsb=lsb))
        category = row.get("category", [])
        words = [category] if isinstance(category, str) else [word for word in category if isinstance(word, str)]
        patches.append(
            Patch(
                name=row["title"].strip(),
                program=program,
                number=str(program + 1),
                bank=bank,
                msb=msb,
                lsb=lsb,
                category=", ".join(words),
            )
        )
    if faults:
        more = f"; and {len(faults) - MAX_FAULTS} more" if len(faults) > MAX_FAULTS else ""
        raise UnreadableFile(f"The program list cannot be used: {'; '.join(faults[:MAX_FAULTS])}{more}.")
    return ReadList(PatchList(name="", banks=tuple(banks), patches=tuple(patches)))


def write_program_list(patches: PatchList) -> str:
    """A list as a ProgramList; bank numbers that the list does not name are 0, as a fresh receiver has them. Patches
    without a program have no place in it."""
    rows = []
    for patch in patches.patches:
        if patch.program is None:
            continue
        row: dict[str, Any] = {"title": patch.name, "bankPC": [patch.msb or 0, patch.lsb or 0, patch.program]}
        if patch.category:
            row["category"] = [patch.category]
        rows.append(row)
    return json.dumps(rows, indent=1, ensure_ascii=False) + "\n"


def _entries(document: Any) -> list:
    """The entries, bare or inside the object that a response wraps them in."""
    if isinstance(document, dict):
        document = next((document[key] for key in ("ProgramList", "programList", "programs") if key in document), None)
    if not isinstance(document, list) or not document:
        raise UnreadableFile("This is no program list: it should be a list of entries with title and bankPC.")
    return document


def _fault(row: Any) -> str | None:
    if not isinstance(row, dict):
        return "should be an object"
    if not isinstance(row.get("title"), str) or not row["title"].strip():
        return "has no title"
    numbers = row.get("bankPC")
    whole = isinstance(numbers, list) and len(numbers) == 3
    if not whole or any(isinstance(n, bool) or not isinstance(n, int) or not 0 <= n <= 127 for n in numbers):
        return "bankPC should be three numbers from 0 to 127: bank MSB, bank LSB, program"
    return None
