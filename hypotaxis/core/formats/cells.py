"""Tables as text: comma, semicolon or tab between cells; what a spreadsheet would take for a formula is written with an
apostrophe in front, and read back as it was."""

import csv
import io
from collections.abc import Iterable, Sequence

from hypotaxis.core.errors import UnreadableFile

_FORMULA = tuple("=+-@'\t\r")


def table_rows(text: str) -> list[tuple[int, list[str]]]:
    """(line, cells) of every row that holds anything. Raises UnreadableFile with the line."""
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


def table_text(rows: Iterable[Sequence], delimiter: str = ",") -> str:
    """Rows as text; numbers stand as they are."""
    stream = io.StringIO()
    plain = csv.writer(stream, delimiter=delimiter, lineterminator="\n")
    # The library leaves a lone carriage return unquoted, and readers end the line there.
    quoted = csv.writer(stream, delimiter=delimiter, lineterminator="\n", quoting=csv.QUOTE_NONNUMERIC)
    for row in rows:
        cells = [_safe(cell) if isinstance(cell, str) else cell for cell in row]
        returns = any("\r" in cell for cell in cells if isinstance(cell, str))
        (quoted if returns else plain).writerow(cells)
    return stream.getvalue()


def _safe(cell: str) -> str:
    return f"'{cell}" if cell[:1] in _FORMULA and cell else cell


def _plain(cell: str) -> str:
    cell = cell.strip()
    return cell[1:] if len(cell) > 1 and cell[0] == "'" and cell[1] in _FORMULA else cell
