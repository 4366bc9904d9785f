"""What the page of a track's patterns shows."""

from dataclasses import dataclass
from functools import cached_property

from hypotaxis.core.drawing.grid import GridDrawn, Named, StepSum, draw_grid, step_sum, voices_in_order
from hypotaxis.core.drawing.strips import Span, bars_path, note_boxes
from hypotaxis.core.grid.values import Grid, Pattern, Row, Step, order_told
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.lanes import lanes_of
from hypotaxis.records.models import Track
from hypotaxis.records.patch_lists import voices_of
from hypotaxis.records.plan import last_bar_of, notes_of, part_of
from hypotaxis.steps.session.services.grids import grid_of

STRIP_W, STRIP_H = 1000, 32
MOST_BARS_SHOWN = 64
"""In the order of patterns: more are shown in pieces."""


@dataclass(frozen=True)
class Place:
    """Which pattern, bar, voice and step the page is about; note None: no step is chosen."""

    pattern: str
    bar: int
    note: int | None = None
    step: int = 0


@dataclass(frozen=True)
class BarOfOrder:
    """A bar of the order."""

    number: int
    letter: str
    here: bool


class GridPage:
    """The patterns of a track, at a place."""

    def __init__(self, track: Track, plan: Plan, place: Place) -> None:
        self.track, self.plan = track, plan
        self.session = track.session
        self.tempo = track.session.tempo_map
        self.grid: Grid = grid_of(track)
        self.last_bar = last_bar_of(track.session)
        bar = min(max(1, place.bar), self.last_bar)
        names = {one.name for one in self.grid.patterns}
        letter = place.pattern if place.pattern in names else self.letter_at(bar)
        self.place = Place(letter, bar, place.note, place.step)

    def letter_at(self, bar: int) -> str:
        """The pattern of a bar; the first where it has none."""
        order = self.grid.order
        found = order[bar - 1] if bar <= len(order) else ""
        return found or self.grid.patterns[0].name

    @cached_property
    def instrument(self) -> Instrument | None:
        return self.plan.instrument(self.track.instrument_uid)

    @cached_property
    def named(self) -> dict[int, Named]:
        """The voices of the note map."""
        instrument = self.instrument
        if instrument is None:
            return {}
        homes = {one.uid: returns_text(self.plan.rig, one.inputs) for one in instrument.further}
        main = returns_text(self.plan.rig, instrument.returns) if instrument.returns else ""
        driven = {one.voice.note: one.box for one in lanes_of(self.plan, instrument)}
        return {
            one.note: Named(one.note, one.name, homes.get(one.home, main), driven.get(one.note))
            for one in voices_of(instrument)
        }

    @cached_property
    def voices(self) -> tuple[Named, ...]:
        """A voice a row."""
        return voices_in_order(self.grid, self.named)

    @property
    def query(self) -> str:
        """What of the address names the place."""
        return f"pattern={self.place.pattern}&bar={self.place.bar}"

    @property
    def pattern(self) -> Pattern:
        return self.grid.pattern(self.place.pattern)

    @cached_property
    def meter(self) -> tuple[int, int]:
        """Of the bar that is edited."""
        return self.tempo.meter_at(self.tempo.bar_tick(self.place.bar))

    @property
    def us_per_quarter(self) -> int:
        return self.tempo.us_of_quarter(self.tempo.bar_tick(self.place.bar))

    @cached_property
    def drawn(self) -> GridDrawn:
        """The pattern's picture."""
        beats, unit = self.meter
        chosen = None if self.place.note is None else (self.place.note, self.place.step)
        how = {"beats": beats, "unit": unit, "us_per_quarter": self.us_per_quarter, "chosen": chosen}
        return draw_grid(self.grid, self.pattern, self.voices, **how)

    @property
    def row(self) -> Row | None:
        """The row of the chosen step."""
        return None if self.place.note is None else self.pattern.row(self.place.note)

    @property
    def step(self) -> Step | None:
        """The chosen step."""
        return self.row.at(self.place.step) if self.row else None

    @property
    def chosen_name(self) -> str:
        """The voice of the chosen step."""
        return next((one.name for one in self.voices if one.note == self.place.note), "")

    @property
    def sum(self) -> StepSum | None:
        """When the chosen step sounds after the straight one."""
        if self.row is None:
            return None
        return step_sum(self.row, self.grid.voice(self.place.note), self.place.step, self.us_per_quarter)

    @cached_property
    def order(self) -> list[BarOfOrder]:
        """The bars around the one that is edited, each with its pattern."""
        letters = self.grid.order
        first = max(1, min(self.place.bar - MOST_BARS_SHOWN // 2, self.last_bar - MOST_BARS_SHOWN + 1))
        bars = range(first, min(self.last_bar, first + MOST_BARS_SHOWN - 1) + 1)
        return [BarOfOrder(bar, letters[bar - 1] if bar <= len(letters) else "", bar == self.place.bar) for bar in bars]

    @property
    def order_typed(self) -> str:
        return order_told(self.grid.order)

    @cached_property
    def notes_path(self) -> str:
        """All that the track plays in the bars of the order, drawn."""
        first, last = self.order[0].number, self.order[-1].number + 1
        span = Span(*(float(self.tempo.us_at(self.tempo.bar_tick(bar))) for bar in (first, last)), STRIP_W)
        notes = notes_of(self.track)
        starts, ends = self.tempo.us_at(notes["tick"]), self.tempo.us_at(notes["tick"] + notes["duration"])
        return bars_path(note_boxes(starts, ends, notes["note"], span, STRIP_H))

    @property
    def written(self) -> int:
        """Notes of the track that no pattern plays."""
        return len(part_of(self.track).notes)

    @property
    def bars_laid(self) -> int:
        return sum(1 for _ in self.grid.bars())

    @property
    def muted(self) -> list[str]:
        """Names of the voices that do not sound."""
        return [one.name for one in self.voices if one.note not in self.grid.heard and self.pattern.row(one.note).steps]
