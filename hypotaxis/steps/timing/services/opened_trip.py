"""A trip opened: its legs, its soundings side by side, the model over buffers, what a player hears, what to type."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from hypotaxis.core.plan import Plan
from hypotaxis.core.timing.applied import KnownLateness
from hypotaxis.core.timing.budget import Leg, monitored
from hypotaxis.core.timing.buffers import BufferModel, in_words
from hypotaxis.core.timing.context import changed
from hypotaxis.core.timing.repeated import Repeated, compare
from hypotaxis.core.timing.report import SURE_ENOUGH
from hypotaxis.core.timing.wish import TESTS, Group, Slope, groups_of, per_note
from hypotaxis.core.units import signed
from hypotaxis.records.asked import LISTED
from hypotaxis.records.lateness import counts, soundings_of
from hypotaxis.records.models import Patch, Sounding
from hypotaxis.steps.timing.services.rows import TripRow
from hypotaxis.steps.timing.services.to_type import ToType, to_type

OTHER_BUFFERS, OTHER_RATES = (64, 128, 256, 512, 1024), (44_100, 48_000, 88_200, 96_000)
ORIGINS = {
    "standard": "by the standard",
    "setting": "setting",
    "typed": "typed on the box",
    "usual": "usual",
    "measured": "left by the measurement",
    "reported": "reported by the studio",
    "computed": "computed for the session",
}


@dataclass(frozen=True)
class LegLine:
    """A leg of the budget as its line shows it."""

    leg: Leg
    ms: str
    half: str
    origin: str


@dataclass(frozen=True)
class SoundingLine:
    """A sounding as its line shows it."""

    row: Sounding
    test: str
    setting: str
    patch: str
    late: str
    jitter: str
    differs: str
    """Ms against the one that is looked at."""
    stale: str
    """What differs from now."""


@dataclass(frozen=True)
class Predicted:
    """Lateness expected at another buffer or rate. now: it is the rig's."""

    setting: str
    late: str
    half: str
    now: bool


@dataclass(frozen=True)
class OpenedTrip:
    """Everything an opened trip shows besides the sounding itself. older: how many soundings are not listed; heard:
    what a player hears, in a sentence."""

    legs: tuple[LegLine, ...]
    soundings: tuple[SoundingLine, ...]
    older: int
    repeated: Repeated | None
    model_told: str
    predicted: tuple[Predicted, ...]
    heard: str
    to_type: tuple[ToType, ...]
    typed_of: str
    """What the numbers to type hold for, in a sentence."""
    jitter_told: str


def opened_trip(
    plan: Plan, row: TripRow, now: Mapping[str, str], chosen: Sounding | None, *, every: bool = False
) -> OpenedTrip:
    """now: what the trip's lateness depends on as it is; chosen: the sounding that is looked at; every: all soundings
    are told one by one, not only the newest and the chosen one."""
    known = row.known
    rate = plan.rig.sample_rate
    late = known.lateness_ms
    main = soundings_of(plan, row.uid)
    all_of_them = [*main, *_of_parts(row.uid)]
    listed = [one for place, one in enumerate(all_of_them) if every or place < LISTED or one == chosen]
    patches = {str(patch.uid): patch.name for patch in Patch.objects.filter(uid__in=filter(None, map(_patch, listed)))}
    return OpenedTrip(
        legs=tuple(_leg_line(leg) for leg in row.budget.legs),
        soundings=tuple(_sounding_line(one, now, chosen, patches) for one in listed),
        older=len(all_of_them) - len(listed),
        repeated=_repeated(main, now),
        model_told=in_words(known.model) if known.model else "",
        predicted=_predicted(known.model, plan.rig.buffer, rate),
        heard=_heard(plan, row),
        to_type=() if late is None else to_type(late, rate),
        typed_of=_typed_of(plan, row),
        jitter_told=_jitter_told(known),
    )


def _typed_of(plan: Plan, row: TripRow) -> str:
    """Where the number comes from, how sure it is, and for which settings it holds."""
    known = row.known
    if known.lateness_ms is None:
        return ""
    doubt = f", ±{known.half_ms:.2f} ms" if known.half_ms else ""
    said = f"measured {row.told}" if known.source in ("sounding", "take") else row.told
    told = f"{said[:1].upper()}{said[1:]}{doubt}; for {plan.rig.buffer} samples at {plan.rig.sample_rate} Hz."
    if not row.stale:
        return told
    predicted = known.source == "predicted"
    stands = "what the model predicts stands for it until" if predicted else "it may not be true until"
    return f"{told} Changed since: {row.stale}; {stands} it is sounded again."


def _of_parts(uid: str) -> Iterable[Sounding]:
    """Soundings of an instrument's further parts and ways home."""
    found = Sounding.objects.figures().filter(instrument_uid=uid).exclude(part_uid="", return_uid="")
    return found.select_related("job")


def _leg_line(leg: Leg) -> LegLine:
    return LegLine(leg, f"{leg.ms:.2f}", f"±{leg.half_ms:.2f}" if leg.half_ms else "", ORIGINS[leg.origin])


def _patch(row: Sounding) -> str:
    """Uid of the patch that was sounded, "" where none was named."""
    return row.asked.patch or row.context.get("patch") or ""


def _sounding_line(
    row: Sounding, now: Mapping[str, str], chosen: Sounding | None, patches: Mapping[str, str]
) -> SoundingLine:
    differs = ""
    found = row.measured
    if found and chosen is not None and chosen.uid != row.uid and chosen.measured:
        differs = signed(found.lateness_ms - chosen.measured.lateness_ms, 2)
    return SoundingLine(
        row=row,
        test=_what(row),
        setting=f"{row.context.get('buffer', '?')} at {row.context.get('rate', '?')} Hz",
        patch=patches.get(_patch(row), ""),
        late=signed(found.lateness_ms, 2) if found else "",
        jitter=f"{found.jitter_ms:.2f}" if found else "",
        differs=differs,
        stale="" if row.part_uid or row.return_uid else ", ".join(changed(row.context, now)),
    )


def _what(row: Sounding) -> str:
    """What was sounded: the recording of one's own, the test, the part or way home."""
    if not row.studio:
        return row.recording_title
    named = row.name.partition(", ")[2] if row.part_uid or row.return_uid else ""
    return ", ".join(one for one in (named, TESTS[row.asked.test]) if one)


def _repeated(soundings: Sequence[Sounding], now: Mapping[str, str]) -> Repeated | None:
    same = [row for row in reversed(soundings) if counts(row) and not changed(row.context, now)]
    return compare([(row.measured.lateness_ms, row.measured.lateness_half or 0.0) for row in same])


def _predicted(model: BufferModel | None, buffer: int, rate: int) -> tuple[Predicted, ...]:
    """What the model tells at the rig's rate, and with its buffer at other rates; nothing while it tells only the
    setting that was measured."""
    if model is None or model.settings < 2:
        return ()
    asked = [(f"{size} samples", size, rate) for size in sorted({*OTHER_BUFFERS, buffer})]
    asked += [(f"{other} Hz", buffer, other) for other in OTHER_RATES if other != rate]
    rows = ((name, size, hertz, model.predict(size, hertz)) for name, size, hertz in asked)
    return tuple(
        Predicted(name, signed(told.value, 2), f"±{told.half:.2f}", (size, hertz) == (buffer, rate))
        for name, size, hertz, told in rows
        if told
    )


def _heard(plan: Plan, row: TripRow) -> str:
    if row.loop:
        return ""
    host, direct = monitored(plan, row.budget)
    return (
        f"A player hears a key {host.ms:.1f} ms later through the host, as if {host.metres:.1f} m away, and "
        f"{direct.ms:.1f} ms later by the interface's direct monitoring ({direct.metres:.1f} m)."
    )


def _jitter_told(known: KnownLateness) -> str:
    if known.jitter_ms is None:
        return ""
    return f"What a placement cannot take away: single hits scatter by {known.jitter_ms:.2f} ms around it."


@dataclass(frozen=True)
class Dependence:
    """What a test besides single hits says. groups: (value, hits, lateness, half-width); told: a sentence."""

    head: str
    groups: tuple[tuple[str, int, str, str], ...]
    told: str


def dependence(plan: Plan, row: Sounding, known: Mapping[str, KnownLateness]) -> Dependence | None:
    """What a test of chords, velocities or clock says; None for other soundings. known: the latenesses of the plan."""
    wish = row.asked
    found = row.measured
    if found is None or wish.test == "hits":
        return None
    doubt = "" if found.confidence >= SURE_ENOUGH else " It is not sure enough to rely on."
    if wish.test == "clock":
        return Dependence("", (), _clock_told(row, known.get(row.instrument_uid)) + doubt)
    groups = groups_of(wish, row.hits, found.sample_rate)
    lines = tuple((str(one.value), one.hits, signed(one.lateness_ms, 2), f"±{one.half_ms:.2f}") for one in groups)
    if wish.test == "velocity":
        return Dependence("velocity", lines, _velocity_told(groups) + doubt)
    instrument = plan.instrument(row.instrument_uid)
    sent = plan.rig.find(instrument.seat(row.part_uid).send) if instrument else None
    by_wire = sent is not None and not sent[1].carried_by
    slope = per_note(wish, row.hits, found.sample_rate, by_wire=by_wire)
    return Dependence("notes before it", lines, _chord_told(slope) + doubt if slope else "")


def _clock_told(row: Sounding, known: KnownLateness | None) -> str:
    """What the clock drives, against the clock and against notes that are played."""
    late = row.measured.lateness_ms
    told = f"Driven by clock it comes home {signed(late, 2)} ms from the clock's sixteenths"
    if known is None or known.lateness_ms is None:
        return f"{told}; that is its own number, not that of played notes."
    return f"{told}, {signed(late - known.lateness_ms, 2)} ms against notes that are played; each has its own number."


def _velocity_told(groups: tuple[Group, ...]) -> str:
    soft, loud = groups[0], groups[-1]
    differs = soft.lateness_ms - loud.lateness_ms
    half = (soft.half_ms**2 + loud.half_ms**2) ** 0.5
    if abs(differs) <= half:
        return f"Soft and loud notes come equally late (±{half:.2f} ms)."
    word = "later" if differs > 0 else "earlier"
    return f"Notes at velocity {soft.value} come {abs(differs):.2f} ±{half:.2f} ms {word} than at {loud.value}."


def _chord_told(slope: Slope) -> str:
    told = f"Each simultaneous note before it costs {signed(slope.ms, 2)} ±{slope.half_ms:.2f} ms"
    if slope.wire_ms:
        told += f", {slope.wire_ms:.2f} ms of it on the wire, {signed(slope.box_ms, 2)} ms in the box"
    return f"{told}."
