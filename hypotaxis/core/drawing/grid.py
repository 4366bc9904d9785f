"""A pattern as a picture: cells of steps, and in them blocks whose left edge stands where the note will sound.

Pixels; a row is as wide as the bar, so that what sounds together stands above each other whatever a row's division.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import groupby

from hypotaxis.core.grid.notes import places_of, swing_steps
from hypotaxis.core.grid.values import Grid, Pattern, Row, Step, Voicing

CELL, HIGH, BEAT_GAP = 28.0, 26.0, 8.0
LEAST_BLOCK = 3.0
NEEDLE = 50.0
"""Width of the scale on which a row's swing is drawn, 50 to 75 per cent."""


@dataclass(frozen=True)
class Block:
    """A note in a cell."""

    x: float
    y: float
    w: float
    h: float


@dataclass(frozen=True)
class Cell:
    """A place of a row. step: what plays there; kind: "" = as written, "sometimes", "quiet" = repeated or muted."""

    x: float
    w: float
    place: int
    step_place: int
    step: Step | None
    blocks: tuple[Block, ...]
    kind: str
    chosen: bool
    told: str


@dataclass(frozen=True)
class RowDrawn:
    """A row. returns: where a short row begins again."""

    row: Row
    voice: Voicing
    name: str
    home: str
    heard: bool
    cells: tuple[Cell, ...]
    returns: float | None
    needle: float
    swings: bool


@dataclass(frozen=True)
class Section:
    """Rows that one sequencer's lanes drive, or none. told: what stands above them, "" = nothing."""

    told: str
    rows: tuple[RowDrawn, ...]


@dataclass(frozen=True)
class GridDrawn:
    """All rows, parted where a sequencer's lanes end; beats: x of each beat, and its number."""

    sections: tuple[Section, ...]
    width: float
    height: float
    beats: tuple[tuple[float, int], ...]
    per_quarter: float
    """Pixels a quarter, without the gaps."""

    def x_of(self, quarters: float, beat: float) -> float:
        """Where a place of the bar stands. beat: quarters a beat."""
        return quarters * self.per_quarter + int(quarters / beat + 1e-9) * BEAT_GAP


@dataclass(frozen=True)
class Named:
    """A voice as it is spoken of: its name, by which return it comes home, and the sequencer that drives it (None: no
    sequencer with a limit plays it; "" = all lanes are taken)."""

    note: int
    name: str
    home: str = ""
    sequencer: str | None = None


def draw_grid(
    grid: Grid,
    pattern: Pattern,
    voices: tuple[Named, ...],
    *,
    beats: int,
    unit: int,
    us_per_quarter: float,
    chosen: tuple[int, int] | None = None,
) -> GridDrawn:
    """A pattern in a bar of this meter. voices: in the order of the rows; chosen: (note, place)."""
    beat, quarters = 4 / unit, beats * 4 / unit
    frame = GridDrawn((), 0, HIGH, (), 4 * CELL)
    width = frame.x_of(quarters - 1e-6, beat) + 1e-6 * frame.per_quarter
    rows = []
    for one in voices:
        row, voice = pattern.row(one.note), grid.voice(one.note)
        heard = one.note in grid.heard
        per_ms = frame.per_quarter * 1000 / us_per_quarter
        cells = tuple(_cells(frame, row, voice, one.name, quarters, beat, per_ms, heard=heard, chosen=chosen))
        returns = next((cell.x for cell in cells if cell.place == row.length), None) if row.length else None
        needle = NEEDLE * (voice.swing - 50) / 25
        rows.append(RowDrawn(row, voice, one.name, one.home, heard, cells, returns, needle, row.a_quarter % 2 == 0))
    marks = tuple((frame.x_of(number * beat, beat), number + 1) for number in range(beats))
    return GridDrawn(tuple(_sections(voices, rows)), width, HIGH, marks, frame.per_quarter)


def _sections(voices: tuple[Named, ...], rows: list[RowDrawn]) -> Iterator[Section]:
    """The rows, parted by who drives them."""
    before = ""
    pairs = zip(voices, rows, strict=True)
    for number, (sequencer, group) in enumerate(groupby(pairs, key=lambda pair: pair[0].sequencer)):
        mine = tuple(row for _, row in group)
        told = ""
        if number and sequencer:
            told = f"The lanes of {before} end here. What follows plays from {sequencer}, beside it."
        elif number and before:
            told = f"The lanes of {before} end here. What follows needs another beside it; the host plays it anyway."
        before = sequencer or before
        yield Section(told, mine)


def _cells(frame, row: Row, voice: Voicing, name: str, quarters, beat, per_ms, *, heard, chosen):
    step_w = frame.per_quarter / row.a_quarter
    for placed in places_of(row, quarters):
        x = frame.x_of(placed.place / row.a_quarter, beat)
        left = (quarters - placed.place / row.a_quarter) * frame.per_quarter
        step = row.at(placed.step_place)
        late = swing_steps(placed.place, row, voice) * step_w + voice.shift_ms * per_ms
        kind = "quiet" if placed.again or not heard else "sometimes" if step and step.chance < 100 else ""
        yield Cell(
            x=round(x, 2),
            w=round(min(step_w, left), 2),
            place=placed.place,
            step_place=placed.step_place,
            step=step,
            blocks=tuple(_blocks(step, x + late, step_w)) if step else (),
            kind=kind,
            chosen=chosen == (row.note, placed.step_place) and not placed.again,
            told=_told(name, placed.step_place, step),
        )


def _blocks(step: Step, x: float, step_w: float):
    each = step_w / step.repeats
    width = max(LEAST_BLOCK, min(step.length, 1.0) * each - 1)
    height = max(2.0, step.velocity / 127 * (HIGH - 2))
    for number in range(step.repeats):
        yield Block(round(x + number * each, 2), round(HIGH - height, 2), round(width, 2), round(height, 2))


def _told(name: str, place: int, step: Step | None) -> str:
    if step is None:
        return f"{name}, step {place + 1}: nothing"
    more = f", {step.repeats} times" if step.repeats > 1 else ""
    more += f", plays in {step.chance} %" if step.chance < 100 else ""
    return f"{name}, step {place + 1}: velocity {step.velocity}{more}"


@dataclass(frozen=True)
class StepSum:
    """When a step sounds after the straight one, in ms."""

    swing: float
    shift: float

    @property
    def whole(self) -> float:
        """Both together."""
        return self.swing + self.shift


def step_sum(row: Row, voice: Voicing, place: int, us_per_quarter: float) -> StepSum:
    """By how many ms a step sounds later than straight, and of what that is made."""
    return StepSum(swing_steps(place, row, voice) * us_per_quarter / row.a_quarter / 1000, voice.shift_ms)


def voices_in_order(grid: Grid, named: Mapping[int, Named]) -> tuple[Named, ...]:
    """The voices of the rows: those of the note map in its order, then the notes that only patterns have."""
    more = sorted({row.note for one in grid.patterns for row in one.rows if row.steps} - set(named))
    return (*named.values(), *(Named(note, f"note {note}") for note in more))
