"""A try-out as a line from barline to barline: out to the box, and home, where each return thickens into its own meter.

Coordinates in px of a picture WIDTH wide. Solid is certain, dashed is not seen from here, a sign stands where it stops.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from hypotaxis.core.drawing.levels import BOTTOM_DB, TICKS_DB, LevelBar, level_bar, level_x
from hypotaxis.core.drawing.stations import LIT, Station
from hypotaxis.core.drawing.words import short
from hypotaxis.core.playing.tryout import InputHeard
from hypotaxis.core.units import stored_level_text

WIDTH = 800
BAR_LEFT, BAR_RIGHT = 9, 791
BOX_X, BOX_W = 264, 96
SEND_X = 52
METER_X, METER_W, METER_H = 456, 264, 12
VALUE_X = 782
TOP, ROW, FOOT = 34, 36, 34
LETTER = 6.2
"""Mean width of a letter of a label."""
NAME_LETTER = 8.0


@dataclass(frozen=True)
class Dot:
    """A stop on the line. label: at (label_x, y - 12), anchored as said; whole: the label uncut."""

    x: float
    y: float
    ink: str
    lit: bool
    label: str
    anchor: str
    whole: str

    @property
    def label_y(self) -> float:
        """Where its label stands."""
        return self.y - 11


@dataclass(frozen=True)
class Stretch:
    """A piece of the line; lit: certain."""

    x: float
    to_x: float
    y: float
    ink: str
    lit: bool


@dataclass(frozen=True)
class MeterRow:
    """A return's own meter; bar and value: None and "" before anything is heard."""

    y: float
    bar: LevelBar | None
    value: str
    stops: bool

    @property
    def top(self) -> float:
        """Upper edge of the bar."""
        return self.y - METER_H / 2

    @property
    def value_y(self) -> float:
        """Baseline of the value."""
        return self.y + 5


@dataclass(frozen=True)
class TriedDrawing:
    """The whole picture. box: (x, y, width, height)."""

    height: float
    box: tuple[float, float, float, float]
    name: str
    dots: tuple[Dot, ...]
    stretches: tuple[Stretch, ...]
    meters: tuple[MeterRow, ...]
    signs: tuple[tuple[float, float], ...]
    """Where it stops."""
    scale: tuple[tuple[float, str], ...]
    middle: float
    """Height of the way out."""
    spoken: str

    @property
    def name_x(self) -> float:
        """Middle of the box."""
        return self.box[0] + self.box[2] / 2

    @property
    def name_y(self) -> float:
        """Baseline of its name."""
        return self.middle + 5

    @property
    def bytes_y(self) -> float:
        """Baseline of what left, below the way out."""
        return self.middle + 20

    @property
    def tick_y(self) -> float:
        """Top of the marks of the scale."""
        return self.height - FOOT + 2

    @property
    def scale_y(self) -> float:
        """Baseline of its figures."""
        return self.height - FOOT + 20


def draw_tried(row: Sequence[Station], inputs: Sequence[InputHeard], aim_db: float | None = None) -> TriedDrawing:
    """row: the stations of the trip; inputs: what was heard at its own returns, in their order, empty before it is
    tried."""
    outs = [one for one in row if one.ink == "out"]
    box = next(one for one in row if one.ink == "text")
    homes = [one for one in row if one.ink == "back"]
    between = [one.name for one in homes if not one.input]
    returns = [one for one in homes if one.input] or homes[-1:]
    heights = [TOP + ROW * number for number in range(max(1, len(returns)))]
    middle = heights[0] if len(heights) == 1 else (heights[0] + heights[-1]) / 2
    stretches, dots, signs = _outward(outs, box, middle)
    for station, y in zip(returns, heights, strict=False):
        lit = station.state == LIT
        stretches.append(Stretch(BOX_X + BOX_W, METER_X - 16, y, "back", lit))
        dots.append(Dot(BOX_X + BOX_W, y, "back", lit, "", "start", station.name))
        label = short(station.short or station.name, round((METER_X - BOX_X - BOX_W) / LETTER))
        told = f"{station.name}, through {', '.join(between)}" if between else station.name
        dots.append(Dot(METER_X - 16, y, "back" if not station.stops else "alarm", lit, label, "end", told))
        if station.stops and station.input:
            signs.append((BOX_X + BOX_W + 36, y))
    levels = {one.uid: one for one in inputs}
    meters = tuple(
        _meter(y, levels.get(one.input), aim_db, stops=one.stops) for one, y in zip(returns, heights, strict=False)
    )
    marks = (int(BOTTOM_DB), *TICKS_DB)
    scale = tuple((METER_X + level_x(db, METER_W), f"{db}".replace("-", "−")) for db in marks)
    bottom = heights[-1] + ROW / 2
    return TriedDrawing(
        height=bottom + FOOT,
        box=(BOX_X, TOP - 20, BOX_W, heights[-1] - heights[0] + 40),
        name=short(box.name, round((BOX_W - 12) / NAME_LETTER)),
        dots=tuple(dots),
        stretches=tuple(stretches),
        meters=meters,
        signs=tuple(signs),
        scale=scale,
        middle=middle,
        spoken=f"The trip: {'; '.join(f'{one.name} {one.state}' for one in row)}",
    )


def _outward(
    outs: Sequence[Station], box: Station, y: float
) -> tuple[list[Stretch], list[Dot], list[tuple[float, float]]]:
    """The way from the left barline into the box, its stops at equal distances."""
    pitch = (BOX_X - SEND_X) / max(1, len(outs))
    dots, stretches, x = [], [], float(BAR_LEFT)
    for number, one in enumerate(outs):
        at = SEND_X + number * pitch
        lit = one.state == LIT
        stretches.append(Stretch(x, at, y, "out", lit))
        room = round((pitch - 6) / LETTER) if len(outs) > 1 else 22
        dots.append(Dot(at, y, "out", lit, short(one.short or one.name, room), "start", one.name))
        x = at
    arrived = box.state == LIT
    stretches.append(Stretch(x, BOX_X, y, "out", arrived))
    dots.append(Dot(BOX_X, y, "out", arrived, "", "end", box.name))
    return stretches, dots, [((x + BOX_X) / 2, y)] if box.stops else []


def _meter(y: float, heard: InputHeard | None, aim_db: float | None, *, stops: bool) -> MeterRow:
    if heard is None:
        return MeterRow(y, None, "", stops)
    bar = level_bar(heard.level, heard.peak, heard.clips > 0, aim_db, scale_w=METER_W)
    return MeterRow(y, bar, stored_level_text(heard.peak), stops)
