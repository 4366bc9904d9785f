"""What stands along the bar line: tempo and meter changes, sections; and the sheet on which they are changed."""

from dataclasses import dataclass
from itertools import groupby

from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.records.asked import number
from hypotaxis.records.models import Session
from hypotaxis.records.plan import last_bar_of
from hypotaxis.steps.session.forms import METER, SECTION, TEMPO, BarsForm

NEAREST = 6.0
"""Per cent of the width that a mark needs."""


@dataclass(frozen=True)
class Mark:
    """A change or a name. tick, bar, beat: where; of: TEMPO, METER or SECTION; first: it cannot be taken away."""

    tick: int
    bar: int
    beat: int
    of: str
    text: str

    @property
    def first(self) -> bool:
        return self.tick == 0 and self.of != SECTION


def marks_of(session: Session) -> list[Mark]:
    """All of them in order."""
    tempo = session.tempo_map
    found = [(tick, TEMPO, f"{60e6 / us:.4g}") for tick, us in tempo.tempos]
    found += [(tick, METER, f"{beats}/{unit}") for tick, beats, unit in tempo.meters]
    found += [(tick, SECTION, name) for tick, name in session.sections]
    order = (SECTION, METER, TEMPO)
    marks = []
    for tick, of, text in sorted(found, key=lambda one: (one[0], order.index(one[1]))):
        place = tempo.position(tick)
        marks.append(Mark(tick, place.bar, place.beat, of, text))
    return marks


@dataclass(frozen=True)
class BarsSheet:
    """The sheet on which a bar, and the bars as a whole, are changed."""

    bar: int
    bars: int
    bpm: str
    beats: int
    unit: int
    section: str
    marks: list[Mark]

    @property
    def before(self) -> int | None:
        return self.bar - 1 if self.bar > 1 else None

    @property
    def after(self) -> int | None:
        return self.bar + 1 if self.bar < self.bars else None


def bars_sheet(session: Session, form: BarsForm, asked: str) -> BarsSheet:
    """The sheet for a bar; what was typed and refused stays in it."""
    tempo, last = session.tempo_map, last_bar_of(session)
    typed = form.data if form.is_bound else {}
    bar = int(max(1, min(last, number(typed.get("bar") or asked, 1))))
    tick = tempo.bar_tick(bar)
    beats, unit = next((b, u) for at, b, u in reversed(tempo.meters) if at <= tick)
    names = {at: name for at, name in session.sections}
    return BarsSheet(
        bar=bar,
        bars=typed.get("bars") or last,
        bpm=typed.get("bpm") or f"{tempo.bpm_at(tick):.6g}",
        beats=typed.get("beats") or beats,
        unit=int(number(typed.get("unit"), unit)),
        section=typed.get("name") or names.get(tick, ""),
        marks=marks_of(session),
    )


@dataclass(frozen=True)
class MarkDrawn:
    """What changes at one place of the bar line, in percent of its width."""

    percent: float
    section: str
    changes: str


def marks_drawn(session: Session, tempo: TempoMap, end_us: float) -> list[MarkDrawn]:
    """What changes along the bar line, without tempo and meter of bar 1. Of places that would stand on each other only
    the first is drawn."""
    found: list[MarkDrawn] = []
    for tick, marks in groupby(marks_of(session), key=lambda one: one.tick):
        here = list(marks)
        section = next((one.text for one in here if one.of == SECTION), "")
        changes = ", ".join(one.text for one in here if one.of != SECTION) if tick else ""
        percent = round(float(tempo.us_at(tick)) / end_us * 100, 3)
        if (section or changes) and (not found or percent - found[-1].percent >= NEAREST):
            found.append(MarkDrawn(percent, section, changes))
    return found
