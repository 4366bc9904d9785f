"""The pass plan: which tracks are recorded in which pass, run in a row, each take checked as it comes.

The plan is rows, one a pass; which of them are done follows from the passes that were recorded for them. So what was
stopped, or died, goes on where it was.
"""

import time
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from uuid import UUID

from django.db import transaction
from django.db.models import Max

from hypotaxis.core.errors import BadBars, CannotSchedule
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.pass_plan import fewest_passes, fits, too_early, wanted_of, why_apart
from hypotaxis.records.jobs import Reporter, ask_to_cancel, begin, hand_over, running, work
from hypotaxis.records.models import Job, Pass, PassPlan, PlannedPass, Session, Take, Track
from hypotaxis.records.plan import last_bar_of, load_plan, notes_in_bars
from hypotaxis.records.track_sound import tracks_sound
from hypotaxis.steps.session.services import judging, recording
from hypotaxis.steps.session.services.voices import split_tracks

KIND = "pass plan"
LOOK_S = 0.1
WAITS, RECORDS, GOOD, FAILED = "waits", "recording", "good", "failed"


@transaction.atomic
def plan_anew(session: Session, plan: Plan, *, first_bar: int, last_bar: int, **chosen) -> PassPlan:
    """A plan of as few passes as can be, of all tracks with notes in these bars. Raises BadBars, CannotSchedule."""
    last = last_bar_of(session)
    if not 1 <= first_bar <= last_bar <= last:
        raise BadBars(f"Bars {first_bar} to {last_bar} are none of this session: it has {last}.")
    _not_while_it_runs(newest(session))
    apart = split_tracks(session)
    rows = [row for row in session.tracks.shown().filter(committed=False) if row.uid not in apart]
    rows = [row for row in rows if row.loop_uid or len(notes_in_bars(row, first_bar, last_bar))]
    wanted, _ = wanted_of(plan, recording.armed_tracks(rows, plan))
    if not wanted:
        raise CannotSchedule("No track with notes in these bars has an instrument with a way out and a way home.")
    found = fewest_passes(wanted)
    return _planned(session, found.passes, first_bar=first_bar, last_bar=last_bar, fewest=found.fewest, **chosen)


@transaction.atomic
def plan_these(session: Session, plan: Plan, passes: Sequence[Sequence[str]], **chosen) -> PassPlan:
    """A plan of these passes (uids of tracks), of all bars. Raises CannotSchedule where they cannot be recorded so."""
    _not_while_it_runs(newest(session))
    named = {one.uid: one for one in recording.armed_tracks(session.tracks.shown(), plan)}
    wanted, _ = wanted_of(plan, list(named.values()))
    for _, one, other in fits(wanted, passes):
        raise CannotSchedule(why_apart(plan, named[one], named[other]) + " They need a pass each.")
    for one, source in too_early(wanted, passes):
        raise CannotSchedule(f"{named[one].name} is sent the take of {named[source].name}, so it comes after it.")
    return _planned(session, passes, first_bar=1, last_bar=last_bar_of(session), fewest=False, **chosen)


def _planned(session: Session, passes: Sequence[Sequence[str]], **chosen) -> PassPlan:
    made = PassPlan.objects.create(session=session, **chosen)
    for order, uids in enumerate(passes):
        PlannedPass.objects.create(plan=made, order=order, tracks=list(uids))
    return made


def newest(session: Session) -> PassPlan | None:
    """The session's plan."""
    return session.plans.select_related("job").last()


@transaction.atomic
def move(row: PassPlan, plan: Plan, track: str, to: int) -> str:
    """Let a track be recorded in another pass (from 0; behind the last one: in a new one); what was done, in words.
    Raises CannotSchedule where it cannot be there."""
    _not_while_it_runs(row)
    columns = list(row.columns.all())
    if to == len(columns):
        columns.append(PlannedPass(plan=row, order=(row.columns.aggregate(Max("order"))["order__max"] or 0) + 1))
    from_ = next((one for one in columns if track in one.tracks), None)
    if from_ is None or not 0 <= to < len(columns):
        raise CannotSchedule("That track or pass is no longer in the plan. Look at it anew.")
    target = columns[to]
    if set(states_of([target, from_])) != {WAITS}:
        raise CannotSchedule("A pass that was recorded stays as it was. Plan again, or choose one that waits.")
    named = {one.uid: one for one in recording.armed_tracks(row.session.tracks.all(), plan)}
    wanted, _ = wanted_of(plan, list(named.values()))
    for _, one, other in fits(wanted, [[*target.tracks, track]]) if target is not from_ else ():
        raise CannotSchedule(why_apart(plan, named[one], named[other]) + " They need a pass each.")
    after = [[uid for uid in one.tracks if uid != track] + [track] * (one is target) for one in columns]
    for one, source in too_early(wanted, after):
        raise CannotSchedule(f"{named[one].name} is sent the take of {named[source].name}, so it comes after it.")
    from_.tracks = [one for one in from_.tracks if one != track]
    target.tracks = [*target.tracks, track] if target is not from_ else target.tracks
    for one in {from_, target} if target is not from_ else {from_}:
        one.save()
    row.columns.filter(tracks=[]).delete()
    return f"{named[track].name} is recorded in pass {to + 1} now."


def start(row: PassPlan, *, one: bool = False, again: PlannedPass | None = None) -> None:
    """Let the worker record what waits; one: only the next pass of it; again: that pass and no other, whether it was
    recorded or not. Raises CannotSchedule while a pass is recorded, or nothing waits."""
    _not_while_it_runs(row)
    if Pass.objects.filter(session__rig=row.session.rig, job__state__in=Job.UNFINISHED).exists():
        raise CannotSchedule("A pass is still running. Stop it, or wait until it is done.")
    if again is None and set(states_of(row.columns.all())) <= {GOOD, FAILED}:
        raise CannotSchedule("Every pass of this plan is done. Plan again to record them once more.")
    with transaction.atomic():
        row.job = begin(KIND, about=str(row.session_id), request={"again": str(again.uid)} if again else {})
        row.stop_after = one
        row.save(update_fields=["job", "stop_after"])
    hand_over(row.job)


def stop(row: PassPlan, *, after: bool) -> None:
    """Stop it, at once or when the pass that is recorded has ended; what came is kept."""
    if after:
        PassPlan.objects.filter(uid=row.uid).update(stop_after=True)
        return
    if row.job_id:
        ask_to_cancel(str(row.job_id))
    for run in Pass.objects.filter(planned__plan=row, job__state__in=Job.UNFINISHED):
        ask_to_cancel(str(run.job_id))


def _not_while_it_runs(row: PassPlan | None) -> None:
    if row and row.job and not row.job.finished:
        raise CannotSchedule("The pass plan is running. Stop it first.")


# --- how it stands


class Recorded:
    """What was recorded for some passes of a plan, and how they stand."""

    def __init__(self, columns: Sequence[PlannedPass]) -> None:
        runs = (
            Pass.objects.filter(planned__in=[one.uid for one in columns])
            .select_related("job", "measuring", "session")
            .in_bulk()
        )
        takes = Take.objects.figures().filter(run__in=runs).select_related("track").order_by("number")
        self._runs: dict[UUID, list[Pass]] = defaultdict(list)
        for run in runs.values():
            self._runs[run.planned_id].append(run)
        self._came: dict[UUID, list[Take]] = defaultdict(list)
        for take in takes:
            take.run = runs[take.run_id]
            take.session = take.track.session = take.run.session
            self._came[take.run.planned_id].append(take)

    def last_takes(self, column: PlannedPass) -> dict[str, Take]:
        """Of each track (uid) of a pass the last take that was recorded for it, by its own return."""
        return {str(take.track_id): take for take in self._came[column.uid] if not take.beside}

    @cached_property
    def troubles(self) -> dict[UUID, str]:
        """Why each of those takes (uid) fails its check, "" where it does not."""
        last = {(pass_, take.track_id): take for pass_, mine in self._came.items() for take in mine if not take.beside}
        return judging.troubles_of(list(last.values()))

    def state_of(self, column: PlannedPass) -> str:
        """How a pass stands."""
        runs = self._runs[column.uid]
        if not column.tracks:
            return WAITS
        if any(not run.job.finished or (run.measuring and not run.measuring.finished) for run in runs):
            return RECORDS
        done = {str(take.track_id) for take in self._came[column.uid] if take.run.job.state == Job.DONE}
        if not set(column.tracks) <= done:
            return WAITS
        return FAILED if any(self.troubles[one.uid] for one in self.last_takes(column).values()) else GOOD


def states_of(columns: Sequence[PlannedPass]) -> list[str]:
    """How each of these passes stands."""
    recorded = Recorded(columns)
    return [recorded.state_of(column) for column in columns]


@dataclass(frozen=True)
class PlanState:
    """How a plan stands as a whole. columns, states: its passes in order, and how each stands."""

    row: PassPlan | None
    columns: tuple[PlannedPass, ...] = ()
    states: tuple[str, ...] = ()
    recorded: Recorded = field(default_factory=lambda: Recorded(()))

    @property
    def running(self) -> bool:
        """Whether it is at work."""
        return bool(self.row and self.row.job and not self.row.job.finished)

    @property
    def waits(self) -> int:
        """Passes that are still to be recorded."""
        return self.states.count(WAITS)

    @property
    def now(self) -> int:
        """The pass that is recorded, from 1; 0 between two."""
        return self.states.index(RECORDS) + 1 if RECORDS in self.states else 0

    @property
    def recording(self) -> Pass | None:
        """The pass that is at work now."""
        if not self.running:
            return None
        runs = Pass.objects.filter(planned__plan=self.row, job__state__in=Job.UNFINISHED)
        return runs.select_related("job", "session__rig").first()

    @property
    def trouble(self) -> str:
        """Why it stopped, where nobody asked for that."""
        job = self.row.job if self.row else None
        return job.message if job and job.finished else ""


def plan_state(session: Session) -> PlanState:
    """How the session's plan stands."""
    row = newest(session)
    if row is None:
        return PlanState(None)
    columns = tuple(row.columns.all())
    recorded = Recorded(columns)
    return PlanState(row, columns, tuple(recorded.state_of(column) for column in columns), recorded)


def waits_for(session: Session, tracks: Sequence[Track]) -> dict[UUID, str]:
    """What effects among these tracks (uid) need before they can be recorded, in words; no key where nothing is
    missing, and for all other tracks."""
    fed = [track for track in tracks if track.fed_by_id]
    known = session.tracks.in_bulk({track.fed_by_id for track in fed}) if fed else {}
    for one in known.values():
        one.session = session
    placed = tracks_sound(session, list(known.values()), only_placed=True) if known else {}
    missing = (track for track in fed if track.fed_by_id not in placed)
    return {track.uid: f"waits for a placed take of {known[track.fed_by_id].name}" for track in missing}


# --- run in a row


@work(KIND)
def run_plan(job_uid: str) -> None:
    """The task: record what waits, one pass after the other."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row = PassPlan.objects.select_related("session__rig").get(job_id=job_uid)
        columns, again = list(row.columns.all()), reporter.job.request.get("again")
        if again:
            columns = [column for column in columns if str(column.uid) == again]
        for place, column in enumerate(columns):
            if not again and states_of([column])[0] in (GOOD, FAILED):
                continue
            reporter.report(place / len(columns))
            _record(column, column.tracks, reporter)
            failed = _failed(column, row) if row.repeat else []
            if failed:
                _wait(row.gap_s, row, reporter)
                _record(column, failed, reporter)
            row.refresh_from_db()
            left = not set(states_of(columns[place + 1 :])) <= {GOOD, FAILED}
            if row.stop_after or not left:
                return
            _wait(row.gap_s, row, reporter)


def _failed(column: PlannedPass, row: PassPlan) -> list[str]:
    """The tracks (uids) of a pass whose takes are not good."""
    recorded, plan = Recorded([column]), load_plan(row.session.rig)
    last = recorded.last_takes(column)
    return [uid for uid, take in last.items() if recorded.troubles[take.uid] or judging.unlike(take, plan)]


def _record(column: PlannedPass, tracks: Sequence[str], reporter: Reporter) -> None:
    """Record these tracks in a pass, and measure its takes before it is judged. Its lead-in calls their sounds up."""
    row, plan = column.plan, load_plan(column.plan.session.rig)
    session = Session.objects.select_related("rig").get(uid=row.session_id)
    # An effect without anything to be sent is left for the person; the row goes on.
    asked = list(session.tracks.filter(uid__in=tracks))
    waiting = waits_for(session, asked)
    ready = [one for one in asked if one.uid not in waiting]
    if not ready:
        return
    bars = {"first_bar": row.first_bar, "last_bar": row.last_bar}
    run = recording.record_now(session, plan, ready, **bars, fast=row.fast, planned=column)
    reporter.report(reporter.job.progress)
    if run.job.state in (Job.FAILED, Job.INTERRUPTED):
        raise CannotSchedule(f"Pass {run.number} failed, so the row stopped there: {run.job.message}")


def _wait(seconds: float, row: PassPlan, reporter: Reporter) -> None:
    """The gap between two passes, unless somebody stops it; in fast mode nobody waits."""
    until = time.monotonic() + (0 if row.fast else seconds)
    while time.monotonic() < until:
        reporter.report(reporter.job.progress)
        time.sleep(LOOK_S)
