"""Lateness of takes, and their placement."""

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from uuid import UUID

import numpy as np

from hypotaxis.core.errors import NoAnswer, SoundLost
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.gaps import clear_of
from hypotaxis.core.timing.against import Difference, compare
from hypotaxis.core.timing.aligning import anchor_samples, fitted
from hypotaxis.core.timing.hearing import Heard, ToHear, hear_each
from hypotaxis.core.timing.lateness import Listened
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import open_recording
from hypotaxis.core.timing.report import SURE_ENOUGH
from hypotaxis.core.units import signed
from hypotaxis.records import audio
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import NO_NOTES, Pass, Session, Take
from hypotaxis.records.plan import notes_in_bars
from hypotaxis.steps.session.services.doubting import doubts_of

MOST_BORROWED = 200
NOT_MEASURED = "What an effect makes of a sound has no first edges to measure: it stands by the lateness of its loop."
FIT = ("fitted", "fitted_frames", "fitted_ppm")
PLACED_BY_ITSELF = 0.3
"""Confidence from which a take is placed without being asked for: what only swells is told with less."""


def note_positions(take: Take) -> tuple[np.ndarray, np.ndarray]:
    """(session samples (float) at which the notes of a take's pass begin that come home in it, their numbers)."""
    notes = _notes_of(take)
    return take.run.tempo_map.samples_at(notes["tick"], take.sample_rate), notes["note"]


def beat_positions(take: Take) -> tuple[np.ndarray, np.ndarray]:
    """The same of the click that was recorded beside a pass."""
    tempo, (first, last) = take.run.tempo_map, take.bars
    bars = range(first, last + 1)
    ticks = [np.linspace(*map(tempo.bar_tick, (bar, bar + 1)), tempo.beats_in_bar(bar), endpoint=False) for bar in bars]
    found = tempo.samples_at(np.concatenate(ticks), take.sample_rate)
    return found, np.zeros(len(found), dtype=int)


def reference_take(run: Pass) -> Take | None:
    """The click that was recorded beside a pass, measured surely enough to place others by."""
    beside = [take for take in run.takes.kept().filter(beside=True) if take.is_reference]
    return next((take for take in beside if is_sure_enough(take)), None)


def place_by_click(take: Take, click: Take) -> None:
    """Let a take without notes stand where the click that was recorded beside it stands on its beats: as its player
    heard them."""
    _stand(take, _placed_by(take, click.measured.lateness_ms), f"take {click.number}, the click beside it")


def _notes_of(take: Take) -> np.ndarray:
    """The notes of a take's pass that come home in it."""
    notes = notes_in_bars(take.track, *take.bars)
    if led := take.run.led_run:
        # What left late, since the start key was not known before, says nothing of the trip.
        notes = notes[notes["tick"] > led.late_tick]
    return notes[take.part.notes_by(take.return_uid, notes["note"])] if take.part else notes


def shift_samples(take: Take) -> float:
    """By how many samples a take's notes were sent later than they are written (− earlier), for playing together."""
    return take.part.shift_ms * take.sample_rate / 1000 if take.part else 0.0


def measure_each(takes: Sequence[Take], tell: Callable[[float], None]) -> Iterator[Take]:
    """Measure takes against their notes and store the answers, or the reasons why there are none; each in its turn is
    yielded then. tell: told the share done; what it raises ends it, and no more is stored."""
    asked = {take.uid: _to_hear(take) for take in takes}
    answers = hear_each([one for one in asked.values() if isinstance(one, ToHear)], tell)
    for take in takes:
        one = asked[take.uid]
        if isinstance(one, ToHear):
            _store(take, next(answers))
        else:
            take.unmeasured = one
            take.save(update_fields=["unmeasured"])
        yield take
    answers.close()


def _to_hear(take: Take) -> ToHear | str:
    """What a take is measured by, or why it is not."""
    if take.part and take.part.sends:
        return NOT_MEASURED
    positions, notes = beat_positions(take) if take.is_reference else note_positions(take)
    if not len(positions):
        return NO_NOTES
    arrive = positions + shift_samples(take) - take.first_sample
    # Nothing is measured across a gap: silence stands there, and its end is an edge that nobody played.
    clear = clear_of(take.gaps, arrive, take.sample_rate)
    moments = distinct_moments(arrive[clear], take.sample_rate, notes[clear])
    return ToHear(audio.take_path(take.file), take.frames, moments, audio.levels_path(take.file))


def _store(take: Take, answer: Callable[[], Heard]) -> None:
    try:
        with audio.told_when_lost(take.file):
            heard = answer()
    except SoundLost as error:
        heard = Heard(refusal=str(error))
    measured = heard.measurement
    take.measurement, take.hits = (to_json(measured) if measured else None), to_json(heard.hits)
    take.unmeasured = heard.refusal
    # Of a click no notes are written.
    asked = heard.wrong_score or (measured is not None and not take.is_reference)
    take.doubts, take.accepted = to_json(doubts_of(take, measured) if asked else []), False
    take.save(update_fields=["measurement", "hits", "unmeasured", "doubts", "accepted"])
    audio.forget_levels(take.file)


def is_sure_enough(take: Take) -> bool:
    """Whether a take's own measurement may place it by itself; a less sure one is left for the person."""
    measured = take.measured
    return measured is not None and measured.confidence >= PLACED_BY_ITSELF


def own_placement(take: Take) -> int | None:
    """The shift in samples by which a take stands by its own lateness; None where that is not known."""
    measured = take.measured
    return None if measured is None else _placed_by(take, measured.lateness_ms)


def _placed_by(take: Take, lateness_ms: float) -> int:
    """The shift in samples by which a take stands where its trip is so late."""
    return -round(lateness_ms * take.sample_rate / 1000 + shift_samples(take))


def place(take: Take) -> None:
    """Let a measured take stand where its notes stand. Raises NoAnswer when the take has no measured lateness."""
    own = own_placement(take)
    if own is None:
        reason = take.unmeasured or "It has not been measured yet."
        raise NoAnswer(f"Take {take.number} cannot be placed. {reason}")
    if take.doubts and not take.accepted:
        # Placed by hand: the person takes it as it is.
        take.accepted = True
        take.save(update_fields=["accepted"])
    _stand(take, own)


def lender_of(take: Take) -> Take | None:
    """The take whose lateness one without its own may borrow; None when there is none."""
    return lenders_of(take.session, [take]).get(take.uid)


def lenders_of(session: Session, takes: Sequence[Take]) -> dict[UUID, Take]:
    """Whose lateness each of these takes (uid) of a session may borrow: the newest measured one of the same instrument,
    of its main return first, otherwise of the same return; no key where there is none."""
    if not takes:
        return {}
    columns = "instrument_uid", "return_uid", "returns_text", "sample_rate", "number"
    own, home = defaultdict(list), defaultdict(list)
    for uid, instrument, return_uid, text, rate, number in session.takes.measured().values_list("uid", *columns):
        own[instrument].append((return_uid, -number, uid))
        home[text, rate].append(("", -number, uid))
    for offered in (*own.values(), *home.values()):
        offered.sort()
    lent = {}
    for take in takes:
        offered = (*own[take.instrument_uid], *home[take.returns_text, take.sample_rate])
        if lender := next((uid for *_, uid in offered if uid != take.uid), None):
            lent[take.uid] = lender
    rows = Take.objects.select_related("track", "session").in_bulk(set(lent.values()))
    return {uid: rows[lender] for uid, lender in lent.items()}


def place_like(take: Take, lender: Take) -> None:
    """Let a take that could not be measured stand by another one's lateness; where it was borrowed is kept with it.

    Where both hold notes of one track that compare, what they differ by is added (see timing.against); where they don't
    the other's lateness is taken as it is.
    """
    late = lender.measured.lateness_ms
    borrowed = f"take {lender.number}, {lender.title}"
    found = difference_of(take, lender)
    if found is not None:
        late += found.difference_ms
        half = (found.high_ms - found.low_ms) / 2
        borrowed += f", and {signed(found.difference_ms, 2)} ms (±{half:.2f}) by comparing {len(found.hits)} notes"
    _stand(take, _placed_by(take, late), borrowed)


def difference_of(take: Take, other: Take) -> Difference | None:
    """By how much a take is later than another one of its track and return, against the same notes; None where they do
    not compare, or not surely enough to build on."""
    if (take.track_id, take.return_uid) != (other.track_id, other.return_uid):
        return None
    mine, theirs = _moments_ms(take), _moments_ms(other)
    both = sorted(mine.keys() & theirs.keys())
    try:
        found = compare(
            _listened(take),
            _listened(other),
            np.array([mine[tick] for tick in both]),
            np.array([theirs[tick] for tick in both]),
        )
    except (NoAnswer, SoundLost):
        return None
    return found if found.confidence >= SURE_ENOUGH else None


def _listened(take: Take) -> Listened:
    with audio.told_when_lost(take.file):
        return Listened(open_recording(audio.take_path(take.file)))


def _moments_ms(take: Take) -> dict[int, float]:
    """The distinct moments of a take's notes by their tick, in ms from its file's first sample."""
    ticks = np.unique(_notes_of(take)["tick"])
    at = take.run.tempo_map.samples_at(ticks, take.sample_rate) + shift_samples(take) - take.first_sample
    return {int(tick): float(sample) * 1000 / take.sample_rate for tick, sample in zip(ticks, at, strict=True)}


def place_fitted(take: Take) -> None:
    """Let a take stand with its drift taken out by resampling, so that one placement is right from end to end; the
    sound as it arrived stays. Raises NoAnswer when no drift is known."""
    measured = take.measured
    if measured is None or not take.hits:
        raise NoAnswer(f"Take {take.number} has no known drift, so its rate cannot be corrected.")
    rate, drift = take.sample_rate, measured.drift_ppm
    with audio.take_blocks(take.file, take.frames) as blocks:
        pieces = list(fitted(blocks, rate=rate, channels=take.channels, drift_ppm=drift))
    frames = sum(len(piece) for piece in pieces)
    take.fitted = audio.keep_take(
        iter(pieces), rate=rate, channels=take.channels, frames=frames, first_sample=take.first_sample
    )
    first, *_ = take.hits[0]
    late = anchor_samples(moment=first, late_samples=measured.start_ms * rate / 1000, drift_ppm=drift)
    take.fitted_frames, take.fitted_ppm = frames, round(drift, 3)
    take.placement = -round(late + shift_samples(take))
    take.save(update_fields=["placement", *FIT])


def place_by_instrument(take: Take, plan: Plan) -> None:
    """Let a take stand by what is known of its instrument's lateness: a sounding's, a typed or predicted one.

    Raises NoAnswer when nothing is known.
    """
    known = known_latenesses(plan).get(take.instrument_uid) if not take.return_uid else None
    if known is None or known.lateness_ms is None:
        raise NoAnswer(f"No lateness is known for {take.instrument_name}. Take a sounding on the Timing step.")
    _stand(take, _placed_by(take, known.lateness_ms), f"{take.instrument_name}, {known.source}")


def _stand(take: Take, placement: int, borrowed: str = "") -> None:
    """Let a take stand there as it arrived, with its own rate; borrowed: whose lateness it is."""
    take.placement, take.borrowed = placement, borrowed[:MOST_BORROWED]
    take.fitted, take.fitted_frames, take.fitted_ppm = "", 0, 0.0
    take.save(update_fields=["placement", "borrowed", *FIT])


def unplace(take: Take) -> None:
    """Let a take stand where it arrived."""
    take.placement = None
    take.save(update_fields=["placement"])
