"""Notes of some bars against a ruler of keys, or of a kit's voices, with their velocities and one controller below.

Across in per cent of the bars shown, down in pixels.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.drawing.paths import number
from hypotaxis.core.midi.messages import CHANNEL_PRESSURE, CONTROL_CHANGE, PITCH_BEND
from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.session.tempo import TempoMap

LEAST_H, MOST_H, WHOLE_H = 8, 18, 400
"""Of a row; and of all rows, as far as these allow."""
LEAST_ROWS, AROUND = 25, 3
STEMS_H, LINE_H = 48, 40
MOST_DRAWN = 4_000
"""Notes that are drawn one by one; of more the first ones, and the page says so."""


@dataclass(frozen=True)
class RollRow:
    """A key or voice. name: where it is written out."""

    note: int
    y: float
    name: str
    black: bool


@dataclass(frozen=True)
class RollNote:
    """A note. place: in the part's notes; x and w in per cent."""

    place: int
    x: float
    w: float
    y: float
    stem_y: float
    told: str
    note: int
    tick: int
    duration: int
    velocity: int


@dataclass(frozen=True)
class BeatLine:
    """A line; bar: its number where a bar begins, 0 for a beat."""

    x: float
    bar: int


@dataclass(frozen=True)
class Roll:
    """The picture of some bars."""

    rows: tuple[RollRow, ...]
    notes: tuple[RollNote, ...]
    left_out: int
    lines: tuple[BeatLine, ...]
    height: float
    row_h: float
    first_tick: int
    ticks: int
    controller_path: str
    """In a field of 1000 by LINE_H."""


def rows_of(notes: np.ndarray, voices: Mapping[int, str], middle_c: int) -> tuple[RollRow, ...]:
    """The rows that a part is shown against, from above: its kit's voices with whatever else it plays, or the keys
    around its notes."""
    if voices:
        named = dict(sorted(voices.items(), reverse=True))
        more = sorted({int(one) for one in np.unique(notes["note"])} - set(named), reverse=True)
        every = [*named.items(), *((note, note_name(note, middle_c)) for note in more)]
        high = _row_h(len(every))
        return tuple(RollRow(note, row * high, name, False) for row, (note, name) in enumerate(every))
    lowest, highest = (int(notes["note"].min()), int(notes["note"].max())) if len(notes) else (54, 66)
    spare = max(AROUND, -(-(LEAST_ROWS - (highest - lowest + 1)) // 2))
    keys = range(min(127, highest + spare), max(0, lowest - spare) - 1, -1)
    high = _row_h(len(keys))
    return tuple(
        RollRow(note, row * high, note_name(note, middle_c) if note % 12 == 0 else "", note % 12 in (1, 3, 6, 8, 10))
        for row, note in enumerate(keys)
    )


def _row_h(count: int) -> int:
    return min(MOST_H, max(LEAST_H, WHOLE_H // count))


def draw_roll(
    notes: np.ndarray,
    controls: np.ndarray,
    tempo: TempoMap,
    rows: Sequence[RollRow],
    *,
    first_bar: int,
    bars: int,
    controller: int,
    name,
) -> Roll:
    """Some bars of a part. controller: its number, −1 = pitch bend, −2 = pressure; name: what a note is called."""
    first, end = tempo.bar_tick(first_bar), tempo.bar_tick(first_bar + bars)
    ticks = end - first
    inside = np.flatnonzero((notes["tick"] < end) & (notes["tick"] + np.maximum(notes["duration"], 1) > first))
    tops = {row.note: row.y for row in rows}
    row_h = _row_h(len(rows))
    drawn = []
    for place in inside[:MOST_DRAWN].tolist():
        tick, duration, note, velocity = notes[place].item()
        left, right = max(tick, first), min(tick + duration, end)
        at = tempo.position(tick)
        drawn.append(
            RollNote(
                place=place,
                x=round((left - first) / ticks * 100, 4),
                w=round(max(0.25, (right - left) / ticks * 100), 4),
                y=tops[note],
                stem_y=round(STEMS_H - velocity / 127 * (STEMS_H - 2), 1),
                told=f"{name(note)}, {at}, velocity {velocity}",
                note=note,
                tick=tick,
                duration=duration,
                velocity=velocity,
            )
        )
    return Roll(
        rows=tuple(rows),
        notes=tuple(drawn),
        left_out=max(0, len(inside) - MOST_DRAWN),
        lines=tuple(_lines(tempo, first_bar, bars, first, ticks)),
        height=rows[-1].y + row_h,
        row_h=row_h,
        first_tick=first,
        ticks=ticks,
        controller_path=_controller(controls, controller, first, ticks),
    )


def _lines(tempo: TempoMap, first_bar: int, bars: int, first: int, ticks: int):
    for bar in range(first_bar, first_bar + bars):
        begins, after, beats = tempo.bar_tick(bar), tempo.bar_tick(bar + 1), tempo.beats_in_bar(bar)
        for beat in range(beats):
            tick = begins + (after - begins) * beat / beats
            yield BeatLine(round((tick - first) / ticks * 100, 4), 0 if beat else bar)


def values_of(controls: np.ndarray, controller: int) -> tuple[np.ndarray, np.ndarray]:
    """(ticks, values 0 to 1) of a controller, of pitch bend (−1) or of pressure (−2)."""
    if controller == -1:
        rows = controls[controls["status"] == PITCH_BEND]
        return rows["tick"], (rows["data1"] + 128.0 * rows["data2"]) / 16383
    if controller == -2:
        rows = controls[controls["status"] == CHANNEL_PRESSURE]
        return rows["tick"], rows["data1"] / 127
    rows = controls[(controls["status"] == CONTROL_CHANGE) & (controls["data1"] == controller)]
    return rows["tick"], rows["data2"] / 127


def controllers_in(controls: np.ndarray) -> list[int]:
    """Which there are, as `values_of` names them."""
    found = np.unique(controls["data1"][controls["status"] == CONTROL_CHANGE]).tolist()
    more = [(-1, PITCH_BEND), (-2, CHANNEL_PRESSURE)]
    return [*found, *(number for number, status in more if (controls["status"] == status).any())]


def _controller(controls: np.ndarray, controller: int, first: int, ticks: int) -> str:
    at, values = values_of(controls, controller)
    before = np.searchsorted(at, first, side="right") - 1
    inside = (at > first) & (at < first + ticks)
    if before < 0 and not inside.any():
        return ""
    # A line of steps: a value holds until the next one.
    stood = float(values[before]) if before >= 0 else float(values[inside][0])
    xs, ys = (at[inside] - first) / ticks * 1000, (1 - values[inside]) * (LINE_H - 2) + 1
    path = f"M0 {number((1 - stood) * (LINE_H - 2) + 1)}"
    return path + "".join(f"H{number(x)}V{number(y)}" for x, y in zip(xs, ys, strict=True)) + "H1000"
