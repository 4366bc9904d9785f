"""What the session's page shows: strips, glass, levels, takes."""

from collections.abc import Callable, Collection, Container, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TypeVar
from uuid import UUID

import numpy as np
from django.db.models import QuerySet

from hypotaxis.core.drawing.glass import GlassDrawing, GlassView, Wave, draw_glass
from hypotaxis.core.drawing.levels import LevelBar, level_bar
from hypotaxis.core.drawing.paths import number
from hypotaxis.core.errors import SoundLost
from hypotaxis.core.midi.programs import wire_told
from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.plan import Instrument, Loop, Plan, Return
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.gaps import gaps_told
from hypotaxis.core.session.listening import Shown
from hypotaxis.core.session.passes import live_return_silent
from hypotaxis.core.session.playable import Unplayable
from hypotaxis.core.session.standing import Stretch
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.timing.aligning import miss_told
from hypotaxis.core.timing.applied import TAKE, KnownLateness
from hypotaxis.core.timing.measurement import Measurement
from hypotaxis.core.units import level_text, signed, stored_level_text
from hypotaxis.records.models import Patch, Session, Take, Track
from hypotaxis.records.plan import last_bar_of, tracks_of
from hypotaxis.records.stamps import kept_while
from hypotaxis.records.standing import every_take, known_takes, stretches_of, whole_takes
from hypotaxis.records.under_way import recorded_now
from hypotaxis.steps.session.services.barline import MarkDrawn, marks_drawn
from hypotaxis.steps.session.services.grids import names_of
from hypotaxis.steps.session.services.notes_shown import amiss_shown, notes_shown, whole_of
from hypotaxis.steps.session.services.outlines import COLUMNS, Laid, outline_of, wave_of
from hypotaxis.steps.session.services.placing import lenders_of
from hypotaxis.steps.session.services.recording import bare_track, newest_pass, waits_for_answer

_Read = TypeVar("_Read")


@dataclass(frozen=True)
class TakeView:
    """A take as the page shows it."""

    row: Take
    shift: str
    late: str
    problem: str
    numbers: list[tuple[str, str]]
    borrowed: str = ""
    lender: Take | None = None
    misses: str = ""
    """Ms by which one placement misses at the ends."""
    known: str = ""
    """The instrument's own lateness, to be placed by."""
    lost: str = ""
    """What is wrong with the file of its sound."""
    gaps: str = ""
    """What of it did not come."""

    @property
    def placed(self) -> bool:
        return self.row.placement is not None


class TrackView:
    """A track of a picture: its strips and glass, each drawn when it is first asked for. clash: why it cannot be
    recorded together with another that is armed, "" = it can."""

    def __init__(self, picture: "Picture", row: Track, clash: str) -> None:
        self._picture, self.row, self.clash = picture, row, clash
        self._stands = picture.stands(row.uid)

    def draw_sound(self) -> None:
        """Read all of its sound now: what is wrong with a file is told at its take from then on."""
        _ = self.sound_path, self.sent_path, self.glass

    @cached_property
    def instrument(self) -> Instrument | None:
        """What plays it."""
        return self._picture.plan.instrument(self.row.instrument_uid)

    @cached_property
    def loop(self) -> Loop | None:
        """The effect whose track it is."""
        return self._picture.plan.loop(self.row.loop_uid) if self.row.loop_uid else None

    @property
    def owner(self) -> Instrument | Loop | None:
        """What plays it: an instrument, or the loop of an effect."""
        return self.instrument or self.loop

    @cached_property
    def _returns(self) -> Sequence[Return]:
        return bare_track(self.row, self._picture.plan).returns

    @property
    def home(self) -> str:
        """Where it comes home."""
        return " and ".join(_homes(self._picture.plan, self._returns))

    @cached_property
    def shown(self) -> Take | None:
        """The take under the glass, otherwise the first that stands; where none does, the newest all the same."""
        picture = self._picture
        bar = picture.tempo.position(picture.tick).bar
        here = next((take for take, one in self._stands if one.first_bar <= bar <= one.last_bar), None)
        return here or (self._stands[0][0] if self._stands else picture.newest(self.row.uid))

    @property
    def shift(self) -> str:
        """By how many samples that take is placed, "" where it is not."""
        return _shift(self.shown) if self.shown else ""

    @property
    def notes_path(self) -> str:
        """Its notes."""
        return self._picture.notes.path(self.row.uid)

    @property
    def amiss(self) -> list[Unplayable]:
        """What its box cannot play."""
        return self._picture.amiss.get(self.row.uid, [])

    @property
    def amiss_path(self) -> str:
        """Those notes."""
        notes = self._picture.notes
        # Notes that went while the page was made are neither there nor amiss.
        struck = np.zeros(len(notes.of(self.row.uid)), dtype=bool)
        struck[[place for one in self.amiss for place in one.places if place < len(struck)]] = True
        return notes.drawn(self.row.uid, struck) if self.amiss else ""

    @cached_property
    def sound_path(self) -> str:
        """What stands of it."""
        return "".join(self._picture.strip_of(take, one) for take, one in self._stands)

    @cached_property
    def sent_path(self) -> str:
        """Of an effect: the sound that is sent through it."""
        fed = self._picture.stands(self.row.fed_by_id) if self.row.fed_by_id else ()
        return "".join(self._picture.strip_of(take, one) for take, one in fed)

    @cached_property
    def glass(self) -> GlassDrawing:
        """The chosen moment."""
        named = _named(self.instrument, names_of(self.instrument))
        return self._picture.glass_of(self.shown, self._picture.notes.edges(self.row.uid), named)

    @cached_property
    def live(self) -> str:
        """What its live return does now."""
        run = self._picture.run
        recording = run is not None and run.frozen.part_of(str(self.row.uid)) is not None
        silent = live_return_silent(bool(self._stands), recording) or self.row.committed
        return "" if not self._returns else ("silent" if silent else "open")

    @property
    def sound(self) -> str:
        """The patch it was picked as."""
        return self._picture.sounds.get(self.row.patch_uid, "")

    @property
    def program_told(self) -> str:
        """The numbers behind its program field."""
        numbers = wire_told(self.row.program, self.row.msb, self.row.lsb)
        return f"{self.sound + '; ' if self.sound else ''}{numbers}; 0–127, empty sends none"

    @property
    def spoken(self) -> str:
        """The track in a sentence."""
        return f"{self.row.name}: {f'take {self.shown.number}' if self.shown else 'nothing recorded yet'}."


@dataclass(frozen=True)
class BarMark:
    """A bar line: its place in percent of the strip's width, and its number where there is room for it."""

    percent: float
    number: str


@dataclass(frozen=True)
class MeterRow:
    """An input's meter while a pass runs."""

    name: str
    bar: LevelBar
    peak: str


class Picture:
    """Everything the session's page draws, computed once for a request. listed: of how many takes, the newest, is told
    one by one; more: uids of others that are wanted whole."""

    def __init__(
        self,
        session: Session,
        plan: Plan,
        *,
        tick: int,
        span_ms: float,
        offset_ms: float,
        listed: int = 0,
        more: Iterable[str] = (),
    ) -> None:
        self.session, self.plan, self.listed = session, plan, listed
        # What runs is asked first and the takes last: what ends in between is then shown as it ended, or asked again.
        self.run = recorded_now(session)
        self.latest = newest_pass(session)
        self.measured = waits_for_answer(self.latest) if self.run is None else None
        self.tempo: TempoMap = session.tempo_map
        self.rate = plan.rig.sample_rate
        self.lost: dict[UUID, str] = {}
        self._bars: dict[int, float] = {}
        self.rows = tracks_of(session)
        picked = frozenset(row.patch_uid for row in self.rows if row.patch_uid)
        self.sounds = kept_while(("names",), ("picked", picked), lambda: _names_of(picked))
        self._known = known_takes(session)
        self._stretches = {row.uid: stretches_of(row, self._known.get(row.uid, ())) for row in self.rows}
        newest = [self._known[row.uid][0].uid for row in self.rows if row.uid in self._known]
        shown = [take.uid for take in every_take(session)[: self.listed]]
        self.away = list(self._away_rows().figures()[: self.listed]) if self.listed and self._put_away else []
        stands = [one.uid for stretches in self._stretches.values() for one in stretches]
        self._whole = whole_takes(session, {*newest, *shown, *stands, *more}, self.rows)
        self.takes = [self._whole[uid] for uid in shown if uid in self._whole]
        self.last_bar = last_bar_of(session)
        self.whole = whole_of(session, self.rate)
        self.notes = notes_shown(session, self.rate)
        self.tick = int(min(max(0, tick), session.end_tick))
        self.view = GlassView(float(self.tempo.samples_at(self.tick, self.rate)), span_ms, offset_ms, self.rate)

    # --- the moment under the glass

    @property
    def position(self) -> str:
        return str(self.tempo.position(self.tick))

    def neighbours(self) -> tuple[int | None, int | None]:
        """Ticks of the note moments before and after the chosen one."""
        onsets = self.notes.onsets
        before, after = onsets[onsets < self.tick], onsets[onsets > self.tick]
        return (int(before[-1]) if len(before) else None), (int(after[0]) if len(after) else None)

    def moment_percent(self) -> float:
        """Place of the moment on the strips."""
        return round(self.view.moment / self.whole.last * 100, 3)

    def nearest_onset(self, share: float) -> int:
        """Tick of the note moment nearest to a share (0–1) of the strips' width."""
        onsets = self.notes.onsets
        if len(onsets) == 0:
            return 0
        places = self.tempo.samples_at(onsets, self.rate) / self.whole.last
        return int(onsets[int(np.argmin(np.abs(places - share)))])

    @cached_property
    def amiss(self) -> Mapping[UUID, list[Unplayable]]:
        """What the tracks' boxes cannot play of them."""
        return amiss_shown(self.session, self.plan)

    # --- bars

    def bars(self) -> list[BarMark]:
        """Bar lines; every second, fourth … bar is numbered where they stand close."""
        every = next(n for n in (1, 2, 4, 8, 16, 32, 64, 128, 256, 10**6) if self.last_bar / n <= 16)
        shown = range(1, self.last_bar + 1, max(1, every // 2))
        marks = []
        for bar in shown:
            marks.append(BarMark(round(self._bar_share(bar) * 100, 3), str(bar) if (bar - 1) % every == 0 else ""))
        return marks

    def bar_lines(self, *, numbered: bool = True) -> str:
        """The same as one path, across 100 and down 1; numbered: only those that have a number."""
        return "".join(f"M{number(bar.percent)} 0v1" for bar in self.bars() if bar.number or not numbered)

    def _bar_share(self, bar: int) -> float:
        """Where a bar begins, as a share of the strips' width."""
        if bar not in self._bars:
            first = float(self.tempo.samples_at(self.tempo.bar_tick(bar), self.rate))
            self._bars[bar] = first / self.whole.last
        return self._bars[bar]

    def marks(self) -> list[MarkDrawn]:
        """What changes along the bar line."""
        return marks_drawn(self.session, self.tempo, self.whole.last * 1e6 / self.rate)

    # --- tracks

    def tracks(self, only: Container[UUID] | None = None) -> list[TrackView]:
        """All tracks in order, or only some (uids)."""
        armed: dict[str, Track] = {}
        views = []
        for row in self.rows:
            clash = ""
            for uid in bare_track(row, self.plan).inputs if row.armed else ():
                other = armed.setdefault(uid, row)
                if other is not row:
                    clash = f"Same return as {other.name}: record them in a pass each."
            if only is not None and row.uid not in only:
                continue
            views.append(TrackView(self, row, clash))
        return views

    def stands(self, track: UUID) -> list[tuple[Take, Stretch]]:
        """What stands of a track, in order."""
        return [(self._whole[one.uid], one) for one in self._stretches.get(track, ()) if one.uid in self._whole]

    def newest(self, track: UUID) -> Take | None:
        """The last take of a track."""
        return self._whole.get(self._known[track][0].uid) if track in self._known else None

    def these(self, uids: Iterable[str]) -> list[Take]:
        """Of these takes those that were asked for whole, in their order."""
        return [self._whole[uid] for uid in uids if uid in self._whole]

    @cached_property
    def not_listed(self) -> int:
        """How many takes there are besides."""
        return len(every_take(self.session)) - len(self.takes)

    @cached_property
    def away_not_listed(self) -> int:
        """How many takes are put away besides."""
        return self._put_away - len(self.away)

    @cached_property
    def _put_away(self) -> int:
        """How many takes are put away."""
        return kept_while(("takes",), ("put away", str(self.session.uid)), lambda: self._away_rows().count())

    def _away_rows(self) -> QuerySet[Take]:
        return self.session.takes.filter(track__away=False, kept=False).select_related("track")

    def _lost(self, take: Take) -> str:
        """What is wrong with a take's file; what its size does not tell is found when it is read."""
        if take.uid not in self.lost:
            self.lost[take.uid] = take.lost
        return self.lost[take.uid]

    def _read(self, take: Take, read: Callable[[], _Read], otherwise: _Read) -> _Read:
        """What is read from a take's file; otherwise where it cannot be read, which is told at the take."""
        if self._lost(take):
            return otherwise
        try:
            return read()
        except SoundLost:
            self.lost[take.uid] = "its file is damaged"
            return otherwise

    def strip_of(self, take: Take, stretch: Stretch) -> str:
        """The bars for which a take stands, drawn; nothing where its sound is lost."""
        return self._read(take, lambda: self._outline(take, stretch), "")

    def _outline(self, take: Take, stretch: Stretch) -> str:
        """The bars for which a take stands, in columns of the strip."""
        played, first, last = (
            self._bar_share(bar) * COLUMNS
            for bar in (stretch.first_bar - stretch.moved, stretch.first_bar, stretch.last_bar + 1)
        )
        # Before the first bar and behind the last one it has what came early, and what rings on.
        low_column = 0 if stretch.first_bar == take.bars[0] and not stretch.moved else round(first)
        high_column = COLUMNS if stretch.last_bar == take.bars[1] and not stretch.moved else round(last)
        start = take.start + (first - played) * self.whole.last / COLUMNS
        laid = Laid(self.whole.last, self.rate, self.tempo, take.run.tempo_map if take.run.apart else None)
        return outline_of(take.sound_file[0], start, laid, low_column, high_column, _gain(take))

    def glass_of(self, take: Take | None, notes, name: Callable[[int], str]) -> GlassDrawing:
        """The chosen moment of a take. notes: where they begin and end, in samples, and their pitches."""

        def wave(file: str, start: int, body: bool) -> Wave | None:
            return self._read(take, lambda: wave_of(file, start, self.view, _gain(take), body), None)

        placed = arrived = None
        if take:
            # Where the moment stands in the tempo at which it was played.
            begins = take.first_sample - self._moved(take)
            if take.placement is not None:
                placed = wave(take.sound_file[0], begins + take.placement, True)
            arrived = wave(take.file, begins, False)
        return draw_glass(self.view, notes=notes, placed=placed, arrived=arrived, name=name)

    def _moved(self, take: Take) -> int:
        """By how many samples the chosen moment is later in the tempo at which a take was played."""
        if not take.run.apart:
            return 0
        return round(float(take.run.tempo_map.samples_at(self.tick, self.rate)) - self.view.moment)

    def take_views(self, known: Mapping[str, KnownLateness]) -> list[TakeView]:
        """The takes that are told one by one, the newest first. known: what is known of each instrument's lateness, by
        its uid."""
        return [self.take_view(take, known.get(take.instrument_uid)) for take in self.takes]

    def take_view(self, take: Take, known: KnownLateness | None) -> TakeView:
        """A take, with what is wrong with its file."""
        return take_view(take, known, self._lost(take), self._lenders.get(take.uid))

    @cached_property
    def _lenders(self) -> dict[UUID, Take]:
        """Whose lateness takes (uid) without one of their own may borrow."""
        return lenders_of(self.session, [take for take in self._whole.values() if take.borrows])


def _names_of(picked: Collection[str]) -> dict[str, str]:
    """Numbers and names of patches by their uids."""
    return {str(patch.uid): f"{patch.number} {patch.name}" for patch in Patch.objects.filter(uid__in=picked)}


def _named(instrument: Instrument | None, voices: dict[int, str]) -> Callable[[int], str]:
    """What the notes of an instrument are called: its voices, otherwise by its own middle C."""
    if instrument is None:
        return note_name
    return lambda note: voices.get(note) or note_name(note, instrument.middle_c)


def _homes(plan: Plan, returns: Iterable[Return]) -> list[str]:
    """Returns as they are spoken of, further ones by their names."""
    named = [(one.name, returns_text(plan.rig, one.inputs)) for one in returns]
    return [f"{inputs} ({name})" if name else inputs for name, inputs in named]


def _gain(take: Take) -> float:
    """Brings a take's peak to nine tenths of the strip."""
    return 0.9 / 10 ** (take.peak_db / 20) if take.peak_db is not None and take.peak_db > -80 else 1.0


def _shift(take: Take) -> str:
    return signed(take.placement, 0) if take.placement is not None else ""


def take_view(take: Take, known: KnownLateness | None, lost: str, lender: Take | None) -> TakeView:
    """A take with its numbers as they are written. known: what is known of its instrument's lateness; lost: what is
    wrong with the file of its sound; lender: whose lateness it may borrow."""
    found = take.measured
    borrowed = take.borrowed if take.placement is not None else ""
    return TakeView(
        row=take,
        shift=_shift(take),
        late=signed(found.lateness_ms) if found else "",
        problem=take.unmeasured,
        numbers=_numbers(take, found) if found else [],
        borrowed=borrowed,
        lender=lender,
        misses=miss_told(found.start_ms, found.end_ms, found.drift_ppm, found.drift_half) if found else "",
        known=_other(take, known),
        lost=lost,
        gaps=_gaps(take),
    )


def _gaps(take: Take) -> str:
    if take.run is None or not take.run.lost:
        return ""
    tempo = take.run.tempo_map
    return gaps_told(take.gaps, tempo, first_sample=take.first_sample, rate=take.sample_rate)


def _numbers(take: Take, found: Measurement) -> list[tuple[str, str]]:
    half = f" ±{found.lateness_half:.2f}" if found.lateness_half is not None else ""
    numbers = [
        ("lateness, ms", f"{signed(found.lateness_ms, 2)}{half}"),
        ("jitter, ms", f"{found.jitter_ms:.2f}"),
        ("drift, ppm", _drift(found)),
        ("hits used", f"{found.used} of {found.looked_for}"),
        ("set aside", str(found.set_aside)),
        ("missed", str(found.missed)),
        ("extra", str(found.extra)),
        ("peak, dBFS", level_text(take.peak_db) if take.peak_db is not None else "−∞"),
    ]
    return [*numbers, ("too close to tell", str(found.merged))] if found.merged else numbers


def _other(take: Take, known: KnownLateness | None) -> str:
    """The instrument's lateness as another placement to choose, where it does not come from this take itself."""
    own = known is not None and known.source == TAKE and known.found.uid == str(take.uid)
    if take.return_uid or known is None or known.lateness_ms is None or own:
        return ""
    return f"{signed(known.lateness_ms, 2)} ms, {known.source}"


def _drift(found: Measurement) -> str:
    if found.drift_half is None:
        return "not known"
    if abs(found.drift_ppm) <= found.drift_half:
        return f"none found (±{found.drift_half:.0f})"
    return f"{signed(found.drift_ppm, 0)} ±{found.drift_half:.0f}"


def meter_rows(meters: Iterable[Shown]) -> list[MeterRow]:
    """Meters as the page draws them."""
    return [
        MeterRow(one.name, level_bar(one.level, one.peak, one.clips > 0), stored_level_text(one.peak)) for one in meters
    ]
