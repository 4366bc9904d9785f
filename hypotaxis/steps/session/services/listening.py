"""A take and its notes' clicks as one file to hear."""

from pathlib import Path

import soundfile

from hypotaxis.core.session.glue import with_clicks
from hypotaxis.core.units import db_to_factor
from hypotaxis.records import audio
from hypotaxis.records.models import Take
from hypotaxis.steps.session.services.placing import note_positions

KEPT = 24


def glued(take: Take, *, placed: bool) -> Path:
    """A file with the clicks of the notes and the take, placed or as it arrived; made when first asked for."""
    shift = (take.placement or 0) if placed else 0
    file = take.standing[0] if placed else take.file
    fit = f"-{take.fitted_ppm:g}" if file != take.file else ""
    path = audio.folder("glued") / f"{take.uid}-{shift}-{take.home_trim_db:g}{fit}.wav"
    if path.exists():
        return path
    audio.forget_old("glued", "*.wav", KEPT)
    moments = note_positions(take)[0] - (take.first_sample + shift)
    made = path.with_suffix(".part")
    with soundfile.SoundFile(audio.take_path(file)) as source:
        blocks = source.blocks(blocksize=audio.FRAMES_A_BLOCK, dtype="float32", always_2d=True)
        mixed = with_clicks(blocks, moments, rate=take.sample_rate, gain=db_to_factor(take.home_trim_db))
        with soundfile.SoundFile(made, "w", take.sample_rate, take.channels, "PCM_16", format="WAV") as target:
            for block in mixed:
                target.write(block)
    made.replace(path)
    return path
