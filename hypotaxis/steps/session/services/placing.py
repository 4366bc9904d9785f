"""Lateness of takes, and their placement."""

from dataclasses import asdict

import numpy as np
import soundfile

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.plan import Plan
from hypotaxis.core.timing.against import Difference, compare
from hypotaxis.core.timing.aligning import anchor_samples, fitted
from hypotaxis.core.timing.lateness import Listened, measure
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import open_recording
from hypotaxis.core.timing.report import SURE_ENOUGH
from hypotaxis.core.units import signed
from hypotaxis.records import audio
from hypotaxis.records.journal import Edit, change_rig
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import Instrument, Take
from hypotaxis.records.plan import notes_of, tempo_of

FIT = ("fitted", "fitted_frames", "fitted_ppm")
PLACED_BY_ITSELF = 0.3
"""Confidence from which a take is placed without being asked for: what only swells is told with less."""
SAME_MS = 0.05
"""A new median nearer than this to the old one is no change worth a step of the journal."""


def note_positions(take: Take) -> tuple[np.ndarray, np.ndarray]:
    """(session samples (float) at which the notes of a take's pass begin that come home in it, their numbers)."""
    notes = _notes_of(take)
    return tempo_of(take.session).samples_at(notes["tick"], take.sample_rate), notes["note"]


def _notes_of(take: Take) -> np.ndarray:
    """The notes of a take's pass that come home in it."""
    tempo = tempo_of(take.session)
    first, end = tempo.bar_tick(take.run.first_bar), tempo.bar_tick(take.run.last_bar + 1)
    notes = notes_of(take.track)
    notes = notes[(notes["tick"] >= first) & (notes["tick"] < end)]
    return notes[_by_this_way(take, notes["note"])]


def shift_samples(take: Take) -> float:
    """By how many samples a take's notes were sent later than they are written (− earlier), for playing together."""
    return take.part.get("shift_ms", 0.0) * take.sample_rate / 1000


def _by_this_way(take: Take, notes: np.ndarray) -> np.ndarray:
    """Which notes sound in a take: those of the voices that come home by its return, where the instrument says so."""
    row = Instrument.objects.filter(uid=take.instrument_uid).first()
    homes = {voice["note"]: voice["home"] for voice in row.voices} if row else {}
    mine = np.array([homes.get(int(note), "") == take.way_uid for note in notes], dtype=bool)
    # A return that no voice names may carry anything.
    return mine if take.way_uid in homes.values() or not take.way_uid else np.ones(len(notes), dtype=bool)


def measure_take(take: Take) -> None:
    """Measure a take against its notes and store the answer, or the reason why there is none."""
    positions, notes = note_positions(take)
    shift = shift_samples(take)
    moments = distinct_moments(positions + shift - take.first_sample, take.sample_rate, notes)
    try:
        answer = measure(open_recording(audio.take_path(take.file)), moments)
    except NoAnswer as error:
        take.lateness = {"error": str(error)}
    else:
        numbers = {name: value for name, value in asdict(answer).items() if name != "hits"}
        numbers |= {
            "used": answer.used,
            "set_aside": answer.set_aside,
            "placement": -round(answer.samples + shift),
            "lateness_half": answer.lateness_half,
        }
        numbers["hits"] = [[round(h.moment, 3), round(h.onset, 3), h.used] for h in answer.hits]
        # A half-width that is not known is stored as none.
        take.lateness = {k: None if isinstance(v, float) and not np.isfinite(v) else v for k, v in numbers.items()}
    take.save(update_fields=["lateness"])


def is_sure_enough(take: Take) -> bool:
    """Whether a take's own measurement may place it by itself; a less sure one is left for the person."""
    found = take.lateness or {}
    return "error" not in found and found.get("confidence", 0.0) >= PLACED_BY_ITSELF


def place(take: Take) -> None:
    """Let a measured take stand where its notes stand; its instrument learns the lateness.

    Raises NoAnswer when the take has no measured lateness.
    """
    if not take.lateness or "error" in take.lateness:
        reason = (take.lateness or {}).get("error", "It has not been measured yet.")
        raise NoAnswer(f"Take {take.number} cannot be placed. {reason}")
    take.placement = take.lateness["placement"]
    take.lateness.pop("borrowed", None)
    _forget_fit(take)
    take.save(update_fields=["placement", "lateness", *FIT])
    instrument = Instrument.objects.filter(uid=take.instrument_uid).first()
    measured = round(take.lateness["lateness_ms"], 3)
    if instrument and not take.way_uid and abs((instrument.lateness_ms or 0.0) - measured) > SAME_MS:
        edit = Edit("instrument", str(instrument.uid), {"lateness_ms": measured, "lateness_from": "take"})
        change_rig(instrument.rig, f"lateness of {instrument.name}", [edit])


def lender_of(take: Take) -> Take | None:
    """The newest measured take whose lateness one without its own may borrow: of the same instrument, otherwise of the
    same return; None when there is none."""
    measured = take.session.takes.measured().exclude(uid=take.uid)
    own = measured.filter(instrument_uid=take.instrument_uid).order_by("way_uid", "-number").first()
    return own or measured.filter(returns_text=take.returns_text, sample_rate=take.sample_rate).first()


def place_like(take: Take, lender: Take) -> None:
    """Let a take that could not be measured stand by another one's lateness; where it was borrowed is kept with it.

    Where both hold notes of one track that compare, what they differ by is added (see timing.against); where they don't
    the other's lateness is taken as it is.
    """
    late = lender.lateness["lateness_ms"]
    borrowed = f"take {lender.number}, {lender.title}"
    found = difference_of(take, lender)
    if found is not None:
        late += found.difference_ms
        half = (found.high_ms - found.low_ms) / 2
        borrowed += f", and {signed(found.difference_ms, 2)} ms (±{half:.2f}) by comparing {len(found.hits)} notes"
    take.placement = -round(late * take.sample_rate / 1000 + shift_samples(take))
    _forget_fit(take)
    take.lateness = (take.lateness or {}) | {"borrowed": borrowed}
    take.save(update_fields=["placement", "lateness", *FIT])


def difference_of(take: Take, other: Take) -> Difference | None:
    """By how much a take is later than another one of its track and return, against the same notes; None where they do
    not compare, or not surely enough to build on."""
    if (take.track_id, take.way_uid) != (other.track_id, other.way_uid):
        return None
    mine, theirs = _moments_ms(take), _moments_ms(other)
    both = sorted(mine.keys() & theirs.keys())
    try:
        found = compare(
            Listened(open_recording(audio.take_path(take.file))),
            Listened(open_recording(audio.take_path(other.file))),
            np.array([mine[tick] for tick in both]),
            np.array([theirs[tick] for tick in both]),
        )
    except NoAnswer:
        return None
    return found if found.confidence >= SURE_ENOUGH else None


def _moments_ms(take: Take) -> dict[int, float]:
    """The distinct moments of a take's notes by their tick, in ms from its file's first sample."""
    ticks = np.unique(_notes_of(take)["tick"])
    at = tempo_of(take.session).samples_at(ticks, take.sample_rate) + shift_samples(take) - take.first_sample
    return {int(tick): float(sample) * 1000 / take.sample_rate for tick, sample in zip(ticks, at, strict=True)}


def place_fitted(take: Take) -> None:
    """Let a take stand with its drift taken out by resampling, so that one placement is right from end to end; the
    sound as it arrived stays. Raises NoAnswer when no drift is known."""
    found = take.lateness or {}
    if not found.get("hits") or found.get("drift_ppm") is None:
        raise NoAnswer(f"Take {take.number} has no known drift, so its rate cannot be corrected.")
    rate, drift = take.sample_rate, found["drift_ppm"]
    with soundfile.SoundFile(audio.take_path(take.file)) as source:
        blocks = source.blocks(blocksize=audio.FRAMES_A_BLOCK, dtype="float32", always_2d=True)
        pieces = list(fitted(blocks, rate=rate, channels=take.channels, drift_ppm=drift))
    frames = sum(len(piece) for piece in pieces)
    take.fitted = audio.keep_take(
        iter(pieces), rate=rate, channels=take.channels, frames=frames, first_sample=take.first_sample
    )
    late = anchor_samples(moment=found["hits"][0][0], late_samples=found["start_ms"] * rate / 1000, drift_ppm=drift)
    take.fitted_frames, take.fitted_ppm = frames, round(drift, 3)
    take.placement = -round(late + shift_samples(take))
    take.save(update_fields=["placement", *FIT])


def place_by_instrument(take: Take, plan: Plan) -> None:
    """Let a take stand by what is known of its instrument's lateness: a sounding's, a typed or predicted one.

    Raises NoAnswer when nothing is known.
    """
    known = known_latenesses(plan).get(take.instrument_uid) if not take.way_uid else None
    if known is None or known.lateness_ms is None:
        raise NoAnswer(f"No lateness is known of {take.instrument_name}. Take a sounding on the Timing step.")
    take.placement = -round(known.lateness_ms * take.sample_rate / 1000 + shift_samples(take))
    take.lateness = (take.lateness or {}) | {"borrowed": f"{take.instrument_name}, {known.source}"}
    _forget_fit(take)
    take.save(update_fields=["placement", "lateness", *FIT])


def _forget_fit(take: Take) -> None:
    take.fitted, take.fitted_frames, take.fitted_ppm = "", 0, 0.0


def unplace(take: Take) -> None:
    """Let a take stand where it arrived."""
    take.placement = None
    take.save(update_fields=["placement"])
