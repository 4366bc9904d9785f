"""Lateness of takes, and their placement."""

from dataclasses import asdict

import numpy as np

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.timing.lateness import measure
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import open_recording
from hypotaxis.records import audio
from hypotaxis.records.journal import Edit, change_rig
from hypotaxis.records.models import Instrument, Take
from hypotaxis.records.plan import notes_of, tempo_of

SAME_MS = 0.05
"""A new median nearer than this to the old one is no change worth a step of the journal."""


def note_positions(take: Take) -> tuple[np.ndarray, np.ndarray]:
    """(session samples (float) at which the notes of a take's pass begin that come home in it, their numbers)."""
    tempo = tempo_of(take.session)
    first, end = tempo.bar_tick(take.run.first_bar), tempo.bar_tick(take.run.last_bar + 1)
    notes = notes_of(take.track)
    notes = notes[(notes["tick"] >= first) & (notes["tick"] < end)]
    notes = notes[_by_this_way(take, notes["note"])]
    return tempo.samples_at(notes["tick"], take.sample_rate), notes["note"]


def shift_samples(take: Take) -> float:
    """By how many samples a take's notes were sent later than they are written (− earlier), for playing together."""
    part = next((one for one in take.run.setup["parts"] if one["track"] == str(take.track_id)), {})
    return part.get("shift_ms", 0.0) * take.sample_rate / 1000


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
        }
        numbers["hits"] = [[round(h.moment, 3), round(h.onset, 3), h.used] for h in answer.hits]
        # A half-width that is not known is stored as none.
        take.lateness = {k: None if isinstance(v, float) and not np.isfinite(v) else v for k, v in numbers.items()}
    take.save(update_fields=["lateness"])


def place(take: Take) -> None:
    """Let a measured take stand where its notes stand; its instrument learns the lateness.

    Raises NoAnswer when the take has no measured lateness.
    """
    if not take.lateness or "error" in take.lateness:
        reason = (take.lateness or {}).get("error", "It has not been measured yet.")
        raise NoAnswer(f"Take {take.number} cannot be placed. {reason}")
    take.placement = take.lateness["placement"]
    take.save(update_fields=["placement"])
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
    """Let a take that could not be measured stand by another one's lateness; where it was borrowed is kept with it."""
    late = lender.lateness["lateness_ms"] * take.sample_rate / 1000
    take.placement = -round(late + shift_samples(take))
    take.lateness = (take.lateness or {}) | {"borrowed": f"take {lender.number}, {lender.title}"}
    take.save(update_fields=["placement", "lateness"])


def unplace(take: Take) -> None:
    """Let a take stand where it arrived."""
    take.placement = None
    take.save(update_fields=["placement"])
