"""The host's own repeat, arpeggio or chords on a part: made from its notes, editable until they are printed.

Repeat and arpeggio step along a division of the bars; a note is held at a place from half a step before its beginning,
so that what was played a little late begins in time, up to its end. Lengths are shares of a step.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.grid.notes import apart, mixed
from hypotaxis.core.grid.values import HIGHEST_SEED
from hypotaxis.core.midi.messages import CHANNEL_PRESSURE, KEY_PRESSURE
from hypotaxis.core.midi.scales import SCALES
from hypotaxis.core.midi.shaping import up_the_scale
from hypotaxis.core.session.score import NOTE, in_order, no_notes
from hypotaxis.core.session.straighten import DIVISIONS, LEAST_SWING, MOST_SWING, STRAIGHT, division_ticks
from hypotaxis.core.session.tempo import TempoMap

REPEAT, ARPEGGIO, CHORDS = "repeat", "arpeggio", "chords"
KINDS = {
    REPEAT: "repeat: what is held is struck at every step",
    ARPEGGIO: "arpeggio: what is held is played one after the other",
    CHORDS: "chords: each note becomes a chord of the scale",
}
UP, DOWN, UP_DOWN, AS_PLAYED, BY_CHANCE = "up", "down", "up and down", "as played", "by chance"
ORDERS = (UP, DOWN, UP_DOWN, AS_PLAYED, BY_CHANCE)
KEYS, PRESSURE, FIXED = "keys", "pressure", "fixed"
VELOCITIES = {KEYS: "of the keys", PRESSURE: "from pressure", FIXED: "always the same"}
STACKS = {
    "triad": (0, 2, 4),
    "seventh": (0, 2, 4, 6),
    "sixth": (0, 2, 4, 5),
    "suspended": (0, 3, 4),
    "open fifth": (0, 4),
    "octave": (0, 7),
}
"""Steps of the scale above the note."""
MOST_OCTAVES = 4


@dataclass(frozen=True, kw_only=True)
class Generator:
    """What is made of a part's notes."""

    kind: str = ARPEGGIO
    division: str = "1/16"
    """A key of DIVISIONS."""
    swing: float = STRAIGHT
    order: str = UP
    octaves: int = 1
    """Over how many octaves upwards an arpeggio goes."""
    gate: float = 0.5
    """Length of a note, share of a step."""
    velocity: str = KEYS
    """A key of VELOCITIES; where there is no pressure the keys' counts."""
    fixed: int = 100
    stack: str = "triad"
    scale: str = "major"
    root: int = 0
    seed: int = 1
    """Of what goes by chance."""
    on: bool = True

    def __post_init__(self) -> None:
        for value, known, what in (
            (self.kind, KINDS, "generator"),
            (self.division, DIVISIONS, "division"),
            (self.order, ORDERS, "order"),
            (self.velocity, VELOCITIES, "source of velocity"),
            (self.stack, STACKS, "chord"),
            (self.scale, SCALES, "scale"),
        ):
            if value not in known:
                raise BadBars(f"“{value}” is no {what}: {', '.join(known)} are.")
        for value, low, high, what in (
            (self.swing, LEAST_SWING, MOST_SWING, "Swing, per cent,"),
            (self.octaves, 1, MOST_OCTAVES, "The range in octaves"),
            (self.gate, 0.05, 1.0, "A note's share of a step"),
            (self.fixed, 1, 127, "Velocity"),
            (self.root, 0, 11, "The root"),
            (self.seed, 0, HIGHEST_SEED, "A seed"),
        ):
            if not low <= value <= high:
                raise BadBars(f"{what} goes from {low:g} to {high:g}; {value:g} does not.")


def generated(notes: np.ndarray, controls: np.ndarray, tempo: TempoMap, end_tick: int, how: Generator) -> np.ndarray:
    """The notes that sound instead of a part's (core.session.score.NOTE and CONTROL), up to a tick."""
    if not len(notes):
        return no_notes()
    made = _chords(notes, how) if how.kind == CHORDS else _stepped(notes, controls, tempo, end_tick, how)
    return apart(made[made["tick"] < end_tick], end_tick)


def _chords(notes: np.ndarray, how: Generator) -> np.ndarray:
    rows = []
    for tick, duration, note, velocity in notes.tolist():
        loud = how.fixed if how.velocity == FIXED else velocity
        for steps in STACKS[how.stack]:
            pitch = note if steps == 0 else up_the_scale(note, steps, how.root, how.scale)
            if pitch <= 127:
                rows.append((tick, duration, pitch, loud))
    return in_order(np.array(rows, dtype=NOTE))


def _stepped(notes: np.ndarray, controls: np.ndarray, tempo: TempoMap, end_tick: int, how: Generator) -> np.ndarray:
    step = division_ticks(tempo, how.division)
    pressures = _Pressures(controls)
    waiting = notes[np.argsort(notes["tick"], kind="stable")].tolist()
    held: list[tuple[int, int, int, int]] = []
    rows, turn = [], 0
    first = int(max(0, waiting[0][0] - step))
    last = min(end_tick, max(row[0] + max(row[1], 1) for row in waiting))
    for place, at in _places(tempo, step, how.swing, first, last):
        held = [row for row in held if row[0] + row[1] > place]
        while waiting and waiting[0][0] - step / 2 <= place:
            row = waiting.pop(0)
            if row[0] + row[1] > place:
                held.append(row)
        if not held:
            turn = 0
            continue
        struck = held if how.kind == REPEAT else [_next(held, turn, place, how)]
        for _, _, note, velocity in struck:
            loud = how.fixed if how.velocity == FIXED else velocity
            loud = pressures.at(round(at), note, loud) if how.velocity == PRESSURE else loud
            rows.append((round(at), max(1, round(step * how.gate)), note, loud))
        turn += 1
    return in_order(np.array(rows, dtype=NOTE)) if rows else no_notes()


def _places(tempo: TempoMap, step: float, swing: float, first: int, last: int):
    """(straight place, where it stands with swing) of the division between two ticks; it begins anew with every bar."""
    bar = tempo.position(first).bar
    late = (swing / STRAIGHT - 1.0) * step
    while (begins := tempo.bar_tick(bar)) < last:
        length = tempo.bar_tick(bar + 1) - begins
        for number in range(int(np.ceil(round(length / step, 6)))):
            place = begins + number * step
            if first <= place < last:
                yield place, place + (late if number % 2 else 0.0)
        bar += 1


def _next(held: Sequence[tuple[int, int, int, int]], turn: int, place: float, how: Generator):
    """Which note an arpeggio plays as its turn-th."""
    by_pitch = sorted(held, key=lambda row: row[2])
    base = list(held) if how.order in (AS_PLAYED, BY_CHANCE) else by_pitch
    ladder = [
        (at, lasts, note + 12 * octave, velocity)
        for octave in range(how.octaves)
        for at, lasts, note, velocity in base
        if note + 12 * octave <= 127
    ]
    if how.order == DOWN:
        ladder.reverse()
    elif how.order == UP_DOWN:
        ladder += ladder[-2:0:-1]
    elif how.order == BY_CHANCE:
        drawn = mixed(mixed(np.array([how.seed], dtype=np.uint64)) ^ np.uint64(int(place)))
        return ladder[int(drawn[0] % np.uint64(len(ladder)))]
    return ladder[turn % len(ladder)]


class _Pressures:
    """What was pressed how hard, and when."""

    def __init__(self, controls: np.ndarray) -> None:
        self._whole = controls[controls["status"] == CHANNEL_PRESSURE]
        self._keys = controls[controls["status"] == KEY_PRESSURE]

    def at(self, tick: int, note: int, otherwise: int) -> int:
        """The pressure of a key at a tick, of all of them where its own is not told; 0 counts as none."""
        for rows, field in ((self._keys[self._keys["data1"] == note], "data2"), (self._whole, "data1")):
            place = int(np.searchsorted(rows["tick"], tick, side="right")) - 1
            if place >= 0 and rows[field][place]:
                return int(rows[field][place])
        return otherwise
