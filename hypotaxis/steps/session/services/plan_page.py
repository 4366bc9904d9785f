"""What the page of a pass plan shows: passes across, returns down."""

from dataclasses import dataclass
from functools import cached_property

from django.db.models import prefetch_related_objects

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.pass_plan import LeftOut, seconds_of, wanted_of, why_apart
from hypotaxis.core.session.passes import ArmedTrack
from hypotaxis.core.session.standing import Stretch
from hypotaxis.core.units import clock_text, counted
from hypotaxis.records import audio
from hypotaxis.records.models import PassPlan, PlannedPass, Session, Take
from hypotaxis.records.plan import notes_in_bars
from hypotaxis.steps.session.services import recording
from hypotaxis.steps.session.services.grids import names_of
from hypotaxis.steps.session.services.picture import Picture
from hypotaxis.steps.session.services.planning import RECORDS, WAITS, plan_state, waits_for
from hypotaxis.steps.session.services.voices import VoicesApart, split_tracks

MANY = 2
"""Voices that can be taken apart."""
BYTES_A_FRAME = 6
"""Stereo, 24 bit."""


@dataclass(frozen=True)
class Cell:
    """A track in a pass."""

    uid: str
    name: str
    notes_path: str
    sound_path: str
    late: str
    trouble: str
    take: Take | None
    sent_path: str = ""
    waits_for: str = ""


@dataclass(frozen=True)
class Column:
    """A pass of the plan."""

    row: PlannedPass
    number: int
    state: str
    told: str
    starts: str


@dataclass(frozen=True)
class Line:
    """A return, and what comes home by it in each pass. apart: why its tracks need a pass each."""

    name: str
    colour: str
    columns: list[tuple[Column, list[Cell]]]
    apart: str


@dataclass(frozen=True)
class DrumTrack:
    """A track of several voices. state: whether they are recorded apart; effects: what becomes of its box's own
    then."""

    uid: str
    name: str
    state: str
    effects: str


class PlanPage:
    """The session's pass plan; row None where it has none yet."""

    def __init__(self, session: Session, plan: Plan) -> None:
        self.session, self.plan = session, plan
        self.state = plan_state(session)
        self.row: PassPlan | None = self.state.row
        self.picture = Picture(session, plan, tick=0, span_ms=45.0, offset_ms=-5.0)
        self._shown = {str(view.row.uid): view for view in self.picture.tracks()}
        self._columns, self._states, recorded = self.state.columns, self.state.states, self.state.recorded
        self._takes = [recorded.last_takes(column) for column in self._columns]
        self._troubles = recorded.troubles
        self._waiting = waits_for(session, self.picture.rows) if self.row else {}

    @cached_property
    def each_s(self) -> float:
        """How long a pass takes."""
        return seconds_of(1, self._song_s, 0.0)

    @property
    def _song_s(self) -> float:
        tempo, row = self.picture.tempo, self.row
        first, last = (float(tempo.us_at(tempo.bar_tick(bar))) for bar in (row.first_bar, row.last_bar + 1))
        return (last - first) / 1e6

    @cached_property
    def columns(self) -> list[Column]:
        """The passes, in order."""
        found = []
        for number, (row, state) in enumerate(zip(self._columns, self._states, strict=True)):
            bad = sum(bool(self._troubles[take.uid]) for take in self._takes[number].values())
            loose = sum(take.placement is None for take in self._takes[number].values())
            done = f"done, {bad} not good" if bad else f"done, {loose} not placed" if loose else "done, good"
            told = {RECORDS: "recording", WAITS: "waits"}.get(state, done)
            starts = seconds_of(number, self._song_s, self.row.gap_s) + (self.row.gap_s if number else 0.0)
            found.append(Column(row, number + 1, state, told, clock_text(starts)))
        return found

    @cached_property
    def lines(self) -> list[Line]:
        """A line a return, in the order of the tracks."""
        tracks: dict[tuple[str, ...], list[str]] = {}
        planned = {uid for column in self._columns for uid in column.tracks}
        for uid, view in self._shown.items():
            if uid in planned and view.owner:
                homes = recording.bare_track(view.row, self.plan).returns
                tracks.setdefault(homes[0].inputs if homes else (), []).append(uid)
        return [self._line(inputs, uids) for inputs, uids in tracks.items()]

    @cached_property
    def _armed(self) -> dict[str, ArmedTrack]:
        """The tracks (uid) as a pass sees them."""
        return {one.uid: one for one in recording.armed_tracks(self.picture.rows, self.plan)}

    def _line(self, inputs: tuple[str, ...], uids: list[str]) -> Line:
        cells = [
            (column, [self._cell(uid, place) for uid in uids if uid in column.row.tracks])
            for place, column in enumerate(self.columns)
        ]
        first = self._shown[uids[0]]
        armed = [self._armed[uid] for uid in uids[:2]]
        apart = why_apart(self.plan, *armed) if len(armed) == 2 else ""
        return Line(returns_text(self.plan.rig, inputs), first.owner.colour, cells, apart)

    def _cell(self, uid: str, place: int) -> Cell:
        view, take = self._shown[uid], self._takes[place].get(uid)
        sound = self.picture.strip_of(take, Stretch(str(take.uid), *take.bars)) if take else ""
        found = take.measured if take else None
        late = f"{found.lateness_ms:+.1f}".replace("-", "−") if found else ""
        waiting = self._waiting.get(view.row.uid, "") if take is None else ""
        trouble = self._troubles[take.uid] if take else ""
        name = view.row.name.removeprefix(f"{view.row.voice_of.name}: ") if view.row.voice_of_id else view.row.name
        return Cell(uid, name, view.notes_path, sound, late, trouble, take, view.sent_path, waiting)

    @cached_property
    def left_out(self) -> list[tuple[str, str]]:
        """(name, why) of tracks with notes that cannot be recorded."""
        if not self.row:
            return []
        bars = self.row.first_bar, self.row.last_bar
        rows = [row for row in self.picture.rows if row.loop_uid or len(notes_in_bars(row, *bars))]
        _, left = wanted_of(self.plan, [self._armed[str(row.uid)] for row in rows])
        named = {str(row.uid): row.name for row in rows}
        return [(named[one.uid], one.why) for one in left if isinstance(one, LeftOut)]

    @cached_property
    def drums(self) -> list["DrumTrack"]:
        """The tracks of several voices, and whether these are recorded apart."""
        apart = split_tracks(self.session)
        prefetch_related_objects([view.row for view in self._shown.values()], "voices")
        found = []
        for uid, view in self._shown.items():
            if view.row.voice_of_id or not view.instrument or len(names_of(view.instrument)) < MANY:
                continue
            told = VoicesApart(view.row, self.plan)
            if view.row.uid in apart:
                found.append(DrumTrack(uid, view.row.name, f"apart, {counted(len(told.rows), 'track')}", told.effects))
            elif len(told.voices) >= MANY:
                found.append(DrumTrack(uid, view.row.name, f"{len(told.voices)} voices, recorded as one", ""))
        return found

    @property
    def sums(self) -> list[tuple[str, str]]:
        """What it comes to."""
        takes = sum(len(column.tracks) for column in self._columns)
        whole = seconds_of(len(self._columns), self._song_s, self.row.gap_s)
        left = seconds_of(self.state.waits, self._song_s, self.row.gap_s)
        open_ones = [len(c.tracks) for c, state in zip(self._columns, self._states, strict=True) if state == WAITS]
        needs_mb = self.each_s * self.plan.rig.sample_rate * BYTES_A_FRAME * sum(open_ones) / 1e6
        free_mb = audio.free_bytes() / 1e6
        return [
            ("passes", f"{len(self._columns)}{'' if self.row.fewest else ', perhaps not the fewest'}"),
            ("takes", str(takes)),
            ("each pass", clock_text(self.each_s)),
            ("with gaps, all", clock_text(whole)),
            ("still to go", clock_text(left) if self.state.waits else "0:00"),
            ("needs on the disk, MB", f"{needs_mb:,.0f} of {free_mb:,.0f}"),
        ]
