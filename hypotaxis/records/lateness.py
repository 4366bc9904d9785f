"""What is known of each trip's lateness now: the measurements that are kept, as core.timing.applied asks for them."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from functools import cached_property

from django.db.models import Q

from hypotaxis.core.plan import Plan
from hypotaxis.core.sync.following import clocked
from hypotaxis.core.timing.applied import SOUNDING, TAKE, Found, KnownLateness, applied
from hypotaxis.core.timing.report import SURE_ENOUGH
from hypotaxis.core.timing.together import Heard, together
from hypotaxis.records.models import Job, Proof, Sounding, Take
from hypotaxis.records.stamps import kept_while, kept_with, rows_while


class Latenesses:
    """The latenesses of a plan, worked out when they are first asked for."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan

    @cached_property
    def newest(self) -> dict[str, Sounding]:
        """The newest sounding of the main trip of each instrument and effect loop (uid)."""
        rig = self.plan.rig.uid
        return rows_while(("soundings", "work"), ("newest soundings", rig), lambda: _newest(rig))

    @cached_property
    def known(self) -> dict[str, KnownLateness]:
        """What stands, by the uid of each instrument (its first part and main return) and effect loop."""
        return kept_with(self.plan, ("soundings", "takes"), _known)


def _newest(rig: str) -> dict[str, Sounding]:
    main = Sounding.objects.filter(rig=rig, part_uid="", return_uid="").order_by("made")
    newest = {one or loop: uid for one, loop, uid in main.values_list("instrument_uid", "loop_uid", "uid")}
    rows = Sounding.objects.figures().filter(uid__in=newest.values()).select_related("job")
    return {row.instrument_uid or row.loop_uid: row for row in rows}


def soundings_of(plan: Plan, uid: str) -> list[Sounding]:
    """Of the main trip of an instrument or effect loop, the newest first."""

    def look() -> list[Sounding]:
        mine = Sounding.objects.figures().filter(Q(instrument_uid=uid) | Q(loop_uid=uid), rig=plan.rig.uid)
        return list(mine.filter(part_uid="", return_uid="").select_related("job"))

    return rows_while(("soundings", "work"), ("soundings of", plan.rig.uid, uid), look)


def _known(plan: Plan) -> dict[str, KnownLateness]:
    rig, uids = plan.rig.uid, tuple(one.uid for one in plan.instruments)
    sounded = kept_while(("soundings",), ("sounded", rig), lambda: _sounded(rig))
    taken = kept_while(("takes",), ("taken", uids), lambda: _taken(uids))
    return applied(plan, {uid: [*sounded.get(uid, ()), *taken.get(uid, ())] for uid in {*sounded, *taken}})


def _sounded(rig: str) -> dict[str, list[Found]]:
    """What soundings say of the main trip of each instrument and effect loop (uid)."""
    found: dict[str, list[Found]] = defaultdict(list)
    for row in Sounding.objects.figures().filter(rig=rig, part_uid="", return_uid=""):
        if counts(row):
            found[row.instrument_uid or row.loop_uid].append(_of_sounding(row))
    return dict(found)


def _taken(instruments: Sequence[str]) -> dict[str, list[Found]]:
    """What the newest measured take of the main return of each of these instruments says."""
    every = Take.objects.measured().filter(instrument_uid__in=instruments, return_uid="").order_by("made")
    newest = dict(every.values_list("instrument_uid", "uid"))
    rows = Take.objects.filter(uid__in=newest.values()).figures().select_related("session", "run")
    return {row.instrument_uid: [_of_take(row)] for row in rows}


def known_latenesses(plan: Plan) -> dict[str, KnownLateness]:
    """By the uid of each instrument (its first part and main return) and of each effect loop."""
    return Latenesses(plan).known


def heard_together(plan: Plan, known: Mapping[str, KnownLateness]) -> tuple[Heard, ...]:
    """When each instrument whose lateness is known is sent and heard, as the rig is set to play together."""
    return together(_numbers(plan, known), plan.rig.together)


def known_ms(plan: Plan) -> dict[str, float]:
    """The lateness of each instrument of which one is known, in ms by its uid."""
    return _numbers(plan, known_latenesses(plan))


def clock_ms(plan: Plan) -> dict[str, float]:
    """How late boxes step by their clock, by the uid of the port it comes from: the newest proof of a box on it,
    otherwise the newest clock sounding."""
    boxes = {one.uid: one.box for one in plan.instruments}
    heard = clocked(plan)
    found: dict[str, float] = {}
    for proof in Proof.objects.filter(rig=plan.rig.uid, result__isnull=False):
        found.setdefault(proof.port, proof.proved.lateness_ms)
    for row in Sounding.objects.figures().filter(rig=plan.rig.uid, instrument_uid__in=boxes).select_related("job"):
        measured = row.measured
        if row.asked.test == "clock" and measured is not None and measured.confidence >= SURE_ENOUGH:
            for way in heard.get(boxes[row.instrument_uid], ())[:1]:
                found.setdefault(way.port, measured.lateness_ms)
    return found


def _numbers(plan: Plan, known: Mapping[str, KnownLateness]) -> dict[str, float]:
    late = {one.uid: known[one.uid].lateness_ms for one in plan.instruments}
    return {uid: ms for uid, ms in late.items() if ms is not None}


def counts(row: Sounding) -> bool:
    """Whether a sounding says how late its trip is: of single hits, and sure enough."""
    measured = row.measured
    single = row.asked.test == "hits"
    return single and measured is not None and measured.confidence >= SURE_ENOUGH


def _of_sounding(row: Sounding) -> Found:
    name = "sounding" if row.studio else row.recording_title
    return _found(SOUNDING, row, name, row.context)


def _of_take(take: Take) -> Found:
    name = f"take {take.number} of {take.session.name}"
    return _found(TAKE, take, name, take.part.context if take.part else {})


def _found(kind: str, row: Sounding | Take, name: str, context: Mapping[str, str]) -> Found:
    measured = row.measured
    return Found(
        kind=kind,
        uid=str(row.uid),
        lateness_ms=measured.lateness_ms,
        half_ms=measured.lateness_half or 0.0,
        jitter_ms=measured.jitter_ms,
        used=measured.used,
        looked_for=measured.looked_for,
        name=name,
        made=row.made,
        context=context,
    )


def unfinished(plan: Plan) -> list[Sounding]:
    """Soundings of a rig that wait or run, in their order."""
    rows = Sounding.objects.filter(rig=plan.rig.uid, job__state__in=Job.UNFINISHED).select_related("job")
    return rows_while(("soundings", "work"), ("unfinished", plan.rig.uid), lambda: list(rows.order_by("made")))
