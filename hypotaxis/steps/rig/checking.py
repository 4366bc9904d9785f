"""The line check as work: lines played by the worker, what was heard kept line by line, verdicts asked of the core."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from uuid import UUID

from django.db import transaction

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.linecheck.checked import Checked, CheckedLine, OmniHeard
from hypotaxis.core.linecheck.hearing import LineHeard
from hypotaxis.core.linecheck.lines import SLOT_S, Line, lines_of, probes_of, slots_of, slots_on
from hypotaxis.core.linecheck.panel import omni_asked, omni_found
from hypotaxis.core.linecheck.playing import ask_identity, play
from hypotaxis.core.linecheck.verdicts import AS_PLANNED, FROM_OUTSIDE, SILENT, Verdict, verdicts
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import return_sockets
from hypotaxis.core.studio import Studio
from hypotaxis.records.jobs import Reporter, ask, ask_to_cancel, newest, running, under_way, work
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.line_checks import KIND
from hypotaxis.records.models import Job, Pass, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import studio_for

KEPT = 12
"""How many checks of a rig are kept, the newest."""
MOST_PROBED = 6
"""Silent lines that are looked for on other channels."""


@dataclass(frozen=True)
class Wish:
    """What is checked. only: keys of lines, () = all."""

    only: tuple[str, ...] = ()
    fast: bool = False


class LineCheck:
    """The newest check of a rig beside its plan."""

    def __init__(self, rig: Rig, plan: Plan) -> None:
        self.rig, self.plan = rig, plan

    @cached_property
    def lines(self) -> tuple[Line, ...]:
        known = known_latenesses(self.plan)
        late = {uid: one.lateness_ms for uid, one in known.items() if one.lateness_ms is not None}
        return _lines(self.plan, tuple(late.items()))

    @cached_property
    def job(self) -> Job | None:
        return newest(KIND, str(self.rig.uid))

    @cached_property
    def checked(self) -> Checked:
        return from_json(Checked, self.job.result) if self.job and self.job.result else Checked()

    @cached_property
    def heard(self) -> Mapping[str, CheckedLine]:
        """What was heard, by the keys of lines."""
        return {one.key: one for one in self.checked.lines}

    @property
    def running(self) -> bool:
        return bool(self.job and not self.job.finished)

    @cached_property
    def sounds(self) -> str:
        """Key of the line whose note leaves now, "" = none."""
        return self.checked.now if self.running else ""

    @cached_property
    def verdicts(self) -> dict[str, Verdict]:
        """By the keys of lines; of those that were not heard none."""
        return {one.line.key: one for one in _verdicts(self.plan, self.lines, self.checked.lines, self.good)}

    @cached_property
    def good(self) -> Mapping[str, CheckedLine]:
        """What each line's last good check heard, before this one."""
        older = Job.objects.filter(kind=KIND, about=str(self.rig.uid), state=Job.DONE).order_by("-made")
        older = older.exclude(uid=self.job.uid) if self.job else older
        return _good_of(tuple(older.values_list("uid", flat=True)))

    @property
    def differing(self) -> list[str]:
        """Keys of the lines that are not as planned."""
        return [key for key, one in self.verdicts.items() if not one.fine]


@kept_with_it
def _lines(plan: Plan, late_ms: tuple[tuple[str, float], ...]) -> tuple[Line, ...]:
    return lines_of(plan, dict(late_ms))


@lru_cache(maxsize=2)
def _good_of(checks: tuple[UUID, ...]) -> Mapping[str, CheckedLine]:
    """What the newest of these checks that found a line as planned heard of it; ended ones do not change."""
    found: dict[str, CheckedLine] = {}
    rows = Job.objects.in_bulk(checks)
    for job in (rows[uid] for uid in checks if uid in rows):
        for one in from_json(Checked, job.result).lines if job.result else ():
            if one.kind == AS_PLANNED:
                found.setdefault(one.key, one)
    return found


def _verdicts(
    plan: Plan, lines: Sequence[Line], checked: Sequence[CheckedLine], good: Mapping[str, CheckedLine]
) -> tuple[Verdict, ...]:
    rows = {one.key: one for one in checked}
    heard = {line: rows[line.key].heard for line in lines if line.key in rows}
    answers = {one.key: one.answers_on for one in checked if one.answers_on}
    before, away = {key: one.heard for key, one in good.items()}, {one.key: one.away for one in checked}
    replied = {one.key: one.replied for one in checked if one.replied is not None}
    told = {one.key: one.told for one in checked}
    return verdicts(plan, heard, answers_on=answers, good=before, away=away, replied=replied, told=told)


def start(rig: Rig, plan: Plan, wish: Wish, *, token: str = "") -> Job:
    """Let the worker check lines; a check that runs goes on instead. Raises CannotSchedule."""
    if runs := under_way(KIND, str(rig.uid)):
        return runs
    if not _wanted(lines_of(plan), wish):
        raise CannotSchedule("No line can be checked: define an instrument with a way out and a way home first.")
    if Pass.objects.filter(session__rig=rig, job__state__in=Job.UNFINISHED).exists():
        raise CannotSchedule("A pass is still running. Stop it, or wait until it is done.")
    old = Job.objects.filter(kind=KIND, about=str(rig.uid)).exclude(state__in=Job.UNFINISHED).order_by("-made")[KEPT:]
    Job.objects.filter(uid__in=[one.uid for one in old]).delete()
    return ask(KIND, about=str(rig.uid), request=to_json(wish), token=token)


def stop(rig: Rig) -> None:
    """What was heard so far is kept."""
    if job := under_way(KIND, str(rig.uid)):
        ask_to_cancel(str(job.uid))


@transaction.atomic
def answer(rig: Rig, key: str, question: str, yes: bool | None) -> None:
    """Keep what the person answered of a line in the newest check; yes None: all of that line is forgotten."""
    job = newest(KIND, str(rig.uid))
    if job is None or not job.finished or not job.result:
        return
    found = from_json(Checked, job.result)
    rows = [
        replace(one, told={} if yes is None else {**one.told, question: yes}) if one.key == key else one
        for one in found.lines
    ]
    Job.objects.filter(uid=job.uid).update(result=to_json(replace(found, lines=tuple(rows))))


def _wanted(lines: Sequence[Line], wish: Wish) -> list[Line]:
    return [line for line in lines if not wish.only or line.key in wish.only]


@work(KIND)
def check_lines(job_uid: str) -> None:
    """The task: play each line, look for silent ones on other channels."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        rig = Rig.objects.get(uid=reporter.job.about)
        plan, wish = load_plan(rig), from_json(Wish, reporter.job.request)
        before = Job.objects.filter(kind=KIND, about=str(rig.uid)).exclude(uid=job_uid).order_by("-made").first()
        kept = from_json(Checked, before.result) if wish.only and before and before.result else Checked()
        check = LineCheck(rig, plan)
        with studio_for(plan) as studio:
            _Run(check, studio, wish, reporter, kept).go()


class _Run:
    def __init__(self, check: LineCheck, studio: Studio, wish: Wish, reporter: Reporter, kept: Checked) -> None:
        """kept: of the check before, where only some lines are heard again."""
        self.check, self.studio, self.wish, self.reporter = check, studio, wish, reporter
        self.rows = {one.key: one for one in kept.lines}
        self.omni = {one.box: one for one in kept.omni}
        there = set(studio.inputs())
        sockets = [socket for _, socket in return_sockets(check.plan.rig)]
        self.inputs = [(one.uid, one.system_name) for one in sockets if one.system_name in there]
        there |= {one.system_name for one in studio.ports() if one.direction == "out"} | set(studio.outputs())
        self.there, self.names = there, {one.uid: one.system_name or one.name for one in sockets}

    def go(self) -> None:
        lines = self._there(_wanted(self.check.lines, self.wish))
        if not lines:
            self._judge()
            return
        self.reporter.whole_s = slots_of(lines)[-1].ends_s
        self._hear(lines, 0.0, 0.7)
        # What was silent may have slept: the first note wakes it.
        doubted = FROM_OUTSIDE | {SILENT}
        at_first = {one.line.key: one for one in self._said() if one.kind in doubted and one.line in lines}
        self._hear([line for line in lines if line.key in at_first], 0.7, 0.8)
        for one in self._said():
            before = at_first.get(one.line.key)
            if before and before.kind != one.kind:
                self.rows[one.line.key] = replace(self.rows[one.line.key], first=before.told)
        silent = [line for line in lines if not line.is_effect and not self.rows[line.key].heard.moved]
        self._keep("", probing=bool(silent))
        probes = probes_of(silent[:MOST_PROBED])
        for slot, heard in self._played(probes):
            if heard and set(heard.moved) & set(slot.line.inputs) and not self.rows[slot.line.key].answers_on:
                self.rows[slot.line.key] = replace(self.rows[slot.line.key], answers_on=slot.channel)
            self.reporter.tell(0.8 + 0.1 * slot.begins_s / probes[-1].ends_s)
        self._ask_who(silent)
        self._ask_omni(lines)
        self._judge()

    def _ask_who(self, silent: Sequence[Line]) -> None:
        """Ask boxes that did not sound and have told before who they are."""
        boxes = {line: self.check.plan.rig.box(line.box) for line in silent}
        known = [line for line in silent if boxes[line] and boxes[line].identity]
        ports = list(dict.fromkeys(line.port for line in known))
        answers = ask_identity(self.studio, ports, fast=self.wish.fast and self.studio.hurries)
        for line in known:
            replied = boxes[line].identity in answers[line.port]
            self.rows[line.key] = replace(self.rows[line.key], replied=replied)

    def _ask_omni(self, lines: Sequence[Line]) -> None:
        """A note on each port on a channel that is nobody's: who answers listens to more than its own."""
        asked, day = omni_asked(self.check.plan, lines), self.reporter.job.made.isoformat()
        for slot, heard in self._played(slots_on(asked)):
            answered = omni_found(self.check.plan, lines, slot.line, slot.channel, heard.moved) if heard else {}
            self.omni |= {box: OmniHeard(box, on, slot.channel, day) for box, on in answered.items()}
            self.reporter.tell(0.9 + 0.1 * slot.begins_s / max(1.0, SLOT_S * len(asked)))

    def _hear(self, lines: Sequence[Line], begins: float, ends: float) -> None:
        """Play lines one after the other; begins, ends: shares of the whole work."""
        slots, day, now = slots_of(lines), self.reporter.job.made.isoformat(), ""
        for slot, heard in self._played(slots):
            if heard:
                self.rows[slot.line.key] = CheckedLine(slot.line.key, heard, day=day)
            if heard or slot.line.key != now:
                now = slot.line.key
                self._keep(now)
            self.reporter.tell(begins + (ends - begins) * slot.begins_s / slots[-1].ends_s)

    def _there(self, lines: Sequence[Line]) -> list[Line]:
        """Those that can be played; of the others is kept what is not there."""
        day = self.reporter.job.made.isoformat()
        for line in lines:
            needs = [line.port] if line.port else list(line.outputs)
            needs += [self.names.get(uid, "an input") for uid in line.inputs]
            if away := tuple(name for name in needs if name not in self.there):
                self.rows[line.key] = CheckedLine(line.key, LineHeard(()), day=day, away=away)
        return [line for line in lines if not self.rows.get(line.key) or not self.rows[line.key].away]

    def _played(self, slots):
        return play(self.studio, slots, self.inputs, fast=self.wish.fast and self.studio.hurries)

    def _said(self) -> tuple[Verdict, ...]:
        return _verdicts(self.check.plan, self.check.lines, tuple(self.rows.values()), self.check.good)

    def _judge(self) -> None:
        """Keep with each line what it was told to be."""
        said = {one.line.key: one.kind for one in self._said()}
        self.rows = {key: replace(row, kind=said.get(key, row.kind)) for key, row in self.rows.items()}
        self._keep("")

    def _keep(self, now: str, *, probing: bool = False) -> None:
        found = Checked(tuple(self.rows.values()), now, probing, tuple(self.omni.values()))
        Job.objects.filter(uid=self.reporter.job.uid).update(result=to_json(found))
