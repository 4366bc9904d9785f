"""A take's Broadcast Wave as FLAC, and back to the byte.

A take is 24-bit samples behind a head of HEAD_BYTES (`wave_head` without history and names). FLAC keeps the samples
exactly, the head travels beside it.
"""

from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from hypotaxis.core.apart import Told, run_apart
from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.sound import flac_file, write_steps
from hypotaxis.core.formats.wave import HEAD_BYTES, PackedSamples, packed24, wave_end

FRAMES_A_BLOCK = 65_536
MEMORY_BYTES, SECONDS = 2 * 2**30, 3600
_GAVE_UP = "{name} cannot be unpacked: reading it takes too long, or it holds more than it says. Take the archive anew."


def wave_bytes(channels: int, frames: int) -> int:
    """How large a take's file is."""
    return HEAD_BYTES + 3 * channels * frames + len(wave_end(channels=channels, frames=frames))


def pack_take(
    wave: Path, flac: Path, *, rate: int, channels: int, frames: int, tell: Told = lambda share: None
) -> bytes:
    """Write the samples of a take's file as FLAC; its head. tell: told the share done. Raises UnreadableFile for a file
    that is laid out otherwise, or holds less."""
    source = PackedSamples.of(wave, channels, rate)
    if source is None or wave.stat().st_size < wave_bytes(channels, frames):
        raise UnreadableFile(f"{wave.name} is no take of {channels} channel(s), {rate} Hz and {frames} samples.")
    with flac.open("w+b") as stream, flac_file(stream, rate, channels) as target:
        for first in range(0, frames, FRAMES_A_BLOCK):
            write_steps(target, source.read(first, min(frames, first + FRAMES_A_BLOCK)))
            tell(first / frames)
    with wave.open("rb") as stream:
        return stream.read(HEAD_BYTES)


def unpack_take(flac: Path, head: bytes, wave: Path, *, channels: int, frames: int, name: str) -> None:
    """Write a take's file out of FLAC and head, read in a process of its own. name: as it is spoken of. Raises
    UnreadableFile where that does not hold so many samples, or is no FLAC."""
    if len(head) != HEAD_BYTES:
        raise UnreadableFile(f"The head that belongs to {name} is damaged. Take the archive anew.")
    wave.write_bytes(head)
    wish = {"flac": str(flac), "wave": str(wave), "channels": channels, "frames": frames, "name": name}
    room = wave_bytes(channels, frames)
    run_apart(
        f"{__name__}:_unpack", wish, memory=MEMORY_BYTES, seconds=SECONDS, writes=room, refused=UnreadableFile,
        gave_up=_GAVE_UP.format(name=name),
    )  # fmt: skip


def _unpack(wish: dict[str, Any], tell: Told) -> int:
    """What the child does; how many samples there are."""
    channels, frames, name = wish["channels"], wish["frames"], wish["name"]
    try:
        with soundfile.SoundFile(wish["flac"]) as source, Path(wish["wave"]).open("ab") as target:
            if (source.format, source.subtype, source.channels, source.frames) != ("FLAC", "PCM_24", channels, frames):
                raise UnreadableFile(f"{name} is no FLAC of {channels} channel(s), 24 bits and {frames} samples.")
            there = 0
            for block in source.blocks(blocksize=FRAMES_A_BLOCK, dtype="float32", always_2d=True):
                target.write(packed24(np.ascontiguousarray(block)))
                there += len(block)
            target.write(wave_end(channels=channels, frames=frames))
    except (soundfile.LibsndfileError, OSError) as error:
        raise UnreadableFile(f"{name} cannot be unpacked: {error}. Take the archive anew.") from error
    if there != frames:
        raise UnreadableFile(f"{name} breaks off: {there} of {frames} samples are there. Take the archive anew.")
    return there
