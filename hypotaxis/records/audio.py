"""Where audio is kept: files under the data folder, named by their content, complete before they are there.

While a pass runs its inputs grow as raw float32 frames in partial/; what was written before a crash is found there.
"""

import hashlib
import os
import tempfile
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import BinaryIO

import numpy as np
from django.conf import settings

from hypotaxis.core.drawing.peaks import peaks_of
from hypotaxis.core.formats.wave import Broadcast, write_wave
from hypotaxis.core.timing.recording import read_window

FRAMES_A_BLOCK = 65536


def folder(name: str) -> Path:
    """A folder of the audio store, made when it is first asked for."""
    path = settings.AUDIO / name
    path.mkdir(parents=True, exist_ok=True)
    return path


def write_whole(name: str, ending: str, write: Callable[[BinaryIO], object]) -> Path:
    """A new file of our own naming in a folder, complete and on the disk before it is there; none if `write` fails."""
    handle, part = tempfile.mkstemp(dir=folder(name), suffix=f"{ending}.part")
    made = Path(part)
    try:
        with os.fdopen(handle, "wb") as stream:
            write(stream)
            stream.flush()
            os.fsync(stream.fileno())
        return made.replace(made.with_suffix(""))
    finally:
        made.unlink(missing_ok=True)


def forget_old(name: str, pattern: str, keep: int) -> None:
    """Of what can be made again in a folder, keep the newest files only."""
    files = sorted(folder(name).glob(pattern), key=lambda path: path.stat().st_mtime)
    for path in files[: max(0, len(files) - keep)]:
        path.unlink(missing_ok=True)


def partial_path(run_uid: str) -> Path:
    """Where the frames of a running pass grow."""
    return folder("partial") / f"{run_uid}.f32"


def take_path(file: str) -> Path:
    """A take's file."""
    return folder("takes") / file


def keep_take(blocks: Iterator[np.ndarray], *, rate: int, channels: int, frames: int, first_sample: int) -> str:
    """Write a take as 24-bit WAV; the name of its file. The same sound twice is kept once."""
    bext = Broadcast(
        description=f"Take as it arrived, first frame at session sample {first_sample}",
        recorded=datetime.now(),
        time_reference=max(0, first_sample),
    )

    def write(stream: BinaryIO) -> None:
        write_wave(stream, blocks, rate=rate, channels=channels, frames=frames, bext=bext)

    made = write_whole("takes", ".wav", write)
    with made.open("rb") as stream:
        digest = hashlib.file_digest(stream, "sha256").hexdigest()[:40]
    return made.replace(take_path(f"{digest}.wav")).name


def partial_blocks(path: Path, columns: list[int], width: int, frames: int) -> Iterator[np.ndarray]:
    """Blocks of some columns of a partial file that is `width` inputs wide."""
    with path.open("rb") as stream:
        left = frames
        while left > 0:
            count = min(left, FRAMES_A_BLOCK)
            block = np.frombuffer(stream.read(count * width * 4), dtype="<f4").reshape(-1, width)
            left -= len(block)
            yield block[:, columns]


def read_frames(file: str, first: int, last: int) -> np.ndarray:
    """Frames first to last of a take, shape (frames, channels); silence where they reach outside the file."""
    return read_window(take_path(file), first, last)


def peaks(file: str) -> np.ndarray:
    """The overview of a take, made once and kept beside it."""
    path = folder("peaks") / f"{file}.npy"
    if not path.exists():
        made = path.with_suffix(f".{os.getpid()}.part.npy")
        np.save(made, peaks_of(take_path(file)))
        made.replace(path)
    return np.load(path)
