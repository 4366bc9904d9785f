"""The lattice: the host's bars across, each clocked box as a row with its pattern's repeats.

Where box and host agree the lines run through; where they part, the host's count stays as a ghost and what the box
plays is dropped below it, with the misstep written at each wrap. x in px from the course's beginning, at so many px a
bar.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from math import floor

from hypotaxis.core.sync.course import Course, Stretch
from hypotaxis.core.sync.following import bar_ticks, misstep_told
from hypotaxis.core.sync.values import Following
from hypotaxis.core.units import CLOCKS_A_QUARTER

ZOOMS = (6, 12, 24, 35, 70, 140, 280, 700, 1920)
"""px a bar, from the whole song to single ticks: 96 of them in a bar of 4/4 are 20 px each."""
USUAL_ZOOM = 4
MOST_STRETCHES, MOST_PX, MOST_CELLS = 16, 60_000, 3_000
HOST_H, CELL_H, GHOST_H = 56, 38, 24
TOP, DROP, IN_STEP_H, OFF_H = 22, 76, 100, 136
BEATS_FROM, SIXTEENTHS_FROM, TICKS_FROM = 35, 280, 1920
LEAST_LABEL = 14
NUMBER_DX = 9
"""From a cell's edge to its number."""


@dataclass(frozen=True)
class Mark:
    """A line at x; label: of a bar; edge: "" or begin, end: of the loop; weight: bar, beat, sixteenth or tick."""

    x: float
    label: str = ""
    weight: str = "bar"
    edge: str = ""


@dataclass(frozen=True)
class Bracket:
    """A stretch over the bars, with its name."""

    x: float
    width: float
    label: str


@dataclass(frozen=True)
class Cell:
    """A bar of a pattern, or what a jump leaves of it. first: it begins the pattern; label: its number, "" = none."""

    x: float
    width: float
    label: str
    first: bool


@dataclass(frozen=True)
class Numbers:
    """Single characters, each at its x, as one text of SVG. xs: in a row, separated by spaces."""

    xs: str
    text: str


@dataclass(frozen=True)
class Strip:
    """Cells as few shapes, so that a page of many rows stays light. long: those whose number has several characters."""

    path: str
    firsts: str
    numbers: Numbers
    first_numbers: Numbers
    long: tuple[Cell, ...]


@dataclass(frozen=True)
class Arrow:
    """From where the host counts a pattern's beginning to where the box plays it."""

    x: float
    from_x: float
    label: str


@dataclass(frozen=True)
class RowPicture:
    """A box's row. cells: what it plays, where they agree; ghosts, dropped: what the host counts and what it plays
    where they part."""

    height: int
    cells: tuple[Cell, ...]
    ghosts: tuple[Cell, ...]
    dropped: tuple[Cell, ...]
    arrows: tuple[Arrow, ...]
    wraps: tuple[Arrow, ...]
    """What is sent, at each wrap."""
    lines: str = ""
    """The bars' lines behind it, and where the loop begins and ends."""
    edges: str = ""

    @cached_property
    def played(self) -> Strip | None:
        """What it plays, where they agree."""
        return _strip(self.cells, TOP, CELL_H)

    @cached_property
    def counted(self) -> Strip | None:
        """What the host counts, where they part."""
        return _strip(self.ghosts, TOP, GHOST_H)

    @cached_property
    def off(self) -> Strip | None:
        """What it plays, where they part."""
        return _strip(self.dropped, DROP, CELL_H)


@dataclass(frozen=True)
class Lattice:
    """The host's head. left_out: how many more times the loop is played than is drawn."""

    width: float
    marks: tuple[Mark, ...]
    brackets: tuple[Bracket, ...]
    wraps_x: tuple[float, ...]
    begin_x: float
    end_x: float
    """The loop's ends, the first time it is played."""
    left_out: int
    px_a_bar: int

    @cached_property
    def fine(self) -> str:
        """The lines inside bars."""
        return "".join(f"M{one.x} 48V{HOST_H}" for one in self.marks if one.weight != "bar")

    @cached_property
    def bars(self) -> str:
        """The bars' lines in the host's head."""
        return "".join(f"M{one.x} 26V{HOST_H}" for one in self.marks if one.weight == "bar" and not one.edge)

    @cached_property
    def edges(self) -> str:
        """Where the loop begins and ends, in the host's head."""
        return "".join(f"M{one.x} 20V{HOST_H}" for one in self.marks if one.edge)

    @cached_property
    def named(self) -> tuple[Mark, ...]:
        """The bars that carry their number."""
        return tuple(one for one in self.marks if one.label)

    def behind(self, height: int) -> tuple[str, str]:
        """(bars' lines, the loop's ends) behind a row of this height."""
        bars = [one for one in self.marks if one.weight == "bar"]
        lines = "".join(f"M{one.x} 0V{height}" for one in bars if not one.edge)
        return lines, "".join(f"M{one.x} 0V{height}" for one in bars if one.edge)


def _strip(cells: Sequence[Cell], top: int, height: int) -> Strip | None:
    """Cells as shapes, from `top` down."""
    if not cells:
        return None
    path = "".join(f"M{one.x} {top}h{one.width}v{height}h{-one.width}z" for one in cells)
    firsts = "".join(f"M{one.x} {top}h4v{height}h-4z" for one in cells if one.first)
    short = [one for one in cells if len(one.label) == 1]
    return Strip(
        path,
        firsts,
        _numbers(one for one in short if not one.first),
        _numbers(one for one in short if one.first),
        tuple(one for one in cells if len(one.label) > 1),
    )


def _numbers(cells: Iterable[Cell]) -> Numbers:
    cells = list(cells)
    return Numbers(" ".join(f"{one.x + NUMBER_DX:.2f}" for one in cells), "".join(one.label for one in cells))


class Scale:
    """Where a stretch's ticks are, in px."""

    def __init__(self, course: Course, px_a_bar: int) -> None:
        self.course, tempo = course, course.tempo
        self.a_bar = bar_ticks(course)
        """Ticks of the loop's first bar, 24 a quarter."""
        self.px = px_a_bar / float(self.a_bar * tempo.ticks_per_quarter / CLOCKS_A_QUARTER)
        """Of a tick of the score."""
        self.shown: list[tuple[Stretch, float]] = []
        x = 0.0
        for stretch in course.stretches:
            width = (stretch.end - stretch.begin) * self.px
            if len(self.shown) == MOST_STRETCHES or (self.shown and x + width > MOST_PX):
                break
            self.shown.append((stretch, x))
            x += width
        self.width = round(min(x, MOST_PX), 2)

    def ticks(self, score_ticks: int) -> Fraction:
        """Ticks of the score as 24 a quarter."""
        return Fraction(CLOCKS_A_QUARTER * score_ticks, self.course.tempo.ticks_per_quarter)

    def px_of(self, ticks: Fraction) -> float:
        """Width of ticks, 24 a quarter."""
        return float(ticks) * self.course.tempo.ticks_per_quarter / CLOCKS_A_QUARTER * self.px


def lattice(course: Course, px_a_bar: int) -> tuple[Lattice, Scale]:
    """The host's bars, and the scale on which rows are drawn."""
    scale = Scale(course, px_a_bar)
    tempo, marks, brackets, wraps = course.tempo, [], [], []
    looped = course.times > 1
    for number, (stretch, x) in enumerate(scale.shown):
        bar = tempo.position(stretch.begin).bar
        if number:
            wraps.append(round(x, 2))
        while (tick := tempo.bar_tick(bar)) < stretch.end:
            at = x + (tick - stretch.begin) * scale.px
            if at > MOST_PX:
                break
            edge = "begin" if looped and tick == course.loop[0] else ""
            every = max(1, -(-28 // px_a_bar))
            label = str(bar) if bar % every == 1 or every == 1 or edge else ""
            marks.append(Mark(round(at, 2), label, "bar", edge))
            marks += _inside(course, scale, bar, at, px_a_bar)
            bar += 1
        brackets += _brackets(course, scale, stretch, x, number)
    if looped:
        marks += [Mark(round(x, 2), "", "bar", "end") for x in (*wraps, scale.width)]
    left_out = course.times - len(scale.shown)
    ends = [round((tick - course.begin) * scale.px, 2) for tick in course.loop]
    return Lattice(scale.width, tuple(marks), tuple(brackets), tuple(wraps), *ends, left_out, px_a_bar), scale


def _inside(course: Course, scale: Scale, bar: int, x: float, px_a_bar: int) -> Iterator[Mark]:
    """Lines inside a bar, as fine as there is room for."""
    tempo = course.tempo
    first, end = tempo.bar_tick(bar), tempo.bar_tick(bar + 1)
    quarter = tempo.ticks_per_quarter
    steps = [("beat", (end - first) / tempo.beats_in_bar(bar), BEATS_FROM)]
    steps += [("sixteenth", quarter / 4, SIXTEENTHS_FROM), ("tick", quarter / CLOCKS_A_QUARTER, TICKS_FROM)]
    for weight, step, least in steps:
        if px_a_bar >= least:
            count = int((end - first) // step)
            yield from (Mark(round(x + number * step * scale.px, 2), "", weight) for number in range(1, count))


def _brackets(course: Course, scale: Scale, stretch: Stretch, x: float, number: int) -> Iterator[Bracket]:
    begin = max(stretch.begin, course.loop[0])
    run_in = (begin - stretch.begin) * scale.px
    if run_in:
        yield Bracket(round(x, 2), round(run_in, 2), "run in" if run_in > 40 else "")
    width = (stretch.end - begin) * scale.px
    times = ("first", "second", "third")
    name = f"{times[number]} time" if number < len(times) else f"time {number + 1}"
    label = (f"loop, {name}" if width > 110 else name if width > 60 else "") if course.times > 1 else "once"
    yield Bracket(round(x + run_in, 2), round(width, 2), label)


def row(scale: Scale, following: Following, walked: Sequence[Fraction], sent: str = "") -> RowPicture:
    """A box's row; walked: how far it is ahead in each stretch (core.sync.following); sent: what it is told at the
    wraps."""
    lasts = following.lasts_ticks
    cells, ghosts, dropped, arrows = [], [], [], []
    if lasts:
        # Most times round are like another: worked out once.
        drawn: dict[tuple, list[Cell]] = {}

        def cells_at(stretch: Stretch, x: float, ahead: Fraction) -> list[Cell]:
            like = (stretch.begin, stretch.end, ahead)
            if like not in drawn:
                drawn[like] = list(_cells(scale, stretch, ahead, lasts))
            return [Cell(round(x + one.x, 2), one.width, one.label, one.first) for one in drawn[like]]

        for (stretch, x), ahead in zip(scale.shown, walked, strict=False):
            if len(cells) + len(dropped) > MOST_CELLS:
                break
            if not ahead:
                cells += cells_at(stretch, x, Fraction(0))
                continue
            ghosts += cells_at(stretch, x, Fraction(0))
            dropped += cells_at(stretch, x, ahead)
            arrows += _arrow(scale, stretch, x, ahead, lasts)
    wraps = [Arrow(round(x, 2), round(x, 2), sent) for _, x in scale.shown[1:]] if sent else []
    height = OFF_H if dropped else IN_STEP_H
    return RowPicture(height, tuple(cells), tuple(ghosts), tuple(dropped), tuple(arrows), tuple(wraps))


def _cells(scale: Scale, stretch: Stretch, ahead: Fraction, lasts: int) -> Iterator[Cell]:
    """A pattern's bars in a stretch, from its beginning, each as long as the loop's first bar; whole patterns where
    there is no room for them."""
    at, end, a_bar = scale.ticks(stretch.begin), scale.ticks(stretch.end), scale.a_bar
    begin = at
    narrow = scale.px_of(a_bar) < LEAST_LABEL
    for _ in range(MOST_CELLS):
        if at >= end:
            return
        place = (at + ahead) % lasts
        until = lasts - place if narrow else min(lasts - place, a_bar - place % a_bar)
        until = min(until, end - at)
        width = scale.px_of(until)
        label = str(floor(place / a_bar) + 1) if width >= LEAST_LABEL and not place % a_bar else ""
        yield Cell(scale.px_of(at - begin), round(width, 2), label, place == 0)
        at += until


def _arrow(scale: Scale, stretch: Stretch, x: float, ahead: Fraction, lasts: int) -> Iterator[Arrow]:
    """The first beginning of the pattern that both have in a stretch."""
    begin, end = scale.ticks(stretch.begin), scale.ticks(stretch.end)
    counted, played = (-begin) % lasts, (-(begin + ahead)) % lasts
    if counted < played and ahead * 2 <= lasts:
        counted += lasts
    if max(counted, played) >= end - begin:
        counted = played = Fraction(0)
    yield Arrow(
        round(x + scale.px_of(played), 2),
        round(x + scale.px_of(counted), 2),
        misstep_told(ahead, scale.a_bar, lasts),
    )
