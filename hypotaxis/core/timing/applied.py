"""Which lateness is applied to a trip? The one place that decides.

The newest measurement of a trip counts, a sounding or a take. It is stale when something on its trip has changed since;
then, as far as soundings of other buffers and rates can tell, their model's prediction stands in for it. What is typed
stands until it is emptied; what came with the rig (from a copy or a file) stands while nothing is measured here. A trip
without its own borrows one of the same box and return, visibly. Lateness in ms, + late.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from hypotaxis.core.plan import TYPED, Instrument, Loop, Plan
from hypotaxis.core.timing.buffers import BufferModel, Measured, fit_buffers
from hypotaxis.core.timing.context import changed, context_of, context_of_loop
from hypotaxis.core.units import signed

SOUNDING, TAKE = "sounding", "take"
PREDICTED, CARRIED, BORROWED, UNKNOWN = "predicted", "kept", "borrowed", ""
OWN = (SOUNDING, TAKE, PREDICTED, TYPED, CARRIED)
"""Sources of a trip that needs no other's."""
FOLLOWED = ("rate", "buffer")
"""What a model over buffers can follow."""


@dataclass(frozen=True)
class Found:
    """One measurement that says how late a trip is."""

    kind: str
    """SOUNDING or TAKE."""
    uid: str
    lateness_ms: float
    half_ms: float
    """Half-width of its 95 % interval."""
    jitter_ms: float
    used: int
    """Hits that the number rests on."""
    looked_for: int
    name: str
    """As it is spoken of."""
    made: datetime
    context: Mapping[str, str] = field(default_factory=dict)
    """What it depends on (context.context_of), as it was then."""


@dataclass(frozen=True)
class KnownLateness:
    """What stands for one trip."""

    uid: str
    """Of its instrument or effect loop."""
    lateness_ms: float | None = None
    half_ms: float = 0.0
    source: str = UNKNOWN
    """SOUNDING, TAKE, PREDICTED, TYPED, CARRIED, BORROWED or UNKNOWN."""
    found: Found | None = None
    """The measurement it rests on."""
    stale: tuple[str, ...] = ()
    """What has changed since that."""
    model: BufferModel | None = None
    lender: str = ""
    """Name of the instrument it is borrowed from."""

    @property
    def jitter_ms(self) -> float | None:
        return self.found.jitter_ms if self.found else None

    @property
    def written(self) -> str:
        """The lateness in ms with its sign; "" where nothing is known."""
        return "" if self.lateness_ms is None else signed(self.lateness_ms)

    @property
    def told(self) -> str:
        """What is to be said beside the number; "" where it was measured as the trip is now."""
        if self.source in (SOUNDING, TAKE):
            return "stale" if self.stale else ""
        return f"{self.source}, stale" if self.source == BORROWED and self.stale else self.source

    @property
    def own(self) -> bool:
        """Whether something is known of the trip itself."""
        return self.source in OWN


def applied(plan: Plan, measured: Mapping[str, Sequence[Found]]) -> dict[str, KnownLateness]:
    """What stands for each trip of a plan, by the uid of its instrument (first part, main return) or effect loop.
    measured: what was found of them, by the same uids."""
    every = (*plan.instruments, *plan.loops)
    known = {one.uid: _known(plan, one, measured.get(one.uid, ())) for one in every}
    return {uid: _borrowed(plan, known, one) for uid, one in known.items()}


def carrying(plan: Plan, known: Mapping[str, KnownLateness]) -> Plan:
    """The plan with what is known of its trips given with it, for a copy or a file: there the measurements are not."""

    def given(one):
        state = known.get(one.uid)
        if state is None or not state.own or state.source == TYPED:
            return one
        source = state.found.kind if state.found else one.given_from
        return replace(one, given_ms=round(state.lateness_ms, 3), given_from=source)

    return replace(plan, instruments=tuple(map(given, plan.instruments)), loops=tuple(map(given, plan.loops)))


def _known(plan: Plan, one: Instrument | Loop, measured: Sequence[Found]) -> KnownLateness:
    newest = max(measured, key=lambda found: found.made, default=None)
    state = KnownLateness(one.uid, found=newest)
    if newest:
        now = context_of_loop(plan, one) if isinstance(one, Loop) else context_of(plan, one)
        model = _model([found for found in measured if found.kind == SOUNDING], now)
        state = replace(state, model=model)
        stale = changed(newest.context, now)
        state = replace(state, stale=stale, lateness_ms=newest.lateness_ms, half_ms=newest.half_ms, source=newest.kind)
        told = model.predict(int(now["buffer"]), int(now["rate"])) if stale and model else None
        if told:
            state = replace(state, lateness_ms=told.value, half_ms=told.half, source=PREDICTED)
    elif one.given_ms is not None:
        state = replace(state, lateness_ms=one.given_ms, source=CARRIED)
    if one.given_from == TYPED and one.given_ms is not None:
        state = replace(state, lateness_ms=one.given_ms, half_ms=0.0, source=TYPED)
    return state


def _model(measured: Sequence[Found], now: Mapping[str, str]) -> BufferModel | None:
    """The model of those soundings of which only buffer and rate differ from now."""
    same = [
        found
        for found in measured
        if found.context and all(found.context.get(name) == now[name] for name in now if name not in FOLLOWED)
    ]
    points = [Measured(int(f.context["buffer"]), int(f.context["rate"]), f.lateness_ms, f.half_ms) for f in same]
    return fit_buffers(points) if points else None


def _borrowed(plan: Plan, known: Mapping[str, KnownLateness], state: KnownLateness) -> KnownLateness:
    """A trip without its own takes that of another instrument of the same box and return."""
    mine = plan.instrument(state.uid)
    if state.own or mine is None:
        return state
    for other in plan.instruments_of(mine.box):
        theirs = known[other.uid]
        same = other.returns == mine.returns and other.uid != mine.uid
        if same and theirs.own:
            return replace(
                state,
                lateness_ms=theirs.lateness_ms,
                half_ms=theirs.half_ms,
                source=BORROWED,
                found=theirs.found,
                stale=theirs.stale,
                lender=other.name,
            )
    return state
