"""A pattern, or bars of the session, in a loop on the boxes while a part is edited: what changes holds from the next
step on. It gives way to whatever else wants the studio.
"""

from contextlib import closing
from dataclasses import dataclass, field, replace

from django.db import transaction

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.grid.notes import pattern_notes
from hypotaxis.core.plan import Plan
from hypotaxis.core.playing.loop import Line, Loop, line_of
from hypotaxis.core.session.listening import InputMeter, Shown
from hypotaxis.core.session.tempo import Position, TempoMap
from hypotaxis.core.studio import Message, RunSetup
from hypotaxis.records.jobs import Reporter, begin, hand_over, running, work
from hypotaxis.records.models import Job, Track
from hypotaxis.records.patch_lists import track_calls
from hypotaxis.records.plan import load_plan, notes_of
from hypotaxis.records.studio import CALL_GAP_NS, is_wanted, studio_for
from hypotaxis.steps.session.services.grids import grid_of

KIND = "part loop"
_MADE_OF = ("grid", "generator", "notes", "controls")
LEAD_NS = 250_000_000
"""Before the first step: for what a shift plays early."""


@dataclass(frozen=True)
class LoopWish:
    """What goes round: pattern: its letter, of a bar like first_bar; "" = the bars, on all boxes."""

    pattern: str = ""
    first_bar: int = 1
    last_bar: int = 1


@dataclass(frozen=True)
class LoopHeard:
    """What comes home of it."""

    levels: tuple[Shown, ...] = field(default=())


def start_loop(track: Track, plan: Plan, wish: LoopWish) -> Job:
    """Let the worker play it until it is stopped; what goes round already gives way. Raises CannotSchedule."""
    if _way_out(plan, track) is None:
        raise CannotSchedule(f"{track.name} has no box that its notes go to. Choose its instrument on Session.")
    with transaction.atomic():
        for other in loops_of(track):
            Job.objects.filter(uid=other.uid).update(cancel=True)
        job = begin(KIND, about=str(track.uid), request=to_json(wish))
    hand_over(job)
    return job


def trouble_of(track: Track) -> str:
    """Why the last loop of a track ended, where that was not asked for."""
    last = Job.objects.filter(kind=KIND, about=str(track.uid)).last()
    return last.message if last and last.state in (Job.FAILED, Job.INTERRUPTED) else ""


def loops_of(track: Track) -> list[Job]:
    """What goes round of a track; one, but while another takes its place."""
    found = Job.objects.filter(kind=KIND, about=str(track.uid), state__in=Job.UNFINISHED, cancel=False)
    return list(found.order_by("-made"))


def wish_of(job: Job) -> LoopWish:
    """What goes round."""
    return from_json(LoopWish, job.request)


def heard_of(job: Job) -> LoopHeard:
    """What comes home of a loop."""
    return from_json(LoopHeard, job.result)


@dataclass(frozen=True)
class LoopNow:
    """Where what goes round is. tick: in the session, or in the pattern's bar by itself."""

    wish: LoopWish
    tick: int
    at: Position
    quarters: float
    """Since its bar began."""


def now_of(track: Track, job: Job) -> LoopNow:
    """Where what goes round of a track is."""
    wish = wish_of(job)
    tempo, first, end = span_of(track, wish)
    tick = min(max(first + round(job.progress * (end - first)), first), end - 1)
    at = tempo.position(tick)
    quarters = (tick - tempo.bar_tick(at.bar)) / tempo.ticks_per_quarter
    return LoopNow(wish, tick, replace(at, bar=wish.first_bar) if wish.pattern else at, quarters)


@work(KIND)
def go_round(job_uid: str) -> None:
    """The task: play it round and round."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        track = Track.objects.select_related("session__rig").get(uid=reporter.job.about)
        plan = load_plan(track.session.rig)
        with studio_for(plan) as studio:
            _go_round(_Round(track, plan, wish_of(reporter.job)), plan, studio, reporter)


def _go_round(going: "_Round", plan: Plan, studio, reporter: Reporter) -> None:
    there = set(studio.inputs())
    found = [plan.rig.find(uid)[1] for uid in going.instrument.inputs if plan.rig.find(uid)]
    ends = [socket for socket in found if socket.system_name in there]
    meters = [InputMeter(socket.name) for socket in ends]
    asked = RunSetup(inputs=tuple(socket.system_name for socket in ends))
    with closing(studio.run(going.loop, asked)) as blocks:
        for block in blocks:
            for column, meter in enumerate(meters):
                meter.feed(block.samples[:, column])
            if reporter.due():
                going.look()
                heard = LoopHeard(tuple(meter.shown for meter in meters))
                Job.objects.filter(uid=reporter.job.uid).update(result=to_json(heard))
                reporter.report(going.loop.share(round(block.start * 1e9 / studio.sample_rate)))
                going.loop.over = going.loop.over or is_wanted()


class _Round:
    """What goes round, kept as the part is now."""

    def __init__(self, track: Track, plan: Plan, wish: LoopWish) -> None:
        self.track, self.plan, self.wish = track, plan, wish
        self.instrument = plan.instrument(track.instrument_uid)
        self._tempo, first, end = span_of(track, wish)
        self._span = {"first_tick": first, "end_tick": end}
        mine = {str(track.uid): self._line(track)}
        tracks = [] if wish.pattern else track.session.tracks.playing().exclude(uid=track.uid)
        others = {str(row.uid): self._line(row) for row in tracks if _way_out(plan, row)}
        calls = [
            (way[0], call)
            for row in [track, *tracks]
            if (way := _way_out(plan, row))
            for call in track_calls(row, plan.instrument(row.instrument_uid))
        ]
        first = [Message(number * CALL_GAP_NS, *call) for number, call in enumerate(calls)]
        round_ns = round(float(self._tempo.us_at(end) - self._tempo.us_at(self._span["first_tick"])) * 1000)
        begins_ns = LEAD_NS + len(first) * CALL_GAP_NS + (round(self.instrument.gap_ms * 1e6) if first else 0)
        self.loop = Loop(mine | others, round_ns, first=first, begins_ns=begins_ns)

    def look(self) -> None:
        """Play what the part is now."""
        now = Track.objects.filter(uid=self.track.uid).values(*_MADE_OF).first() or {}
        if any(value != getattr(self.track, name) for name, value in now.items()):
            for name, value in now.items():
                setattr(self.track, name, value)
            self.loop.change(str(self.track.uid), self._line(self.track))

    def _line(self, row: Track) -> Line:
        if row.uid == self.track.uid and self.wish.pattern:
            grid = grid_of(row)
            known = any(one.name == self.wish.pattern for one in grid.patterns)
            notes = pattern_notes(grid, self.wish.pattern if known else grid.patterns[0].name, self._tempo)
        else:
            notes = notes_of(row)
        return line_of(notes, self._tempo, _way_out(self.plan, row), **self._span)


def span_of(track: Track, wish: LoopWish) -> tuple[TempoMap, int, int]:
    """(tempo map, first tick, end tick) of what goes round: of a pattern a bar by itself, in the meter and the tempo of
    the bar that is edited."""
    tempo = track.session.tempo_map
    first = tempo.bar_tick(wish.first_bar)
    if not wish.pattern:
        return tempo, first, tempo.bar_tick(wish.last_bar + 1)
    alone = TempoMap(tempo.ticks_per_quarter, ((0, tempo.us_of_quarter(first)),), ((0, *tempo.meter_at(first)),))
    return alone, 0, alone.bar_tick(2)


def _way_out(plan: Plan, row: Track) -> tuple[str, int] | None:
    return plan.way_out(row.instrument_uid, row.part_uid)
