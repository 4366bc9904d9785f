"""A template as a small picture: blocks in the two inks, the same height for all kinds."""

from collections.abc import Iterator
from dataclasses import dataclass

from hypotaxis.core.rig.shapes import column_of
from hypotaxis.core.rig.values import Box, Rig
from hypotaxis.core.session.templates import (
    GridTemplate,
    InstrumentTemplate,
    PlanTemplate,
    SessionTemplate,
    Template,
)

WIDTH, HEIGHT = 120.0, 36.0
OUT, BACK, TEXT = "out", "back", "text"
MOST_ROWS, MOST_NOTES = 8, 400


@dataclass(frozen=True)
class Block:
    """A filled rectangle; ink: OUT, BACK or TEXT."""

    x: float
    y: float
    w: float
    h: float
    ink: str


def picture_of(template: Template) -> tuple[Block, ...]:
    """Its blocks, within WIDTH x HEIGHT."""
    draw = {
        InstrumentTemplate: _instrument,
        SessionTemplate: _session,
        GridTemplate: _grid,
        PlanTemplate: _plan,
    }[type(template)]
    return tuple(_rounded(one) for one in draw(template))


def picture_of_rig(rig: Rig) -> tuple[Block, ...]:
    """The boxes of a rig that is kept as a template, in the columns of its sheet; interfaces at both of its edges."""
    columns: dict[str, list[Box]] = {"hands": [], "interface": [], "boxes": []}
    for box in sorted(rig.boxes, key=lambda box: box.order):
        columns.get(column_of(box.shape), []).append(box)
    found = []
    places = (("hands", 0.0, TEXT), ("interface", 32.0, OUT), ("boxes", 64.0, TEXT), ("interface", 96.0, BACK))
    for name, x, ink in places:
        boxes = columns[name][:MOST_ROWS]
        high = HEIGHT / max(3, len(boxes))
        found += [Block(x, row * high, 24, high - 2, ink) for row in range(len(boxes))]
    return tuple(map(_rounded, found))


def _rounded(one: Block) -> Block:
    return Block(round(one.x, 2), round(one.y, 2), round(one.w, 2), round(one.h, 2), one.ink)


def _instrument(template: InstrumentTemplate) -> Iterator[Block]:
    """Its parts on the way out, the box, its returns on the way home."""
    one = template.instrument
    yield Block(WIDTH / 2 - 16, 4, 32, HEIGHT - 8, TEXT)
    home = max(1, len(one.inputs))
    for left, count, ink in ((0.0, len(one.seats), OUT), (WIDTH / 2 + 16, home, BACK)):
        shown = min(count, MOST_ROWS)
        for number in range(shown):
            yield Block(left, 6 + (number + 0.5) * (HEIGHT - 12) / shown - 0.75, WIDTH / 2 - 16, 1.5, ink)


def _session(template: SessionTemplate) -> Iterator[Block]:
    """Its notes, a row a track."""
    session = template.session
    tracks = [one for one in session.tracks if not one.away][:MOST_ROWS]
    row = HEIGHT / max(1, len(tracks))
    for number, track in enumerate(tracks):
        yield Block(0, (number + 1) * row - 0.5, WIDTH, 0.5, TEXT)
        step = max(1, len(track.notes) // MOST_NOTES)
        pitches = [note for _, _, note, _ in track.notes]
        low, span = min(pitches, default=0), max(1, max(pitches, default=0) - min(pitches, default=0))
        for tick, duration, note, _ in track.notes[::step]:
            x = WIDTH * min(1.0, tick / max(1, session.end_tick))
            w = max(0.8, min(WIDTH - x, WIDTH * duration / max(1, session.end_tick)))
            y = number * row + 1 + (row - 3) * (1 - (note - low) / span)
            yield Block(min(x, WIDTH - 0.8), y, w, 1.2, OUT)


def _grid(template: GridTemplate) -> Iterator[Block]:
    """Its first pattern, a row a voice."""
    rows = [row for row in template.grid.patterns[0].rows if row.steps][:MOST_ROWS]
    high = HEIGHT / max(1, len(rows))
    for number, row in enumerate(rows):
        steps = row.length or max(4 * row.a_quarter, 1 + max(one.place for one in row.steps))
        wide = WIDTH / steps
        for one in row.steps:
            tall = max(1.0, (high - 1) * one.velocity / 127)
            yield Block(one.place * wide, (number + 1) * high - tall, max(0.8, wide - 0.8), tall, OUT)


def _plan(template: PlanTemplate) -> Iterator[Block]:
    """Its passes from left to right, a block a track."""
    wide = WIDTH / max(1, len(template.passes))
    most = min(MOST_ROWS, max((len(one) for one in template.passes), default=1))
    high = HEIGHT / most
    for number, tracks in enumerate(template.passes):
        for row in range(min(len(tracks), most)):
            yield Block(number * wide, row * high, max(0.8, wide - 1.5), high - 1.5, BACK)
