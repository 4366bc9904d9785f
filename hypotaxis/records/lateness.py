"""What is known of each trip's lateness now: measured, stale, predicted, typed or borrowed.

The newest measurement of a trip counts, a sounding or a take. It is stale when something on its trip has changed since;
then, as far as soundings of other buffers and rates can tell, their model's prediction stands in for it. What is typed
stands until something else is chosen. A trip without its own borrows one of the same box and return, visibly.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime

from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.timing.buffers import BufferModel, Measured, fit_buffers
from hypotaxis.core.timing.context import changed, context_of, context_of_loop
from hypotaxis.core.timing.report import SURE_ENOUGH, half_of
from hypotaxis.core.timing.together import Heard, together
from hypotaxis.records.models import Job, Sounding, Take

FOLLOWED = ("rate", "buffer")
"""What a model over buffers can follow."""


@dataclass(frozen=True)
class Found:
    """One measurement. half_ms: half-width of its 95 % interval; used, missed: hits; name: as it is spoken of."""

    lateness_ms: float
    half_ms: float
    jitter_ms: float
    used: int
    looked_for: int
    name: str
    made: datetime
    context: Mapping[str, str]
    sounding: Sounding | None = None
    take: Take | None = None


@dataclass(frozen=True)
class KnownLateness:
    """What stands for one trip. source: typed, sounding, take, predicted, kept (with the rig, as in a copy, without the
    measurement behind it), borrowed or "" (nothing is known); found: the measurement it rests on; stale: what has
    changed since; lender: the instrument it is borrowed from."""

    uid: str
    lateness_ms: float | None = None
    half_ms: float = 0.0
    source: str = ""
    found: Found | None = None
    stale: tuple[str, ...] = ()
    model: BufferModel | None = None
    lender: str = ""
    soundings: tuple[Sounding, ...] = field(default=())

    @property
    def jitter_ms(self) -> float | None:
        return self.found.jitter_ms if self.found else None


def known_latenesses(plan: Plan) -> dict[str, KnownLateness]:
    """By the uid of each instrument (its first part and main return) and of each effect loop."""
    rows: dict[str, list[Sounding]] = {}
    kept = Sounding.objects.figures().filter(rig=plan.rig.uid, part_uid="", way_uid="").select_related("job")
    for row in kept:
        rows.setdefault(row.instrument_uid or row.loop_uid, []).append(row)
    takes = _newest_takes(plan)
    known = {one.uid: _known(plan, one, rows.get(one.uid, []), takes.get(one.uid)) for one in plan.instruments}
    known |= {one.uid: _known(plan, one, rows.get(one.uid, []), None) for one in plan.loops}
    return {uid: _borrowed(plan, known, one) for uid, one in known.items()}


def heard_together(plan: Plan, known: Mapping[str, KnownLateness]) -> tuple[Heard, ...]:
    """When each instrument whose lateness is known is sent and heard, as the rig is set to play together."""
    late = {one.uid: known[one.uid].lateness_ms for one in plan.instruments}
    return together({uid: ms for uid, ms in late.items() if ms is not None}, plan.rig.together)


def shifts_ms(plan: Plan) -> dict[str, float]:
    """By how much each instrument's notes are sent later (− earlier), as the rig is set to play together."""
    return {one.uid: round(one.shift_ms, 3) for one in heard_together(plan, known_latenesses(plan))}


def _known(plan: Plan, one: Instrument | Loop, rows: list[Sounding], take: Take | None) -> KnownLateness:
    now = context_of_loop(plan, one) if isinstance(one, Loop) else context_of(plan, one)
    measured = [_of_sounding(row) for row in rows if counts(row)]
    everything = [*measured, *([_of_take(take)] if take else [])]
    newest = max(everything, key=lambda found: found.made, default=None)
    model = _model(measured, now)
    state = KnownLateness(one.uid, found=newest, model=model, soundings=tuple(rows))
    if newest:
        stale = changed(newest.context, now)
        state = replace(state, stale=stale, lateness_ms=newest.lateness_ms, half_ms=newest.half_ms)
        state = replace(state, source="take" if newest.take else "sounding")
        told = model.predict(int(now["buffer"]), int(now["rate"])) if stale and model else None
        if told:
            state = replace(state, lateness_ms=told.value, half_ms=told.half, source="predicted")
    elif one.lateness_ms is not None:
        state = replace(state, lateness_ms=one.lateness_ms, source="kept")
    if one.lateness_from == "typed" and one.lateness_ms is not None:
        state = replace(state, lateness_ms=one.lateness_ms, half_ms=0.0, source="typed")
    return state


def counts(row: Sounding) -> bool:
    """Whether a sounding (with its figures) says how late its trip is: of single hits, and sure enough."""
    single = row.wish.get("test", "hits") == "hits"
    return single and row.late_ms is not None and row.confidence >= SURE_ENOUGH


def _model(measured: list[Found], now: Mapping[str, str]) -> BufferModel | None:
    """The model of those soundings of which only buffer and rate differ from now."""
    same = [
        found
        for found in measured
        if found.context and all(found.context.get(name) == now[name] for name in now if name not in FOLLOWED)
    ]
    points = [Measured(int(f.context["buffer"]), int(f.context["rate"]), f.lateness_ms, f.half_ms) for f in same]
    return fit_buffers(points) if points else None


def _borrowed(plan: Plan, known: dict[str, KnownLateness], state: KnownLateness) -> KnownLateness:
    """A trip without its own takes that of another instrument of the same box and return."""
    mine = plan.instrument(state.uid)
    if state.source or mine is None:
        return state
    for other in plan.instruments:
        theirs = known[other.uid]
        same = (other.box, other.returns) == (mine.box, mine.returns) and other.uid != mine.uid
        if same and theirs.source not in ("", "borrowed"):
            return replace(
                state,
                lateness_ms=theirs.lateness_ms,
                half_ms=theirs.half_ms,
                source="borrowed",
                found=theirs.found,
                stale=theirs.stale,
                lender=other.name,
            )
    return state


def _newest_takes(plan: Plan) -> dict[str, Take]:
    """The newest measured take of the main return of each instrument, by its uid."""
    every = Take.objects.measured().filter(instrument_uid__in=[one.uid for one in plan.instruments], way_uid="")
    newest: dict[str, str] = {}
    for instrument, uid in every.order_by("made").values_list("instrument_uid", "uid"):
        newest[instrument] = uid
    found = Take.objects.filter(uid__in=newest.values()).select_related("session", "run")
    return {take.instrument_uid: take for take in found}


def _of_sounding(row: Sounding) -> Found:
    return Found(
        lateness_ms=row.late_ms,
        half_ms=half_of(row.late_ci) if row.late_ci else 0.0,
        jitter_ms=row.jitter_ms,
        used=row.matched - row.set_aside,
        looked_for=row.matched + row.missed,
        name="sounding" if row.studio else row.recording_title,
        made=row.made,
        context=row.context,
        sounding=row,
    )


def _of_take(take: Take) -> Found:
    found = take.lateness
    return Found(
        lateness_ms=found["lateness_ms"],
        half_ms=found["lateness_half"] or 0.0,
        jitter_ms=found["jitter_ms"],
        used=found["used"],
        looked_for=found["used"] + found["set_aside"] + found["missed"],
        name=f"take {take.number} of {take.session.name}",
        made=take.made,
        context=take.part.get("context", {}),
        take=take,
    )


def unfinished(plan: Plan) -> list[Sounding]:
    """Soundings of a rig that wait or run, in their order."""
    found = Sounding.objects.filter(rig=plan.rig.uid, job__state__in=Job.UNFINISHED)
    return list(found.select_related("job").order_by("made"))
