"""What a take holds that it should not, and what other track that is likeliest to be."""

from dataclasses import replace

import numpy as np

from hypotaxis.core.errors import NoAnswer, SoundLost
from hypotaxis.core.timing.belief import many_extra, many_missed
from hypotaxis.core.timing.doubt import Doubt, of_measurement, sound_unwritten
from hypotaxis.core.timing.lateness import FEWEST_HITS, Listened
from hypotaxis.core.timing.levels import Levels, kept_levels_of, levels_of
from hypotaxis.core.timing.measurement import Measurement
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import Recording, open_recording
from hypotaxis.records import audio
from hypotaxis.records.models import Take, Track
from hypotaxis.records.plan import load_plan, notes_in_bars, notes_of

APART_S = 0.03
"""Two moments of different tracks that are nearer than this are not told apart."""
LIKE_IT = 0.6
"""Share of another track's moments that must have a hit for it to be the likeliest cause."""
MOST_TRIED = 6


def doubts_of(take: Take, found: Measurement | None) -> list[Doubt]:
    """Why a take is doubtful, with the likeliest cause. found: what was measured of it; None where it
    follows its notes too little for that."""
    doubts = [Doubt(one) for one in of_measurement(found)] if found else []
    foreign = found is None or many_extra(found.matched, found.extra) or many_missed(found.matched, found.missed)
    try:
        with audio.told_when_lost(take.file):
            recording = open_recording(audio.take_path(take.file))
            levels = kept_levels_of(recording, audio.levels_path(take.file))
            levels = levels or levels_of(recording, range(recording.channels))
            begins = _sound_begins(take, levels, found.lateness_ms) if found else None
            cause = _played_by(take, recording, levels) if foreign or begins is not None else ""
    except SoundLost:
        return []
    if begins is not None:
        doubts.append(Doubt(f"From bar {begins} on it sounds where none of its notes is written."))
    if found is None and cause:
        doubts.append(Doubt("It does not follow its own notes."))
    # Said once, behind all that it explains.
    doubts = [*doubts[:-1], replace(doubts[-1], cause=cause)] if doubts else []
    return doubts + [Doubt(one) for one in _answered_too(take)]


def _answered_too(take: Take) -> list[str]:
    """What the inputs say that moved with the notes of its pass though nothing was asked of them."""
    mine = str(take.track_id)
    watched = [one for one in take.run.frozen.watched if one.input in take.run.moved]
    return [one.told for one in watched if not one.tracks or mine in one.tracks]


def _sound_begins(take: Take, levels: Levels, lateness_ms: float) -> int | None:
    """The bar from which sound is in it that no note of its track accounts for."""
    tempo = take.run.tempo_map
    notes = notes_of(take.track)
    late = lateness_ms * take.sample_rate / 1000 - take.first_sample
    spans = np.stack(
        [
            tempo.samples_at(notes["tick"], take.sample_rate) + late,
            tempo.samples_at(notes["tick"] + notes["duration"], take.sample_rate) + late,
        ],
        axis=1,
    )
    first = tempo.bar_tick(take.bars[0])
    beat = float(tempo.samples_at(first + tempo.ticks_per_quarter, take.sample_rate)) - float(
        tempo.samples_at(first, take.sample_rate)
    )
    at = sound_unwritten(levels, take.sample_rate, spans, beat)
    if at is None:
        return None
    return tempo.position(max(0, tempo.tick_at_us((at + take.first_sample) * 1e6 / take.sample_rate))).bar


def _played_by(take: Take, recording: Recording, levels: Levels) -> str:
    """Which other track of the session plays what is in it, in a sentence; "" where none does."""
    tempo, rate = take.run.tempo_map, take.sample_rate

    def moments(track: Track) -> np.ndarray:
        ticks = np.unique(notes_in_bars(track, *take.bars)["tick"])
        return tempo.samples_at(ticks, rate) - take.first_sample

    mine = moments(take.track)
    plan = load_plan(take.session.rig)
    best, likeliest = LIKE_IT, ""
    try:
        listened = Listened(recording, levels=levels)
    except NoAnswer:
        return ""
    for track in take.session.tracks.exclude(uid=take.track_id)[:MOST_TRIED]:
        theirs = moments(track)
        if len(mine):
            near = np.abs(theirs[:, None] - mine[None, :]).min(axis=1) if len(theirs) else theirs
            theirs = theirs[near > APART_S * rate]
        if len(theirs) < FEWEST_HITS:
            continue
        try:
            found = listened.measure(distinct_moments(theirs, rate), explain=False)
        except NoAnswer:
            continue
        share = found.matched / max(found.matched + found.missed, 1)
        if share > best:
            instrument = plan.instrument(track.instrument_uid)
            on = f" on channel {instrument.seat(track.part_uid).channel}" if instrument else ""
            best, likeliest = share, f"This is what {track.name}{on} plays."
    return likeliest
