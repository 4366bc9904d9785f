"""What the page of a track's notes shows, and what is done to chosen ones."""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from hypotaxis.core.drawing.roll import Roll, RollRow, controllers_in, draw_roll, rows_of
from hypotaxis.core.errors import BadBars
from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.session.arrange import Part
from hypotaxis.core.session.editing import Edited
from hypotaxis.core.session.straighten import DIVISIONS, division_ticks
from hypotaxis.records.models import Track
from hypotaxis.records.plan import last_bar_of, part_of
from hypotaxis.steps.session.services.arranging import arrange_part
from hypotaxis.steps.session.services.grids import names_of

MOST_BARS = 16
BEND, PRESSURE = -1, -2
SUSTAIN, MODULATION = 64, 1
NAMED = {BEND: "pitch bend", PRESSURE: "pressure", SUSTAIN: "sustain", MODULATION: "modulation"}


@dataclass(frozen=True)
class Shown:
    """Which bars the page shows, by which division it moves, and which controller it draws; None = the first one."""

    bar: int = 1
    bars: int = 4
    division: str = "1/16"
    controller: int | None = None

    @property
    def query(self) -> str:
        """As it stands in an address."""
        more = "" if self.controller is None else f"&controller={self.controller}"
        return f"bar={self.bar}&bars={self.bars}&division={self.division.replace(' ', '+')}{more}"


class NotePage:
    """The written notes of a track, some bars of them."""

    def __init__(self, track: Track, plan: Plan, shown: Shown, chosen: tuple[int, ...] = ()) -> None:
        self.track, self.plan, self.chosen = track, plan, chosen
        self.tempo = track.session.tempo_map
        self.last_bar = last_bar_of(track.session)
        bars = min(max(1, shown.bars), MOST_BARS, self.last_bar)
        bar = min(max(1, shown.bar), self.last_bar - bars + 1)
        division = shown.division if shown.division in DIVISIONS else "1/16"
        self.shown = replace(shown, bar=bar, bars=bars, division=division)

    @cached_property
    def part(self) -> Part:
        return part_of(self.track)

    @cached_property
    def stamp(self) -> str:
        """Of the notes as they are: what a choice was made of."""
        return hashlib.sha256(self.part.notes.tobytes()).hexdigest()[:16]

    @cached_property
    def instrument(self) -> Instrument | None:
        return self.plan.instrument(self.track.instrument_uid)

    @property
    def middle_c(self) -> int:
        return self.instrument.middle_c if self.instrument else 4

    @cached_property
    def voices(self) -> dict[int, str]:
        return names_of(self.instrument)

    def name(self, note: int) -> str:
        """What a note is called here."""
        return self.voices.get(note) or note_name(note, self.middle_c)

    @cached_property
    def rows(self) -> tuple[RollRow, ...]:
        return rows_of(self.part.notes, self.voices, self.middle_c)

    @cached_property
    def controllers(self) -> list[tuple[int, str]]:
        """Which controllers there are, with their names."""
        return [(one, NAMED.get(one, f"controller {one}")) for one in controllers_in(self.part.controls)]

    @property
    def controller(self) -> int | None:
        """The one that is drawn."""
        there = [one for one, _ in self.controllers]
        asked = self.shown.controller
        return asked if asked in there else there[0] if there else None

    @cached_property
    def roll(self) -> Roll:
        """The picture."""
        span = {"first_bar": self.shown.bar, "bars": self.shown.bars}
        controller = SUSTAIN if self.controller is None else self.controller
        part = self.part
        return draw_roll(
            part.notes, part.controls, self.tempo, self.rows, **span, controller=controller, name=self.name
        )

    @property
    def text_dy(self) -> float:
        """From a row's top to its name's line."""
        return self.roll.row_h / 2 + 4

    @property
    def step_ticks(self) -> float:
        """Ticks of the division."""
        return division_ticks(self.tempo, self.shown.division)

    @property
    def window_end(self) -> int:
        return self.shown.bar + self.shown.bars - 1

    @property
    def before(self) -> Shown:
        """The bars before."""
        return replace(self.shown, bar=max(1, self.shown.bar - self.shown.bars))

    @property
    def after(self) -> Shown:
        """The bars behind."""
        return replace(self.shown, bar=min(self.last_bar, self.shown.bar + self.shown.bars))

    def pitches_by_rows(self, places: np.ndarray, up: int) -> np.ndarray:
        """The pitches of chosen notes, moved by rows of the picture upwards. Raises BadBars beyond its edges."""
        notes = self.part.notes["note"][places].astype(np.int64)
        if not self.voices:
            return notes + up
        order = [row.note for row in self.rows]
        rows = np.array([order.index(int(note)) for note in notes]) - up
        if len(rows) and (rows.min() < 0 or rows.max() >= len(order)):
            raise BadBars("There is no voice in that direction any more. Move them less far.")
        return np.array([order[row] for row in rows], dtype=np.int64)

    def change(self, title: str, change: Callable[[np.ndarray, int], Edited]) -> Edited:
        """Change the notes as one step of the journal. change: from notes and the piece's last tick. Raises BadBars."""
        edited = change(self.part.notes, self.track.session.end_tick)
        arrange_part(self.track, f"{title} of {self.track.name}", self.part.with_notes(edited.notes))
        return edited
