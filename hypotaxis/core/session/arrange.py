"""What becomes of a session's bars and notes when its tempo, meter, length or pace is changed?

A piece is all of a session that is counted in ticks. Every change is a function from one piece to the next; notes stay
at their ticks unless it says otherwise. Bars and beats count from 1, tempos are quarters a minute.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.grid.notes import grid_notes
from hypotaxis.core.grid.values import Grid
from hypotaxis.core.session.generators import Generator, generated
from hypotaxis.core.session.score import CONTROL, NOTE, in_order
from hypotaxis.core.session.tempo import TempoMap

TICKS_PER_QUARTER = 480
FINEST = 15_360
"""Most ticks a quarter: what a Standard MIDI File can say is twice that (RP-001: 15 bits)."""
SLOWEST_BPM, QUICKEST_BPM = 10.0, 400.0
MOST_BEATS, UNITS = 32, (1, 2, 4, 8, 16, 32)
MOST_BARS = 9_999
LONGEST_NAME = 40


@dataclass(frozen=True, eq=False)
class Part:
    """Notes (core.session.score.NOTE) and controls (CONTROL) of a track. played: the notes before they were
    straightened, None = they were not, or something else was done to them since; grid: its patterns; generator: what
    is made of the notes."""

    notes: np.ndarray
    controls: np.ndarray
    played: np.ndarray | None = None
    grid: Grid | None = None
    generator: Generator | None = None

    def with_notes(self, notes: np.ndarray) -> "Part":
        """The same with other notes."""
        return replace(self, notes=notes, played=None)

    def sounding(self, tempo: TempoMap, end_tick: int) -> np.ndarray:
        """All notes that it plays: those written, or what a generator makes of them, and those of its patterns while
        they are on."""
        notes = self.notes
        if self.generator and self.generator.on:
            notes = generated(notes, self.controls, tempo, end_tick, self.generator)
        made = grid_notes(self.grid, tempo, end_tick) if self.grid and self.grid.on else ()
        return in_order(np.concatenate([notes, made])) if len(made) else notes


@dataclass(frozen=True)
class Section:
    """A named place: verse, bridge."""

    tick: int
    name: str


@dataclass(frozen=True, eq=False)
class Piece:
    """All of a session that is counted in ticks; parts by the uid of their track."""

    tempo: TempoMap
    end_tick: int
    sections: tuple[Section, ...] = ()
    parts: Mapping[str, Part] = field(default_factory=dict)

    @property
    def bars(self) -> int:
        """How many bars it has."""
        return self.tempo.last_bar(self.end_tick)

    @property
    def is_empty(self) -> bool:
        """Whether no note is in it."""
        return not any(len(part.notes) or (part.grid and part.grid.order) for part in self.parts.values())


def empty(*, bpm: float, beats: int, unit: int, bars: int) -> Piece:
    """A piece without notes. Raises BadBars."""
    _check_meter(beats, unit, TICKS_PER_QUARTER)
    tempo = TempoMap(TICKS_PER_QUARTER, ((0, us_of(bpm)),), ((0, beats, unit),))
    return with_bars(Piece(tempo, tempo.bar_tick(2)), bars)


def us_of(bpm: float) -> int:
    """µs of a quarter at a tempo, as a file keeps it. Raises BadBars."""
    if not SLOWEST_BPM <= bpm <= QUICKEST_BPM:
        raise BadBars(f"{bpm:g} BPM is no tempo that can be played here: {SLOWEST_BPM:g} to {QUICKEST_BPM:g} are.")
    return round(60e6 / bpm)


def with_tempo(piece: Piece, *, bar: int, beat: int = 1, bpm: float | None) -> Piece:
    """Another tempo from a beat on, up to the next change; None: no change there. Raises BadBars."""
    tick = beat_tick(piece.tempo, piece.bars, bar, beat)
    if bpm is None and tick == 0:
        raise BadBars("Bar 1 needs a tempo: change it instead of taking it away.")
    kept = [one for one in piece.tempo.tempos if one[0] != tick]
    if bpm is not None:
        kept.append((tick, us_of(bpm)))
    return replace(piece, tempo=replace(piece.tempo, tempos=changes(kept)))


def with_meter(piece: Piece, *, bar: int, meter: tuple[int, int] | None) -> Piece:
    """Another meter from a bar on, up to the next change; None: no change there. An empty piece keeps its number of
    bars, one with notes ends with the bar in which it did. Raises BadBars."""
    tick = beat_tick(piece.tempo, piece.bars, bar, 1)
    if meter is None and tick == 0:
        raise BadBars("Bar 1 needs a meter: change it instead of taking it away.")
    kept = [one for one in piece.tempo.meters if one[0] != tick]
    if meter is not None:
        _check_meter(*meter, piece.tempo.ticks_per_quarter)
        kept.append((tick, *meter))
    changed = replace(piece, tempo=replace(piece.tempo, meters=changes(kept)))
    return with_bars(changed, piece.bars if piece.is_empty else changed.bars)


def with_section(piece: Piece, *, bar: int, name: str) -> Piece:
    """A name for the bars from this one on; "" takes it away. Raises BadBars."""
    tick, name = beat_tick(piece.tempo, piece.bars, bar, 1), name.strip()
    if len(name) > LONGEST_NAME:
        raise BadBars(f"A section's name has at most {LONGEST_NAME} letters.")
    kept = [one for one in piece.sections if one.tick != tick] + ([Section(tick, name)] if name else [])
    return replace(piece, sections=tuple(sorted(kept, key=lambda one: one.tick)))


def with_bars(piece: Piece, bars: int) -> Piece:
    """As many bars. Shorter: what begins behind the end goes, what reaches over it ends there. Raises BadBars."""
    if not 1 <= bars <= MOST_BARS:
        raise BadBars(f"A session has 1 to {MOST_BARS:,} bars, not {bars}.")
    end = piece.tempo.bar_tick(bars + 1)

    def cut(part: Part) -> Part:
        notes = part.notes[part.notes["tick"] < end]
        if len(notes) and (notes["tick"] + notes["duration"]).max() > end:
            notes = notes.copy()
            notes["duration"] = np.minimum(notes["duration"], end - notes["tick"])
        grid = part.grid and replace(part.grid, order=part.grid.order[:bars])
        return replace(part, notes=notes, controls=part.controls[part.controls["tick"] < end], played=None, grid=grid)

    tempo = replace(
        piece.tempo,
        tempos=tuple(one for one in piece.tempo.tempos if one[0] < end),
        meters=tuple(one for one in piece.tempo.meters if one[0] < end),
    )
    sections = tuple(one for one in piece.sections if one.tick < end)
    return replace(_each(piece, cut), tempo=tempo, sections=sections, end_tick=end)


def notes_beyond(piece: Piece, bars: int) -> int:
    """How many notes a piece of so many bars would lose."""
    end = piece.tempo.bar_tick(bars + 1)
    return sum(int((part.notes["tick"] >= end).sum()) for part in piece.parts.values())


def doubled(piece: Piece) -> Piece:
    """Twice as long: bars, notes, controls, tempos, meters and sections once more behind themselves."""
    if piece.bars * 2 > MOST_BARS:
        raise BadBars(f"A session has at most {MOST_BARS:,} bars.")
    by = piece.end_tick

    def again(part: Part) -> Part:
        grid = part.grid and part.grid.twice(piece.bars)
        return replace(part.with_notes(_twice(part.notes, by)), controls=_twice(part.controls, by), grid=grid)

    tempos, meters = (
        changes([*rows, *((tick + by, *rest) for tick, *rest in rows)])
        for rows in (piece.tempo.tempos, piece.tempo.meters)
    )
    sections = (*piece.sections, *(Section(one.tick + by, one.name) for one in piece.sections))
    tempo = replace(piece.tempo, tempos=tempos, meters=meters)
    return replace(_each(piece, again), tempo=tempo, sections=sections, end_tick=2 * by)


def in_double_time(piece: Piece) -> Piece:
    """Notes twice as fast, in half the bars; bars and tempo stay. Where a tick cannot be halved the piece gets finer
    ticks, so that half time brings it back exactly. Raises BadBars while patterns are on."""
    _without_patterns(piece)
    ticks = [rows[name] for part in piece.parts.values() for rows, name in _counted(part)]
    if any((one % 2).any() for one in ticks):
        piece = finer(piece)

    def halved(part: Part) -> Part:
        return _scaled(part, lambda values: values // 2)

    return _each(piece, halved)


def in_half_time(piece: Piece) -> Piece:
    """Notes half as fast, over twice the bars, so that the piece grows where it must; tempo stays. Raises BadBars while
    patterns are on."""
    _without_patterns(piece)
    slower = _each(piece, lambda part: _scaled(part, lambda values: values * 2))
    notes = [part.notes for part in slower.parts.values() if len(part.notes)]
    ends = max((int((rows["tick"] + rows["duration"]).max()) for rows in notes), default=0)
    return with_bars(slower, max(piece.bars, slower.tempo.last_bar(ends)))


def finer(piece: Piece) -> Piece:
    """The same with twice the ticks a quarter. Raises BadBars where they would be too many."""
    pace = piece.tempo.ticks_per_quarter * 2
    if pace > FINEST:
        raise BadBars(f"Its notes stand on ticks so fine ({pace // 2} a quarter) that they cannot be halved.")
    sections = tuple(Section(one.tick * 2, one.name) for one in piece.sections)
    parts = _each(piece, lambda part: _scaled(part, lambda values: values * 2)).parts
    return Piece(piece.tempo.paced(pace), piece.end_tick * 2, sections, parts)


def together(one: Part, other: Part) -> Part:
    """Two parts as one, in order; the first one's patterns."""
    notes = np.concatenate([one.notes, other.notes]).astype(NOTE)
    controls = np.concatenate([one.controls, other.controls]).astype(CONTROL)
    order = np.argsort(controls["tick"], kind="stable")
    return replace(one.with_notes(in_order(notes)), controls=controls[order])


def printed(part: Part, tempo: TempoMap, end_tick: int) -> Part:
    """The same with what its patterns and its generator play as its notes, and both off, so that nothing is doubled."""
    off = {"grid": part.grid and replace(part.grid, on=False)}
    off["generator"] = part.generator and replace(part.generator, on=False)
    return replace(part.with_notes(part.sounding(tempo, end_tick)), **off)


def _without_patterns(piece: Piece) -> None:
    if any(part.grid and part.grid.on and part.grid.order for part in piece.parts.values()):
        raise BadBars("Patterns go by the bar: print them to notes first, then change the pace.")


def beat_tick(tempo: TempoMap, last_bar: int, bar: int, beat: int) -> int:
    """The tick of a beat of a session with this many bars. Raises BadBars where there is none."""
    if not 1 <= bar <= last_bar:
        raise BadBars(f"There is no bar {bar}: the session has {last_bar}.")
    beats = tempo.beats_in_bar(bar)
    if not 1 <= beat <= beats:
        raise BadBars(f"Bar {bar} has {beats} beats, so there is no beat {beat}.")
    first, after = tempo.bar_tick(bar), tempo.bar_tick(bar + 1)
    return first + (after - first) // beats * (beat - 1)


def _check_meter(beats: int, unit: int, ticks_per_quarter: int) -> None:
    if not 1 <= beats <= MOST_BEATS or unit not in UNITS:
        units = ", ".join(str(one) for one in UNITS)
        raise BadBars(f"{beats}/{unit} is no meter: 1 to {MOST_BEATS} beats of {units}.")
    if ticks_per_quarter * 4 % unit:
        raise BadBars(f"A beat of 1/{unit} does not fall on this session's ticks, {ticks_per_quarter} a quarter.")


def changes(rows: Iterable[tuple]) -> tuple[tuple, ...]:
    """Changes of tempo or meter, (tick, what), in order of time, without those that change nothing."""
    kept: list[tuple] = []
    for row in sorted(rows, key=lambda row: row[0]):
        if not kept or kept[-1][1:] != row[1:]:
            kept.append(row)
    return tuple(kept)


def _each(piece: Piece, change: Callable[[Part], Part]) -> Piece:
    return replace(piece, parts={uid: change(part) for uid, part in piece.parts.items()})


def _twice(rows: np.ndarray, by: int) -> np.ndarray:
    more = rows.copy()
    more["tick"] += by
    return np.concatenate([rows, more])


def _counted(part: Part) -> list[tuple[np.ndarray, str]]:
    notes = [part.notes] if part.played is None else [part.notes, part.played]
    return [(part.controls, "tick"), *((rows, name) for rows in notes for name in ("tick", "duration"))]


def _scaled(part: Part, change: Callable[[np.ndarray], np.ndarray]) -> Part:
    played = None if part.played is None else part.played.copy()
    scaled = replace(part, notes=part.notes.copy(), controls=part.controls.copy(), played=played)
    for rows, name in _counted(scaled):
        rows[name] = change(rows[name])
    return scaled
