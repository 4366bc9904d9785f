"""Recall: what stands otherwise than when a session's takes were made, put back, and what makes it sound again."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from hashlib import sha256
from uuid import UUID

from django.utils import timezone

from hypotaxis.core.errors import CannotSchedule, DoesNotFit, UnreadableFile
from hypotaxis.core.findings.finding import Finding
from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.midi.programs import Program, program_in_force, wire_told
from hypotaxis.core.mixing.sameness import LEVEL, SAME
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.recall.again import ToDo, to_do
from hypotaxis.core.recall.differences import (
    BOX,
    KINDS,
    SOUND,
    STUDIO,
    Difference,
    differences,
    put_back,
    studio_differs,
)
from hypotaxis.core.rig.panels import BoxSettings
from hypotaxis.core.rig.startup import StartStep
from hypotaxis.core.studio import STAND_IN
from hypotaxis.core.timing.context import changed, context_of, context_of_loop
from hypotaxis.core.timing.lateness import FEWEST_HITS
from hypotaxis.records import jobs
from hypotaxis.records.jobs import ask, running, work
from hypotaxis.records.journal import Edit, change_rig, edits_between
from hypotaxis.records.kept_rigs import plan_of
from hypotaxis.records.models import Box, Cable, Job, KeptRig, Pass, Patch, Session, Take, Track
from hypotaxis.records.patch_lists import track_calls
from hypotaxis.records.plan import load_plan, notes_in_bars, session_anew, tracks_of
from hypotaxis.records.stamps import kept_with
from hypotaxis.records.standing import known_takes, stretches_of, whole_takes
from hypotaxis.records.ticks import keep_ticks, ticked_on
from hypotaxis.records.track_sound import TrackSound
from hypotaxis.steps.session.services import recording
from hypotaxis.steps.session.services.comparing import how_they_differ
from hypotaxis.steps.session.services.dumping import Memory, memories

KIND = "recall"
MOST_BARS = 4
"""Bars that are played for a check by ear and by comparing."""


@dataclass(frozen=True, eq=False)
class Row:
    """A difference, and the takes that were made when it was otherwise. sound: fields of the track by which its sound
    of then is called up again, where it is one of a sound."""

    slug: str
    difference: Difference
    takes: tuple[Take, ...]
    track: Track | None = None
    sound: dict | None = None

    @property
    def may_go_back(self) -> bool:
        return bool(self.difference.fix or self.sound)

    @property
    def takes_told(self) -> str:
        """Which takes, in words."""
        by_track: dict[str, list[int]] = {}
        for take in self.takes:
            by_track.setdefault(take.track.name, []).append(take.number)
        return "; ".join(
            f"{name} take{'s' if len(numbers) > 1 else ''} {', '.join(map(str, sorted(numbers)))}"
            for name, numbers in by_track.items()
        )


@dataclass(frozen=True)
class Preview:
    """What putting rows back does: the edits that it is, and how the findings change."""

    rows: Sequence[Row]
    edits: int
    new: Sequence[Finding]
    gone: int


@dataclass(frozen=True, eq=False)
class CheckRow:
    """A track that can be checked by playing it: the take it is held against, and what the last check said."""

    track: Track
    take: Take
    sound: str
    job: Job | None
    found: "Checked | None"


def changed_since(session: Session, plan: Plan) -> int:
    """How much stands otherwise than when what stands of a session was made."""
    return kept_with(plan, ("desk", "takes", "names", "soundings"), _changed, session.uid)


def _changed(plan: Plan, uid: UUID) -> int:
    session = session_anew(uid)
    return len(RecallPage(session, plan).rows) if session else 0


@dataclass(frozen=True)
class CheckWish:
    """Which take a few bars are played again for."""

    take: str
    first_bar: int
    last_bar: int
    fast: bool = False


@dataclass(frozen=True)
class Checked:
    """What a check heard. alike: the sound is that of then; told: in a sentence; heard: uid of the take it made."""

    alike: bool
    told: str
    heard: str = ""


class RecallPage:
    """Of a session. every: all its takes are looked at, not only those that stand."""

    def __init__(self, session: Session, plan: Plan, *, every: bool = False) -> None:
        self.session, self.plan, self.every = session, plan, every

    @cached_property
    def takes(self) -> list[Take]:
        """Those that are looked at, by track."""
        known = known_takes(self.session)
        if self.every:
            looked_at = {one.uid for takes in known.values() for one in takes}
        else:
            tracks = self.session.tracks.filter(uid__in=known)
            looked_at = {one.uid for track in tracks for one in stretches_of(track, known[track.uid])}
        found = whole_takes(self.session, looked_at).values()
        return sorted(found, key=lambda take: (take.track.order, take.number))

    @cached_property
    def rows(self) -> list[Row]:
        """What stands otherwise, in the order in which it is put back."""
        found: dict[str, Row] = {}
        for take in self.takes:
            for row in self._rows_of(take):
                known = found.get(row.slug)
                found[row.slug] = replace(known, takes=(*known.takes, take)) if known else row
        return sorted(found.values(), key=lambda row: KINDS.index(row.difference.kind))

    def row(self, slug: str) -> Row | None:
        return next((row for row in self.rows if row.slug == slug), None)

    @property
    def may_go_back(self) -> list[Row]:
        """Those that can be put back; of two that cannot both be, the one of the newer take."""
        newest: dict[str, Row] = {}
        for row in self.rows:
            known = newest.get(row.difference.key)
            if row.may_go_back and (known is None or _newest(row) > _newest(known)):
                newest[row.difference.key] = row
        return list(newest.values())

    @property
    def unknown(self) -> list[Take]:
        """Takes of which only little is known of how the rig stood."""
        return [take for take in self.takes if take.run.kept_rig_id is None]

    def _rows_of(self, take: Take) -> Iterator[Row]:
        for one in self._differences(take):
            yield Row(_slug(one), one, (take,))
        yield from self._sound(take)

    def _differences(self, take: Take) -> Sequence[Difference]:
        known = (take.run.kept_rig_id, take.instrument_uid, self._studio_of(take))
        if known not in self._known:
            self._known[known] = self._laid_beside(take)
        return self._known[known]

    @cached_property
    def _known(self) -> dict[tuple, Sequence[Difference]]:
        return {}

    def _studio_of(self, take: Take) -> str:
        return take.part.context.get("studio", STAND_IN) if take.part else STAND_IN

    def _laid_beside(self, take: Take) -> Sequence[Difference]:
        try:
            then = plan_of(take.run.kept_rig_id) if take.run.kept_rig_id else None
        except (KeptRig.DoesNotExist, UnreadableFile):
            then = None
        if then is None:
            return tuple(self._by_context(take))
        then = replace(then, studio_kind=self._studio_of(take))
        here = {box.uid for box in self.plan.rig.boxes}
        if not any(box.uid in here for box in then.rig.boxes):
            stood, stands = f"it was made on {then.rig.name}", f"it stands on {self.plan.rig.name}"
            desk = "What plays it here was chosen when the archive was opened; the sheet in it says how it was there."
            return (Difference(f"desk {then.rig.uid}", BOX, "Another desk", stood, stands, desk),)
        return differences(then, self.plan, take.instrument_uid)

    def _by_context(self, take: Take) -> Iterator[Difference]:
        """What the measured trip of a take says by itself, where no rig was kept with its pass."""
        part = take.part
        owner = self.plan.instrument(take.instrument_uid) or self.plan.loop(take.instrument_uid)
        if part is None:
            return
        if owner is None:
            yield Difference(f"gone {take.instrument_uid}", BOX, take.instrument_name, "defined", "not defined")
            return
        if isinstance(owner, Loop):
            now = context_of_loop(self.plan, owner)
        else:
            seat = take.track.part_uid
            now = context_of(self.plan, owner, part=seat, back=take.return_uid)
        if part.context.get("studio", STAND_IN) != self.plan.studio_kind:
            yield studio_differs(part.context.get("studio", STAND_IN), self.plan.studio_kind)
        for one in changed({**part.context, "patch": now["patch"], "studio": now["studio"]}, now):
            yield Difference(f"context {owner.uid} {one}", STUDIO, owner.name, "it was measured otherwise", one)

    def _sound(self, take: Take) -> Iterator[Row]:
        """Where another sound would be called up now."""
        instrument = self.plan.instrument(take.instrument_uid)
        if take.part is None or instrument is None or take.part.sends:
            return
        if take.track_id not in self._called_now:
            self._called_now[take.track_id] = _program(track_calls(take.track, instrument))
        then, now = _program(take.part.calls), self._called_now[take.track_id]
        if then == now:
            return
        told = [_sound_told(instrument, one) for one in (then, now)]
        one = Difference(f"sound {take.track_id}", SOUND, f"The sound of {take.track.name}", *told)
        patch = _patch_of(instrument, then)
        fields = {"program": then.program if then else None, "msb": then.msb if then else None}
        fields |= {"lsb": then.lsb if then else None, "patch_uid": str(patch.uid) if patch else ""}
        yield Row(_slug(one), one, (take,), take.track, fields)

    @cached_property
    def _called_now(self) -> dict:
        """The sound of each track that was asked for."""
        return {}

    # --- shown before it is done

    def preview(self, rows: Sequence[Row]) -> Preview:
        """What putting these back would do. Raises DoesNotFit."""
        after = self._after(rows)
        before, then = check(self.plan), check(after)
        causes = {one.cause for one in before}
        new = [one for one in then if one.cause not in causes]
        return Preview(rows, len(self._edits(rows, after)), new, len(before) - len(then) + len(new))

    def _after(self, rows: Sequence[Row]) -> Plan:
        return put_back(self.plan, [row.difference for row in rows])

    def _edits(self, rows: Sequence[Row], after: Plan) -> list[Edit]:
        sounds = [Edit("track", str(row.track.uid), row.sound) for row in rows if row.sound]
        return [*edits_between(self.plan, after), *sounds]

    def put_back(self, rows: Sequence[Row]) -> str:
        """Put these back, as one step; what was done, in words. Raises DoesNotFit."""
        edits = self._edits(rows, self._after(rows))
        _check_own(edits, self.session)
        first = rows[0].difference
        title = f"put back as it was: {first.about}" if len(rows) == 1 else f"put {len(rows)} things back as they were"
        sounds = any(row.sound for row in rows)
        change_rig(self.session.rig, title, edits, self.session if sounds else None)
        told = f"{first.about}: {first.then} again." if len(rows) == 1 else f"{len(rows)} things are as they were."
        return f"{told} Undo takes it back."

    # --- what makes it sound again

    @cached_property
    def owners(self) -> list[Instrument | Loop]:
        """What its tracks are played by."""
        uids = dict.fromkeys(uid for track in self.tracks for uid in (track.instrument_uid, track.loop_uid) if uid)
        found = (self.plan.instrument(uid) or self.plan.loop(uid) for uid in uids)
        return [one for one in found if one]

    @cached_property
    def tracks(self) -> list[Track]:
        return tracks_of(self.session)

    @cached_property
    def todo(self) -> ToDo:
        return to_do(self.plan, self.owners)

    @cached_property
    def ticks(self) -> dict:
        """The days on which things were ticked, by their keys; cables count today only."""
        return ticked_on(self.session.rig, timezone.localdate())

    @property
    def plugs(self) -> list[tuple]:
        """(cable, whether it is ticked) of each."""
        return [(one, one.key in self.ticks) for one in self.todo.plugs]

    @property
    def settings(self) -> list[tuple[BoxSettings, list[tuple[StartStep, object]]]]:
        return [(one, [(step, self.ticks.get(step.key)) for step in one.settings]) for one in self.todo.settings]

    def tick(self, done: set[str]) -> None:
        """Keep which cables and settings are done."""
        among = set(self.todo.keys) | {step.key for one in self.todo.settings for step in one.settings}
        keep_ticks(self.session.rig, among, done, timezone.localdate())

    @cached_property
    def memories(self) -> list[Memory]:
        """Of the boxes that sound."""
        boxes = dict.fromkeys(one.box for one in self.owners if isinstance(one, Instrument))
        return memories(self.session, [box for uid in boxes if (box := self.plan.rig.box(uid))])

    @cached_property
    def checks(self) -> list[CheckRow]:
        """Each track that can be played again, held against its newest take that stands."""
        newest: dict = {}
        for take in self.takes:
            if not take.silent and not take.lost and take.part and not take.part.sends:
                newest[take.track_id] = take
        found, asked = [], jobs.newest_of(KIND, [str(take.uid) for take in newest.values()])
        for take in newest.values():
            job = asked.get(str(take.uid))
            instrument = self.plan.instrument(take.instrument_uid)
            sound = _sound_told(instrument, _program(take.part.calls)) if instrument else ""
            found.append(CheckRow(take.track, take, sound, job, came_of(job)))
        return found


def _newest(row: Row) -> int:
    return max(take.number for take in row.takes)


def _slug(one: Difference) -> str:
    return sha256(f"{one.key} {one.then} {one.now}".encode()).hexdigest()[:16]


def _check_own(edits: Sequence[Edit], session: Session) -> None:
    """Raises DoesNotFit where what would be put back is on another rig by now."""
    uids = [edit.uid for edit in edits if edit.kind in ("box", "cable") and edit.fields]
    for model in (Box, Cable):
        if found := model.objects.filter(uid__in=uids).exclude(rig=session.rig).select_related("rig").first():
            raise DoesNotFit(f"{found} belongs to the rig {found.rig.name} now. Nothing was put back.")


def _program(calls: Sequence[bytes]) -> Program | None:
    """The sound that messages call up; levels and pan are none."""
    rows = [(data[0] & 0xF0, data[1], data[2] if len(data) > 2 else 0) for data in calls]
    return program_in_force(rows)[0]


def _patch_of(instrument: Instrument, sound: Program | None) -> Patch | None:
    if sound is None or not instrument.patch_list:
        return None
    rows = Patch.objects.filter(list=instrument.patch_list, program=sound.program)
    banks = [(one, (one.msb, one.lsb)) for one in rows]
    exact = next((one for one, bank in banks if bank == (sound.msb, sound.lsb)), None)
    # A box that is sent no bank, or half of it, leaves the rest of a patch's number unsaid.
    loose = (one for one, (msb, lsb) in banks if sound.msb in (None, msb) and sound.lsb in (None, lsb))
    return exact or next(loose, None)


def _sound_told(instrument: Instrument, sound: Program | None) -> str:
    if sound is None:
        return "no sound called up"
    patch = _patch_of(instrument, sound)
    numbers = wire_told(sound.program, sound.msb, sound.lsb)
    return f"{patch.name} ({numbers})" if patch else numbers


# --- a few bars played again ----------------------------------------------------------------------


def start_check(page: RecallPage, take: Take, *, fast: bool, token: str = "") -> Job:
    """Let the worker play a few bars of a take again and hold them against it. Raises CannotSchedule."""
    if page.plan.rig.sample_rate != take.sample_rate:
        raise CannotSchedule(
            f"Take {take.number} was made at {take.sample_rate} Hz, and the rig runs at {page.plan.rig.sample_rate}. "
            "Put that back first."
        )
    if Pass.objects.filter(session__rig=page.session.rig, job__state__in=Job.UNFINISHED).exists():
        raise CannotSchedule("A pass is still running. Stop it, or wait until it is done.")
    first, last = bars_to_check(take)
    return ask(KIND, about=str(take.uid), request=to_json(CheckWish(str(take.uid), first, last, fast)), token=token)


def bars_to_check(take: Take) -> tuple[int, int]:
    """The first few bars of a take that hold notes enough to be measured. Raises CannotSchedule."""
    first, last = take.bars
    for begin in range(first, last + 1):
        if not len(notes_in_bars(take.track, begin, begin)):
            continue
        end = min(last, begin + MOST_BARS - 1)
        if len(notes_in_bars(take.track, begin, end)) >= min(FEWEST_HITS, len(notes_in_bars(take.track, first, last))):
            return begin, end
    raise CannotSchedule(f"{take.track.name} has no notes in bars {first} to {last}: listen by ear.")


def came_of(job: Job | None) -> Checked | None:
    """What a check found, where it is done."""
    return from_json(Checked, job.result) if job and job.state == Job.DONE and job.result else None


@work(KIND)
def play_again(job_uid: str) -> None:
    """The task: record the bars once more, compare, and put what was recorded away."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        wish = from_json(CheckWish, reporter.job.request)
        take = Take.objects.select_related("run__session", "track__session__rig").get(uid=wish.take)
        session, plan = take.session, load_plan(take.session.rig)
        bars = {"first_bar": wish.first_bar, "last_bar": wish.last_bar}
        run = recording.record_now(session, plan, [take.track], **bars, fast=wish.fast)
        made = run.takes.select_related("run__session", "track__session__rig")
        heard = [one for one in made if one.return_uid == take.return_uid]
        # What was played to be looked at does not stand for anything.
        run.takes.update(kept=False)
        reporter.report(0.9)
        if run.job.state != Job.DONE or not heard:
            raise CannotSchedule(f"The bars could not be played: {run.job.message or 'nothing was recorded'}")
        Job.objects.filter(uid=job_uid).update(result=to_json(_held_against(take, heard[0])))


def _held_against(take: Take, heard: Take) -> Checked:
    if heard.silent:
        return Checked(False, "Nothing came home. Follow its trip on Instruments.", str(heard.uid))
    if heard.placement is None:
        return Checked(False, f"It sounds, and cannot be placed. {heard.unmeasured}", str(heard.uid))
    found = how_they_differ(TrackSound(take.track, [take, heard]), heard, take)
    return Checked(found.kind in (SAME, LEVEL), found.told, str(heard.uid))
