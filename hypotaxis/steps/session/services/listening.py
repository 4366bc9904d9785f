"""A take and its notes' clicks as one file to hear."""

from pathlib import Path
from typing import BinaryIO

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
    file, frames = take.sound_file if placed else (take.file, take.frames)
    fit = f"-{take.fitted_ppm:g}" if file != take.file else ""
    moments = note_positions(take)[0] - (take.first_sample + shift)

    def write(stream: BinaryIO) -> None:
        with audio.take_blocks(file, frames) as blocks:
            mixed = with_clicks(blocks, moments, rate=take.sample_rate, gain=db_to_factor(take.home_trim_db))
            with soundfile.SoundFile(stream, "w", take.sample_rate, take.channels, "PCM_16", format="WAV") as target:
                for block in mixed:
                    target.write(block)

    return audio.made_once("glued", f"{take.uid}-{shift}-{take.home_trim_db:g}{fit}.wav", write, keep=KEPT)
