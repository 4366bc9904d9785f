"""The timing page's rows: each trip with its ribbon and needle, each recording of one's own, on one scale."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.utils import timezone

from hypotaxis.core.drawing.needles import Needle, Scale, needle, scale
from hypotaxis.core.drawing.ribbon import Ribbon, ribbon
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.timing.applied import SOUNDING, Found, KnownLateness
from hypotaxis.core.timing.budget import Budget, budget, loop_budget, measured_budget
from hypotaxis.core.timing.together import spread_ms
from hypotaxis.core.units import ms_to_samples, signed
from hypotaxis.records.lateness import Latenesses, counts, heard_together
from hypotaxis.records.models import Job, Sounding

MEASURED = ("sounding", "take", "predicted")


@dataclass(frozen=True)
class TripRow:
    """A trip as its row shows it."""

    uid: str
    title: str
    colour: str
    ways: str
    """Its way in a few words; state: measured, borrowed or expected."""
    budget: Budget
    ribbon: Ribbon
    needle: Needle | None
    known: KnownLateness
    late: str
    jitter: str
    hits: str
    shift: str
    told: str
    """Where its number comes from; stale: what has changed since."""
    expected: str
    loop: bool = False
    trouble: str = ""

    @property
    def stale(self) -> str:
        """What has changed since it was measured, in words."""
        return ", ".join(self.known.stale)


@dataclass(frozen=True)
class OwnRow:
    """A recording of one's own that belongs to no trip."""

    title: str
    sounding: Sounding
    needle: Needle | None
    late: str
    jitter: str
    hits: str
    shift: str
    differs: str
    """Ms against the one that is opened."""


def rows_of(
    plan: Plan,
    latenesses: Latenesses,
    own: list[Sounding],
    opened: Sounding | None,
    waits_ms: Mapping[str, float],
) -> tuple[list[TripRow], list[OwnRow], Scale]:
    """(trips, recordings of one's own, the scale that holds them all). waits_ms: what notes of an instrument (uid) wait
    for their wire in the session."""
    every, known = (*plan.instruments, *plan.loops), latenesses.known
    trips = [(one, _budget_of(plan, one, known[one.uid], waits_ms.get(one.uid, 0.0))) for one in every]
    latest = [row.ms for _, row in trips]
    latest += [one.lateness_ms for one in known.values() if one.lateness_ms is not None]
    latest += [row.measured.lateness_ms for row in own if row.measured]
    marks = scale(max(latest, default=20.0))
    newest = latenesses.newest
    rows = [_trip_row(plan, one, row, known[one.uid], newest.get(one.uid), marks.end_ms) for one, row in trips]
    return rows, [_own_row(row, marks.end_ms, opened) for row in own], marks


def _budget_of(plan: Plan, one: Instrument | Loop, known: KnownLateness, wait_ms: float) -> Budget:
    """What is expected, with the wait for the wire; or what was measured, which a sounding takes without a wait. What
    is stale says nothing of how the trip is made up now."""
    if known.lateness_ms is None or _outdated(known):
        return loop_budget(plan, one) if isinstance(one, Loop) else budget(plan, one, wait_ms=wait_ms)
    expected = loop_budget(plan, one) if isinstance(one, Loop) else budget(plan, one)
    return measured_budget(expected, known.lateness_ms, known.half_ms)


def _outdated(known: KnownLateness) -> bool:
    """Whether the number that stands was measured under other settings, and no model has brought it up to date."""
    return bool(known.stale) and known.source not in ("predicted", "typed")


def _trip_row(
    plan: Plan, one: Instrument | Loop, legs: Budget, known: KnownLateness, newest: Sounding | None, end_ms: float
) -> TripRow:
    loop = isinstance(one, Loop)
    expected = known.lateness_ms is None or _outdated(known)
    plain = known.source if known.source in ("borrowed", "predicted") else "measured"
    state = "expected" if expected else plain
    found, late = known.found, known.lateness_ms
    out = returns_text(plan.rig, one.sends) if loop else plan.rig.socket_text(one.send) if one.send else "no way out"
    return TripRow(
        uid=one.uid,
        title=one.name,
        colour=one.colour,
        ways=f"{out} to {returns_text(plan.rig, one.returns)}",
        budget=legs,
        ribbon=ribbon(legs, end_ms, state),
        needle=None if late is None else needle(late, found.jitter_ms if found else 0.0, end_ms),
        known=known,
        late=known.written,
        jitter=f"{found.jitter_ms:.2f}" if found and known.source != "typed" else "",
        hits=f"{found.used} of {found.looked_for}" if found and known.source in MEASURED else "",
        shift="" if late is None else signed(-ms_to_samples(late, plan.rig.sample_rate), 0),
        told=_told(known),
        expected=f"expected about {signed(legs.ms)} ±{legs.half_ms:.1f} ms" if late is None else "",
        loop=loop,
        trouble=_trouble(known, newest),
    )


def _trouble(known: KnownLateness, newest: Sounding | None) -> str:
    """Why the newest sounding says nothing; empty where it does, or something newer stands."""
    if newest is None or (known.found and known.found.made >= newest.made):
        return ""
    if newest.job.state == Job.FAILED:
        return f"The last sounding has no answer. {newest.job.message}"
    single = newest.asked.test == "hits"
    if newest.measured is None or not single or counts(newest):
        return ""
    return "The last sounding was not sure enough to count. Choose a sound with a sharp beginning, and sound it again."


def _told(known: KnownLateness) -> str:
    if known.source == "borrowed":
        return f"as {known.lender}"
    if known.source == "typed":
        return "typed"
    if known.source == "kept":
        return "kept with the rig"
    if known.source == "predicted":
        return "predicted"
    return _measured(known.found) if known.found else "not measured"


def _measured(found: Found) -> str:
    made = timezone.localtime(found.made)
    return f"{made.day} {made:%b %H:%M}" if found.kind == SOUNDING else found.name


def _own_row(row: Sounding, end_ms: float, opened: Sounding | None) -> OwnRow:
    found = row.measured
    if found is None:
        return OwnRow(row.name, row, None, "", "", "", "", "")
    differs = ""
    if opened is not None and opened.uid != row.uid and opened.measured:
        differs = signed(found.lateness_ms - opened.measured.lateness_ms, 2)
    return OwnRow(
        title=row.name,
        sounding=row,
        needle=needle(found.lateness_ms, found.jitter_ms, end_ms),
        late=signed(found.lateness_ms),
        jitter=f"{found.jitter_ms:.2f}",
        hits=f"{found.matched} of {found.looked_for}",
        shift=signed(-found.samples, 0),
        differs=differs,
    )


@dataclass(frozen=True)
class TogetherRow:
    """An instrument while all play together: what is added to its times, and when it is heard, from the beat."""

    title: str
    colour: str
    shift: str
    heard: str
    jitter: str
    needle: Needle


@dataclass(frozen=True)
class Together:
    """The rig's way of playing together, with the picture it gives. spread: from the first to the last heard."""

    mode: str
    rows: tuple[TogetherRow, ...]
    spread: str
    unknown: str


def together_of(plan: Plan, trips: Sequence[TripRow], end_ms: float) -> Together:
    """What instruments sound like together, on the scale of the page."""
    known = {row.uid: row for row in trips}
    heard = heard_together(plan, {row.uid: row.known for row in trips})
    rows = tuple(
        TogetherRow(
            title=known[one.uid].title,
            colour=known[one.uid].colour,
            shift=signed(one.shift_ms),
            heard=signed(one.sounds_ms),
            jitter=known[one.uid].jitter,
            needle=needle(one.sounds_ms, known[one.uid].known.jitter_ms or 0.0, end_ms),
        )
        for one in heard
    )
    unknown = [one.name for one in plan.instruments if one.uid not in {row.uid for row in heard}]
    return Together(plan.rig.together, rows, f"{spread_ms(heard):.1f}", ", ".join(unknown))
