"""A grid as notes: where does each step sound, how loud, how long?

Swing s: the second of a pair of steps stands at s per cent of the pair. A level is a velocity: 40·log10(v/127) dB is
what a box is to make of it (General MIDI 2, RP-024, from memory); boxes differ. What plays only sometimes is drawn from
the seed, the bar, the voice and the step: the same bar always plays the same, so that what is heard, recorded and
printed is one.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.grid.values import LOUDEST, STRAIGHT, Grid, Pattern, Row, Voicing
from hypotaxis.core.session.score import NOTE, in_order, no_notes
from hypotaxis.core.session.tempo import TempoMap

_BAR = np.dtype([("at", "f8"), ("length", "f8"), ("shift_us", "f8"), ("note", "u1"), ("velocity", "u1")])


@dataclass(frozen=True)
class Placed:
    """A step as it comes within a bar. place: counted through the bar from 0; again: the row repeats itself here."""

    place: int
    step_place: int
    again: bool


def places_of(row: Row, quarters: float) -> Iterator[Placed]:
    """Every place of a row in a bar of so many quarters, in order; the last one may be cut by the bar's end."""
    count = int(np.ceil(round(quarters * row.a_quarter, 6)))
    length = row.length or count
    return (Placed(place, place % length, place >= length) for place in range(count))


def swing_steps(place: int, row: Row, voice: Voicing) -> float:
    """How many steps later than straight the step at a place stands."""
    swung = row.a_quarter % 2 == 0 and place % 2 == 1
    return (voice.swing / STRAIGHT - 1.0) if swung else 0.0


def velocity_of(velocity: int, voice: Voicing) -> int:
    """What is sent for a velocity at a voice's level."""
    return int(np.clip(round(velocity * 10 ** (voice.level_db / 40.0)), 1, LOUDEST))


def grid_notes(grid: Grid, tempo: TempoMap, end_tick: int) -> np.ndarray:
    """The notes (core.session.score.NOTE) of a grid up to a tick, in order of time."""
    bars = [(bar, name) for bar, name in grid.bars() if tempo.bar_tick(bar) < end_tick]
    made: dict[tuple[str, float], tuple[np.ndarray, np.ndarray]] = {}
    pieces, draws = [], []
    for bar, name in bars:
        begins = tempo.bar_tick(bar)
        quarters = (tempo.bar_tick(bar + 1) - begins) / tempo.ticks_per_quarter
        key = (name, quarters)
        if key not in made:
            made[key] = _bar(grid, grid.pattern(name), quarters)
        rows, chances = made[key]
        placed = rows.copy()
        placed["at"] = begins + rows["at"] * tempo.ticks_per_quarter
        placed["length"] *= tempo.ticks_per_quarter
        pieces.append(placed)
        draws.append(_draw(grid.seed, bar, chances))
    if not pieces:
        return no_notes()
    every = np.concatenate(pieces)[np.concatenate(draws)]
    return _as_notes(every, tempo, end_tick)


def pattern_notes(grid: Grid, name: str, tempo: TempoMap) -> np.ndarray:
    """The notes of a pattern in the first bar of a tempo map, all that may play among them, also before tick 0."""
    quarters = tempo.bar_tick(2) / tempo.ticks_per_quarter
    rows, chances = _bar(grid, grid.pattern(name), quarters)
    rows = rows[chances["chance"] > 0]
    rows["at"] *= tempo.ticks_per_quarter
    rows["length"] *= tempo.ticks_per_quarter
    return _as_notes(rows, tempo, tempo.bar_tick(2), early=True)


def _bar(grid: Grid, pattern: Pattern, quarters: float) -> tuple[np.ndarray, np.ndarray]:
    """(notes of a bar, in quarters from its beginning; what their chance is drawn from)."""
    rows, chances, heard = [], [], grid.heard
    for row in pattern.rows:
        voice = grid.voice(row.note)
        if row.note not in heard:
            continue
        for placed in places_of(row, quarters):
            step = row.at(placed.step_place)
            if step is None:
                continue
            at = (placed.place + swing_steps(placed.place, row, voice)) / row.a_quarter
            each = 1.0 / row.a_quarter / step.repeats
            velocity = velocity_of(step.velocity, voice)
            for number in range(step.repeats):
                rows.append((at + number * each, step.length * each, voice.shift_ms * 1000.0, row.note, velocity))
                chances.append((row.note, placed.place, step.chance))
    chance = np.array(chances, dtype=[("note", "u8"), ("place", "u8"), ("chance", "u8")])
    return np.array(rows, dtype=_BAR), chance


def _as_notes(rows: np.ndarray, tempo: TempoMap, end_tick: int, *, early: bool = False) -> np.ndarray:
    ticks = np.rint(rows["at"]).astype(np.int64)
    shifted = rows["shift_us"] != 0
    if shifted.any():
        moved = tempo.ticks_at_us(tempo.us_at(ticks[shifted]) + rows["shift_us"][shifted])
        # Swing and shift are rounded once, together.
        ticks[shifted] = np.rint(moved + rows["at"][shifted] - ticks[shifted]).astype(np.int64)
    notes = np.zeros(len(rows), dtype=NOTE)
    notes["tick"] = ticks if early else np.maximum(ticks, 0)
    notes["duration"] = np.maximum(1, np.rint(rows["length"]).astype(np.int64))
    notes["note"], notes["velocity"] = rows["note"], rows["velocity"]
    return apart(in_order(notes[notes["tick"] < end_tick]), end_tick)


def apart(notes: np.ndarray, end_tick: int) -> np.ndarray:
    """Each note ended where the next of the same pitch begins, and with the piece. Of two that fall on one tick the
    louder one stays."""
    order = np.lexsort((notes["velocity"], notes["tick"], notes["note"]))
    by_pitch = notes[order]
    same = np.append((np.diff(by_pitch["note"]) == 0) & (np.diff(by_pitch["tick"]) == 0), False)
    by_pitch = by_pitch[~same] if len(by_pitch) else by_pitch
    following = np.append(by_pitch["tick"][1:], end_tick)
    following[np.append(np.diff(by_pitch["note"]) != 0, True)] = end_tick
    by_pitch["duration"] = np.minimum(by_pitch["duration"], np.minimum(following, end_tick) - by_pitch["tick"])
    return in_order(by_pitch)


def _draw(seed: int, bar: int, chances: np.ndarray) -> np.ndarray:
    """Which of a bar's notes play (bool). The repeats of a step play together or not at all."""
    drawn = np.full(len(chances), np.uint64(seed), dtype=np.uint64)
    for part in (np.uint64(bar), chances["note"], chances["place"]):
        drawn = mixed(drawn ^ part)
    return (drawn >> np.uint64(11)).astype(np.float64) / 2**53 * 100 < chances["chance"]


def mixed(values: np.ndarray) -> np.ndarray:
    """Whole numbers (uint64) thoroughly mixed: a step of SplitMix64 (Steele, Lea, Flood: Fast splittable pseudorandom
    number generators, 2014)."""
    with np.errstate(over="ignore"):
        values = values + np.uint64(0x9E3779B97F4A7C15)
        values = (values ^ (values >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        values = (values ^ (values >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return values ^ (values >> np.uint64(31))
