"""A grid as a table: what holds for all of it, then a row a voice, with its steps in cells.

    order,AAAB
    seed,1
    voice,note,swing,shift ms,level dB,mute,solo
    pattern,note,a quarter,length,1,2,3,…

Each line begins with what it is. A cell holds a velocity, and behind it what is not as usual: `x3` three repeats, `@50`
plays in 50 per cent, `/0.25` lasts a quarter of a step. Written and read back exactly.
"""

import re

from hypotaxis.core.errors import BadBars, UnreadableFile
from hypotaxis.core.formats.cells import table_rows, table_text
from hypotaxis.core.formats.text import western_text
from hypotaxis.core.grid.values import LETTERS, MOST_STEPS, Grid, Pattern, Row, Step, Voicing
from hypotaxis.core.session.arrange import MOST_BARS

MAX_FAULTS = 20
_CELL = re.compile(r"(\d{1,3})(?:x(\d))?(?:@(\d{1,3}))?(?:/(\d{1,2}(?:\.\d{1,20})?))?", re.ASCII)
_USUAL = Step(0)


def write_grid_table(grid: Grid, names: dict[int, str]) -> str:
    """A grid as comma-separated text. names: of voices by note, for the reader's eye."""
    rows: list[list] = [
        ["order", "".join(one or "-" for one in grid.order)],
        ["seed", grid.seed],
    ]
    rows.append(["on", int(grid.on)])
    rows.append(["head", "note", "name", "swing %", "shift ms", "level dB", "mute", "solo"])
    for one in grid.voices:
        kept = [one.note, names.get(one.note, ""), one.swing, one.shift_ms, one.level_db, int(one.mute), int(one.solo)]
        rows.append(["voice", *kept])
    for pattern in grid.patterns:
        rows.append([f"pattern {pattern.name}", "note", "name", "steps a quarter", "length, 0 = the bar"])
        for row in pattern.rows:
            last = row.steps[-1].place + 1 if row.steps else 0
            cells = [_cell(row.at(place)) for place in range(last)]
            rows.append(["row", row.note, names.get(row.note, ""), row.a_quarter, row.length, *cells])
    return table_text(rows)


def _cell(step: Step | None) -> str:
    if step is None:
        return ""
    more = f"x{step.repeats}" if step.repeats != _USUAL.repeats else ""
    more += f"@{step.chance}" if step.chance != _USUAL.chance else ""
    return f"{step.velocity}{more}" + (f"/{step.length!r}" if step.length != _USUAL.length else "")


def read_grid_table(data: bytes) -> Grid:
    """The grid in a table. Raises UnreadableFile that names every bad line."""
    text, _ = western_text(data, "table")
    reading, faults = _Reading(), []
    for line, cells in table_rows(text):
        try:
            reading.line(cells)
        except (BadBars, ValueError) as error:
            faults.append(f"Line {line}: {error}")
    try:
        grid = reading.grid()
    except BadBars as error:
        faults.append(str(error))
    if faults:
        more = f" And {len(faults) - MAX_FAULTS} more." if len(faults) > MAX_FAULTS else ""
        raise UnreadableFile("The grid was not read. " + " ".join(faults[:MAX_FAULTS]) + more)
    return grid


class _Reading:
    """What has been read so far."""

    def __init__(self) -> None:
        self.whole: dict[str, int] = {}
        self.order = ""
        self.voices: list[Voicing] = []
        self.patterns: dict[str, list[Row]] = {}

    def line(self, cells: list[str]) -> None:
        what, *rest = cells
        word = what.strip().casefold()
        if word == "order":
            self.order = _first(rest, "the order of the patterns")
        elif word in ("seed", "on"):
            self.whole[word] = _whole(_first(rest, word), word)
        elif word == "head":
            return
        elif word == "voice":
            note, _, swing, shift, level, mute, solo = _exactly(rest, 7, "A voice")
            numbers = [_number(text, name) for text, name in ((swing, "swing"), (shift, "shift"), (level, "level"))]
            self.voices.append(Voicing(_whole(note, "note"), *numbers, mute=mute == "1", solo=solo == "1"))
        elif word.startswith("pattern "):
            name = word.removeprefix("pattern ").upper()
            if name not in LETTERS or len(name) != 1 or name in self.patterns:
                raise ValueError(f"“{name}” is no letter for a pattern, or comes twice: {LETTERS[0]} to {LETTERS[-1]}.")
            self.patterns[name] = []
        elif word == "row":
            self._row(rest)
        else:
            raise ValueError(f"“{what[:20]}” is none of order, seed, on, head, voice, pattern and row.")

    def _row(self, cells: list[str]) -> None:
        if not self.patterns:
            raise ValueError("A row stands before the first pattern.")
        if len(cells) < 4:
            raise ValueError("A row has a note, a name, steps a quarter and a length, then its steps.")
        note, _, a_quarter, length, *steps = cells
        if len(steps) > MOST_STEPS and any(steps[MOST_STEPS:]):
            raise ValueError(f"A row has at most {MOST_STEPS} steps.")
        made = tuple(_step(place, cell) for place, cell in enumerate(steps) if cell.strip())
        rows = next(reversed(self.patterns.values()))
        number = _whole(note, "note")
        if any(one.note == number for one in rows):
            raise ValueError(f"Note {number} has two rows in one pattern.")
        rows.append(Row(number, _whole(a_quarter, "steps a quarter"), _whole(length, "length"), made))

    def grid(self) -> Grid:
        if not self.patterns:
            raise BadBars("It has no pattern.")
        patterns = tuple(Pattern(name, tuple(rows)) for name, rows in self.patterns.items())
        order = tuple("" if one == "-" else one for one in self.order.upper())
        if unknown := sorted({one for one in order if one and one not in self.patterns}):
            raise BadBars(f"The order names {', '.join(unknown)}, which is no pattern of it.")
        if len(order) > MOST_BARS:
            raise BadBars(f"The order has more than {MOST_BARS:,} bars.")
        notes = [one.note for one in self.voices]
        if len(notes) != len(set(notes)):
            raise BadBars("A voice comes twice.")
        seed, on = self.whole.get("seed", 1), self.whole.get("on", 1) == 1
        return Grid(patterns, order, tuple(self.voices), seed=seed, on=on)


def _first(cells: list[str], what: str) -> str:
    return cells[0].strip() if cells else _missing(what)


def _missing(what: str) -> str:
    raise ValueError(f"{what} is missing.")


def _exactly(cells: list[str], count: int, what: str) -> list[str]:
    while len(cells) > count and not cells[-1].strip():
        cells = cells[:-1]
    if len(cells) != count:
        raise ValueError(f"{what} has {count} cells behind its name, not {len(cells)}.")
    return [cell.strip() for cell in cells]


def _whole(text: str, what: str) -> int:
    if not re.fullmatch(r"\d{1,9}", text.strip(), re.ASCII):
        raise ValueError(f"“{text[:20]}” is no whole number for {what}.")
    return int(text)


def _number(text: str, what: str) -> float:
    if not re.fullmatch(r"-?\d{1,6}(\.\d{1,20})?(e-\d{1,3})?", text.strip(), re.ASCII):
        raise ValueError(f"“{text[:20]}” is no number for {what}.")
    return float(text)


def _step(place: int, cell: str) -> Step:
    found = _CELL.fullmatch(cell.strip())
    if not found:
        raise ValueError(f"step {place + 1}, “{cell[:20]}”, is none: a velocity, then x repeats, @ per cent, / length.")
    velocity, repeats, chance, length = found.groups()
    return Step(
        place,
        velocity=int(velocity),
        length=float(length) if length else _USUAL.length,
        chance=int(chance) if chance else _USUAL.chance,
        repeats=int(repeats) if repeats else _USUAL.repeats,
    )
