"""As which file does a sound leave the program, and at which rate?

Broadcast Wave (24-bit, or 32-bit float) or FLAC (24-bit), one or two channels, samples as floats, full scale ±1.0,
shape (frames, channels). A rate is changed by libsoxr at its highest quality; what stood at sample n then stands at
n · new rate / rate, rounded, and the file has as many frames as that makes of its length.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import BinaryIO

import numpy as np
import soundfile
import soxr

from hypotaxis.core.formats.wave import FLOAT32, INT24, Broadcast, Naming, stepped, write_wave

WAVE, WAVE_FLOAT, FLAC = FORMS = ("Broadcast Wave, 24 bit", "Broadcast Wave, float", "FLAC, 24 bit")
ENDINGS = {WAVE: ".wav", WAVE_FLOAT: ".wav", FLAC: ".flac"}
BYTES = {WAVE: 3.0, WAVE_FLOAT: 4.0, FLAC: 1.8}
"""Bytes a sample; FLAC's is what music takes on average (common practice)."""
_ENCODINGS = {WAVE: INT24, WAVE_FLOAT: FLOAT32}


@dataclass(frozen=True)
class Form:
    """A file on its way. frames: at its rate, of each of its channels."""

    kind: str
    rate: int
    channels: int
    frames: int


def at_rate(samples: int, rate: int, to_rate: int) -> int:
    """Where a sample stands, or how many there are, at another rate.

    >>> at_rate(48_000, 48_000, 44_100), at_rate(-24_000, 48_000, 96_000)
    (44100, -48000)
    """
    return round(samples * to_rate / rate)


def resampled(
    blocks: Iterable[np.ndarray], *, channels: int, rate: int, to_rate: int, frames: int
) -> Iterator[np.ndarray]:
    """Blocks at another rate, of `frames` in all; at the same rate as they are."""
    if rate == to_rate:
        yield from blocks
        return
    stream = soxr.ResampleStream(rate, to_rate, channels, dtype="float64", quality="VHQ")
    left = frames
    for block in blocks:
        made = stream.resample_chunk(np.ascontiguousarray(block, dtype=np.float64))[:left]
        left -= len(made)
        yield made
    rest = stream.resample_chunk(np.zeros((0, channels)), last=True)[:left]
    yield np.concatenate([rest, np.zeros((left - len(rest), channels))])


def write_sound(stream: BinaryIO, blocks: Iterable[np.ndarray], form: Form, *, bext: Broadcast, naming: Naming) -> None:
    """Write a complete file to what can be read and searched. Raises ValueError where not as many frames come as were
    announced. FLAC has no place for a time reference: it stands in its comment."""
    if form.kind != FLAC:
        how = {"rate": form.rate, "channels": form.channels, "frames": form.frames}
        write_wave(stream, blocks, **how, bext=bext, encoding=_ENCODINGS[form.kind], naming=naming)
        return
    written = 0
    with flac_file(stream, form.rate, form.channels) as target:
        target.title, target.album, target.software = naming.take, naming.project, bext.originator
        target.comment = f"{bext.description}; time reference {bext.time_reference} samples"
        for block in blocks:
            write_steps(target, stepped(block))
            written += len(block)
    if written != form.frames:
        raise ValueError(f"{written} frames were delivered, {form.frames} announced")


def flac_file(stream: BinaryIO, rate: int, channels: int) -> soundfile.SoundFile:
    """A FLAC of 24 bits on its way into what can be read and searched; to be closed."""
    return soundfile.SoundFile(stream, "w", rate, channels, "PCM_24", format="FLAC")


def write_steps(target: soundfile.SoundFile, steps: np.ndarray) -> None:
    """Write floats that are rounded to 24 bits already, exactly: as integers, since the library scales floats by a step
    less than full scale."""
    target.write((np.asarray(steps, dtype=np.float64) * 2.0**31).astype(np.int32))
