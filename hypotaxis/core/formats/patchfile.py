"""A patch list in whatever form it comes: which reader is meant, and which writer?"""

from collections.abc import Callable
from dataclasses import asdict, dataclass

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.namedoc import read_name_document, write_name_document
from hypotaxis.core.formats.pasted import read_pasted
from hypotaxis.core.formats.patchcsv import read_patch_table, write_patch_table
from hypotaxis.core.formats.programlist import read_program_list, write_program_list
from hypotaxis.core.formats.text import western_text
from hypotaxis.core.patches.values import PatchList, ReadList, with_remark

NAME_DOCUMENT, TABLE, PROGRAM_LIST, PASTED = "name document", "table", "program list", "pasted text"
WRITERS: dict[str, Callable[[PatchList], str]] = {
    "xml": write_name_document,
    "csv": write_patch_table,
    "json": write_program_list,
}


def read_patch_file(data: bytes, *, pasted: bool = False, form: str = "") -> tuple[str, ReadList]:
    """(what it is, the list in it). pasted: read it as text from a manual, in a number form if one is named; otherwise
    by what it begins with.

    Raises UnreadableFile with the lines that cannot be read.
    """
    if pasted:
        text, remark = western_text(data, "text")
        return PASTED, with_remark(read_pasted(text, form), remark)
    head = data.removeprefix(b"\xef\xbb\xbf").lstrip()[:1]
    if head == b"<" or (data[:2] in (b"\xff\xfe", b"\xfe\xff") and b"<" in data[:8]):
        return NAME_DOCUMENT, read_name_document(data)
    if head in (b"[", b"{"):
        return PROGRAM_LIST, read_program_list(data)
    try:
        return TABLE, read_patch_table(data)
    except UnreadableFile as error:
        raise UnreadableFile(f"{error} If it is text from a manual, read it as pasted.") from error


@dataclass(frozen=True)
class Sent:
    """What calls up the first sound of a bank: the bytes on channel 1, and where the bank's numbers were read ("" where
    the format says them itself, or nowhere)."""

    bank: str
    bytes: str
    why: str


def sent_by(found: ReadList) -> tuple[Sent, ...]:
    """What is sent for each bank of a list that was read."""
    rows = []
    for place, bank in enumerate(found.patches.banks):
        first = next((patch for patch in found.patches.patches if patch.bank == place), None)
        reason = found.reasons[place] if place < len(found.reasons) else ""
        rows.append(Sent(bank.name, first.sent if first else "", reason))
    return tuple(rows)


def summary(kind: str, found: ReadList) -> dict:
    """What was read, as plain data for the shell: banks, patches, what is sent for them, doubtful lines."""
    banks = found.patches.banks
    return {
        "format": kind,
        "name": found.patches.name,
        "numbers": found.form,
        "banks": [
            {
                "name": bank.name,
                "msb": bank.msb,
                "lsb": bank.lsb,
                "patches": sum(patch.bank == place for patch in found.patches.patches),
            }
            for place, bank in enumerate(banks)
        ],
        "patches": [
            {
                "number": patch.number,
                "msb": patch.msb,
                "lsb": patch.lsb,
                "program": patch.program,
                "name": patch.name,
                "bank": banks[patch.bank].name if patch.bank < len(banks) else "",
                "category": patch.category,
            }
            for patch in found.patches.patches
        ],
        "notes": [
            {"map": one.name, "note": note.note, "name": note.name}
            for one in found.patches.note_maps
            for note in one.notes
        ],
        "sends": [asdict(one) for one in sent_by(found)],
        "doubtful": [{"line": doubt.line, "text": doubt.text, "reason": doubt.reason} for doubt in found.doubts],
    }
