"""Where audio is kept: files under the data folder, named by their content, complete before they are there.

While a pass runs its inputs grow as raw float32 frames in partial/; what was written before a crash is found there.
"""

import hashlib
import json
import os
import shutil
import tempfile
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from io import RawIOBase
from pathlib import Path
from typing import BinaryIO

import numpy as np
import soundfile
from cattrs.errors import BaseValidationError
from django.conf import settings

from hypotaxis.core.drawing.peaks import Peaks, peaks_of
from hypotaxis.core.errors import DiskFull, SoundLost, UnreadableFile
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.formats.wave import (
    FULL_SCALE,
    HEAD_BYTES,
    Broadcast,
    PackedSamples,
    packed24,
    stepped,
    wave_end,
    wave_head,
)
from hypotaxis.core.mixing.figures import FigureReader, Figures
from hypotaxis.core.timing.levels import LevelReader, packed, packed_end
from hypotaxis.core.timing.recording import read_window
from hypotaxis.records.trouble import FULL, full

FRAMES_A_BLOCK = 65536
PART = ".part"
"""How a file ends that is not complete yet."""
FREED_AFTER_S = 20.0
LARGE_BYTES = 2**28
UNFINISHED_S = 3600.0
"""A file that did not grow for so long nobody goes on with."""


def folder(name: str) -> Path:
    """A folder of the audio store, made when it is first asked for."""
    path = settings.AUDIO / name
    path.mkdir(parents=True, exist_ok=True)
    return path


@contextmanager
def told_when_full() -> Iterator[None]:
    """Raises DiskFull, in words, where the disk has no room for what is written inside."""
    try:
        yield
    except OSError as error:
        if error.errno not in FULL:
            raise
        raise DiskFull(full()) from error


def write_all(stream: RawIOBase, data: bytes) -> None:
    """Write to an unbuffered file all there is: the system may take a part of it, where room runs out, and say so by a
    number only. What is missing in the middle would shift all that follows."""
    left = memoryview(data)
    while left:
        left = left[stream.write(left) :]


def free_bytes() -> int:
    """Room in the data folder."""
    return shutil.disk_usage(settings.DATA).free


def check_room(needed: int) -> None:
    """Raises DiskFull where so many bytes do not fit into the data folder."""
    if (free := free_bytes()) < needed:
        raise DiskFull(
            f"The disk has room for {free / 1e6:,.0f} MB, and {needed / 1e6:,.0f} MB of sound would come in. Make "
            "room, and try again; nothing was taken in."
        )


@told_when_full()
def write_whole(name: str, ending: str, write: Callable[[BinaryIO], object]) -> Path:
    """A new file of our own naming in a folder, complete and on the disk before it is there; none if `write` fails."""
    handle, part = tempfile.mkstemp(dir=folder(name), suffix=f"{ending}{PART}")
    made = Path(part)
    try:
        with os.fdopen(handle, "wb") as stream:
            write(stream)
            stream.flush()
            os.fsync(stream.fileno())
        return made.replace(made.with_suffix(""))
    finally:
        made.unlink(missing_ok=True)


@contextmanager
def scratch(name: str, ending: str) -> Iterator[Path]:
    """A file in a folder that is gone afterwards."""
    with _begun(name, ending) as stream:
        path = Path(stream.name)
    try:
        yield path
    finally:
        path.unlink(missing_ok=True)


def made_once(name: str, file: str, write: Callable[[BinaryIO], object], *, keep: int) -> Path:
    """A file that can be made again, of this name in a folder: made where it is missing, whole before it is there, so
    that two who ask at once get one and the same. keep: how many of its kind stay, the newest."""
    path = folder(name) / file
    if not path.exists():
        forget_old(name, f"*{path.suffix}", keep - 1)
        write_whole(name, path.suffix, write).replace(path)
    return path


def forget_old(name: str, pattern: str, keep: int) -> None:
    """Of what can be made again in a folder, keep the newest files only."""
    aged = []
    for path in folder(name).glob(pattern):
        # Another request may be forgetting the same ones.
        with suppress(FileNotFoundError):
            aged.append((path.stat().st_mtime, path))
    for _, path in sorted(aged)[: max(0, len(aged) - keep)]:
        path.unlink(missing_ok=True)


def partial_path(run_uid: str) -> Path:
    """Where the frames of a running pass grow."""
    return folder("partial") / f"{run_uid}.f32"


def take_path(file: str) -> Path:
    """A take's file; nothing is made for it, since a page asks for hundreds."""
    return settings.AUDIO / "takes" / file


def remove_take(file: str) -> None:
    """A take's file and its overview, for good."""
    take_path(file).unlink(missing_ok=True)
    for path in (_peaks_path(file), _figures_path(file), levels_path(file)):
        path.unlink(missing_ok=True)


def let_go(path: Path) -> None:
    """Remove a file that nobody needs any more. Freeing gigabytes takes a second or more, which nobody waits for, and
    which is left until what follows a pass is done; what a kill leaves is found at the next start."""
    if path.stat().st_size < LARGE_BYTES:
        path.unlink()
        return
    later = threading.Timer(FREED_AFTER_S, path.unlink, kwargs={"missing_ok": True})
    later.daemon = True
    later.start()


class TakeFile:
    """A take on its way into its file, 24-bit: written, hashed, and all that is asked of its sound read off, in one go.
    The file is there once `keep` says how it is called; leave by `drop` if it never is. The same sound twice is kept
    once."""

    def __init__(self, *, rate: int, channels: int, first_sample: int) -> None:
        self.rate, self.channels, self.frames = rate, channels, 0
        self._bext = Broadcast(
            description=f"Take as it arrived, first frame at session sample {first_sample}",
            recorded=datetime.now(),
            time_reference=max(0, first_sample),
        )
        self._digest, self._peaks, self._figures = hashlib.sha256(), Peaks(), FigureReader(rate, channels)
        self._levels = LevelReader(rate, range(channels), FULL_SCALE)
        self._sound, self._read_off = _begun("takes", ".wav"), _begun("levels", ".f32")
        # How long it is, its head says: room is left for it.
        self._sound.write(bytes(HEAD_BYTES))

    @told_when_full()
    def feed(self, block: np.ndarray) -> None:
        """The next frames, shape (frames, channels)."""
        block = stepped(block)
        self._write(packed24(block))
        self._read_off.write(packed(self._levels.feed(block)))
        self._peaks.feed(block)
        self._figures.feed(block)
        self.frames += len(block)

    @told_when_full()
    def keep(self) -> str:
        """Put the file in its place; its name."""
        self._write(wave_end(channels=self.channels, frames=self.frames))
        self._sound.seek(0)
        self._write(wave_head(rate=self.rate, channels=self.channels, frames=self.frames, bext=self._bext))
        self._read_off.write(packed_end(self._levels.clipped))
        self._sound.flush()
        os.fsync(self._sound.fileno())
        for stream in (self._sound, self._read_off):
            stream.close()
        name = f"{self._digest.hexdigest()[:40]}.wav"
        _keep_peaks(name, self._peaks.found())
        _keep_figures(name, self._figures.found())
        Path(self._read_off.name).replace(levels_path(name))
        return _in_its_place(Path(self._sound.name), name)

    def drop(self) -> None:
        """Leave nothing behind, unless it is kept."""
        for stream in (self._sound, self._read_off):
            stream.close()
            Path(stream.name).unlink(missing_ok=True)

    def _write(self, data: bytes) -> None:
        self._sound.write(data)
        self._digest.update(data)


@told_when_full()
def kept_as_take(path: Path, digest: str) -> str:
    """Put a finished file, which has this checksum, among the takes; its name."""
    with path.open("rb") as stream:
        os.fsync(stream.fileno())
    return _in_its_place(path, f"{digest[:40]}.wav")


def _in_its_place(path: Path, name: str) -> str:
    """Let a finished file be the take of this name. Its content is on the disk; so is its name then, which a system
    may write later (POSIX: fsync of a file says nothing of its folder), while the database holds it already."""
    place = path.replace(folder("takes") / name)
    # Not every system opens folders.
    with suppress(OSError):
        held = os.open(place.parent, os.O_RDONLY)
        try:
            os.fsync(held)
        finally:
            os.close(held)
    return name


def _begun(name: str, ending: str) -> BinaryIO:
    """A new file in a folder, on its way to being complete."""
    return tempfile.NamedTemporaryFile(dir=folder(name), suffix=f"{ending}{PART}", delete=False)


def forget_unfinished() -> None:
    """Of takes that nobody goes on with, since whoever wrote them died, leave nothing."""
    for name in ("takes", "levels", "archives"):
        for path in folder(name).glob(f"*{PART}"):
            with suppress(FileNotFoundError):
                if time.time() - path.stat().st_mtime > UNFINISHED_S:
                    path.unlink()


def keep_take(blocks: Iterable[np.ndarray], *, rate: int, channels: int, frames: int, first_sample: int) -> str:
    """Write a take; the name of its file. Raises ValueError where not as many frames came as were announced."""
    file = TakeFile(rate=rate, channels=channels, first_sample=first_sample)
    try:
        for block in blocks:
            file.feed(block)
        if file.frames != frames:
            raise ValueError(f"{file.frames} frames were delivered, {frames} announced")
        return file.keep()
    finally:
        file.drop()


def partial_blocks(path: Path, width: int, frames: int, *, first: int = 0) -> Iterator[np.ndarray]:
    """Blocks of so many frames, or what is there of them, from `first` on of a partial file `width` inputs wide, shape
    (frames, width)."""
    with path.open("rb") as stream:
        stream.seek(4 * width * first)
        left = frames
        while left > 0:
            data = stream.read(min(left, FRAMES_A_BLOCK) * width * 4)
            block = np.frombuffer(data[: len(data) // (4 * width) * 4 * width], dtype="<f4").reshape(-1, width)
            if not len(block):
                return
            left -= len(block)
            yield block


def _frames_in(size: int, channels: int) -> int:
    return max(0, size - HEAD_BYTES) // (3 * channels)


def is_take(path: Path, *, rate: int, channels: int, frames: int) -> bool:
    """Whether a file is laid out as a take is, and holds so many samples."""
    found = PackedSamples.of(path, channels, rate)
    return found is not None and _frames_in(path.stat().st_size, channels) >= frames


def what_is_lost(file: str, *, frames: int, channels: int) -> str:
    """What is wrong with a take's file by its size, in words; "" where all of it is there."""
    try:
        size = take_path(file).stat().st_size
    except OSError:
        return "its file is missing"
    there = _frames_in(size, channels)
    if there >= frames:
        return ""
    return f"its file breaks off: {there:,} of {frames:,} samples are there" if there else "its file is empty"


@contextmanager
def told_when_lost(file: str) -> Iterator[None]:
    """Raises SoundLost, in words, where a take's file cannot be read inside."""
    try:
        yield
    except (OSError, soundfile.LibsndfileError, UnreadableFile, ValueError) as error:
        if getattr(error, "errno", None) in FULL:
            raise
        raise SoundLost(
            f"The sound of this take is lost: its file {file} in the data folder is missing or damaged. Put it back "
            "from a copy, or put the take away; everything else works."
        ) from error


def read_frames(file: str, first: int, last: int) -> np.ndarray:
    """Frames first to last of a take, shape (frames, channels); silence where they reach outside the file. Raises
    SoundLost."""
    with told_when_lost(file):
        return read_window(take_path(file), first, last)


@contextmanager
def take_blocks(file: str, frames: int, dtype: str = "float32") -> Iterator[Iterator[np.ndarray]]:
    """All of a take, which has so many frames, block by block, shape (frames, channels). Raises SoundLost, also on the
    way."""
    with told_when_lost(file), soundfile.SoundFile(take_path(file)) as source:
        if source.frames < frames:
            raise UnreadableFile(f"{source.frames} of {frames} frames are there")
        yield source.blocks(blocksize=FRAMES_A_BLOCK, dtype=dtype, always_2d=True)


def peaks(file: str) -> np.ndarray:
    """The overview of a take, kept beside it; made anew where it is missing. Raises SoundLost."""
    path = _peaks_path(file)
    try:
        # Of hours only what is drawn is read.
        return np.load(path, mmap_mode="r")
    except (OSError, ValueError, EOFError):
        with told_when_lost(file):
            found = peaks_of(take_path(file))
        _keep_peaks(file, found)
        return found


def figures(file: str, *, rate: int, channels: int, frames: int) -> Figures:
    """What one reading of a take says of its sound, kept beside it. Raises SoundLost."""
    if (kept := figures_kept(file)) is not None:
        return kept
    reader = FigureReader(rate, channels)
    with take_blocks(file, frames) as blocks:
        for block in blocks:
            reader.feed(block)
    found = reader.found()
    _keep_figures(file, found)
    return found


def figures_kept(file: str) -> Figures | None:
    """The same where it has been read before."""
    try:
        return from_json(Figures, json.loads(_figures_path(file).read_text()))
    except (OSError, ValueError, TypeError, KeyError, BaseValidationError):
        return None


def _keep_figures(file: str, found: Figures) -> None:
    data = json.dumps(to_json(found)).encode()
    write_whole("figures", ".json", lambda stream: stream.write(data)).replace(_figures_path(file))


def levels_path(file: str) -> Path:
    """Where the levels of a take are, from when it is written until it is measured (see core.timing.levels)."""
    return folder("levels") / f"{file}.f32"


def forget_levels(file: str) -> None:
    """Once it is measured they are needed no more."""
    levels_path(file).unlink(missing_ok=True)


def _figures_path(file: str) -> Path:
    return folder("figures") / f"{file}.json"


def _keep_peaks(file: str, found: np.ndarray) -> None:
    write_whole("peaks", ".npy", lambda stream: np.save(stream, found)).replace(_peaks_path(file))


def _peaks_path(file: str) -> Path:
    return folder("peaks") / f"{file}.npy"
