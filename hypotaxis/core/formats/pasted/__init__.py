"""Patch lists pasted from a manual: which lines are sounds, which number form is it, what is page rubbish?

The text is read in every form of core.patches.numbers; the one in which the numbers count on from each other best is
taken. Entries may stand several to a line, number first or number last, number and name on lines of their own, or in a
table whose head names MSB, LSB and program. Whatever could mean something else is told with its line; nothing is
guessed in silence.
"""

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.pasted.counting import best_reading, likeliest_reading, uneven
from hypotaxis.core.formats.pasted.gathering import Gathering
from hypotaxis.core.formats.pasted.lines import lines_of
from hypotaxis.core.formats.pasted.tables import LEAST_ENTRIES, table_in, triples_in
from hypotaxis.core.patches.numbers import FORMS
from hypotaxis.core.patches.values import ReadList

MOST_CHARACTERS = 2_000_000


def read_pasted(text: str, form: str = "") -> ReadList:
    """The patch list in a pasted text. form: the key of the only number form to read it in; "": the one that fits best.
    Raises UnreadableFile where nothing counts on."""
    if len(text) > MOST_CHARACTERS:
        raise UnreadableFile(f"The text has more than {MOST_CHARACTERS} characters. Paste one list at a time.")
    lines = lines_of(text)
    table = None if form else table_in(lines) or triples_in(lines)
    if table:
        return table
    best, layout, entries = best_reading(lines, [FORMS[form]]) if form else likeliest_reading(text, lines)
    if form and len(entries) < LEAST_ENTRIES:
        raise UnreadableFile(f"No number in this text reads as {best.title}. Choose another form.")
    if len(entries) < LEAST_ENTRIES:
        raise UnreadableFile(
            uneven(lines)
            or "No numbers in this text count on from each other. Each sound needs its number, in one form throughout: "
            "1, 001, A1, A01 or 11 to 88."
        )
    return Gathering(lines, best, layout, entries).read()
