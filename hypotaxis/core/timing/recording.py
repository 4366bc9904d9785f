"""How are the samples of a recording reached, whatever its length?

A recording has a rate in Hz, frames, and one or two channels of float32, full scale ±1.0. A side is a channel (0 left
or mono, 1 right) or MIX, the mean of both. What reaches outside the recording is silence.
"""

from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

import numpy as np

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.audio import open_sound
from hypotaxis.core.formats.wave import PackedSamples

MIX = 2
SIDE_NAMES = {0: "left", 1: "right", MIX: "mix"}
SIDES = {"mono": 0} | {name: side for side, name in SIDE_NAMES.items()}
HELD_SAMPLES = 16_000_000
"""A recording of up to so many samples (64 MB) is kept in memory; a longer one is read as it is needed."""
CHUNK, AHEAD = 1 << 19, 1 << 12
"""Frames read at once where all are wanted, and where pieces are: the next one may lie far behind."""
_EXTREMES = {"PCM_S8": 8, "PCM_U8": 8, "PCM_16": 16, "PCM_24": 24, "PCM_32": 32}


class Recording(Protocol):
    """What the measuring asks of a recording. steps: of its format's full scale (2**15 for 16 bits), None for float."""

    rate: int
    frames: int
    channels: int
    steps: int | None

    def blocks(self, size: int) -> Iterator[np.ndarray]:
        """Consecutive blocks (size, channels) from the beginning; the last may be shorter."""

    def piece(self, side: int, first: int, last: int) -> np.ndarray:
        """Samples first (included) to last (excluded) of a side, shape (last - first,)."""


class HeldRecording:
    """Samples in memory, shape (frames,) or (frames, 1 or 2)."""

    def __init__(self, samples: np.ndarray, rate: int, steps: int | None = None) -> None:
        self.samples = samples[:, None] if samples.ndim == 1 else samples
        self.rate, self.steps = rate, steps
        self.frames, self.channels = self.samples.shape

    def blocks(self, size: int) -> Iterator[np.ndarray]:
        for start in range(0, self.frames, size):
            yield self.samples[start : start + size]

    def piece(self, side: int, first: int, last: int) -> np.ndarray:
        return side_of(padded(self.samples, first, last), side)


class FileRecording:
    """An audio file, read block by block; pieces asked for in ascending order are read once."""

    def __init__(self, path: Path) -> None:
        self.stream = open_sound(path)
        self.rate, self.frames, self.channels = self.stream.samplerate, self.stream.frames, self.stream.channels
        self.steps = steps_of(self.stream.subtype)
        self._packed = PackedSamples.of(path, self.channels) if self.stream.subtype == "PCM_24" else None
        self._start, self._chunk = 0, np.zeros((0, self.channels), dtype=np.float32)

    def blocks(self, size: int) -> Iterator[np.ndarray]:
        self.stream.seek(0)
        read = 0
        try:
            for block in self.stream.blocks(blocksize=size, dtype="float32", always_2d=True):
                read += len(block)
                yield block
        except RuntimeError as error:
            raise self._breaks_off(read) from error
        if read < self.frames:
            raise self._breaks_off(read)

    def _breaks_off(self, read: int) -> UnreadableFile:
        return UnreadableFile(
            f"The recording holds less than it declares: it cannot be read beyond {read / self.rate:.1f} of "
            f"{self.frames / self.rate:.1f} seconds. Copy or export it again."
        )

    def held(self) -> HeldRecording:
        """The whole of it in memory."""
        none = np.zeros((0, self.channels), dtype=np.float32)
        return HeldRecording(np.concatenate([none, *self.blocks(CHUNK)]), self.rate, self.steps)

    def piece(self, side: int, first: int, last: int) -> np.ndarray:
        begin, end = max(0, first), min(self.frames, last)
        if self._packed is not None:
            alone = None if side == MIX else side
            there = self._packed.read(begin, max(begin, end), side=alone)
            if len(there) < end - begin:
                raise self._breaks_off(begin + len(there))
            return side_of(padded(there, first - begin, last - begin), side if alone is None else 0)
        if end > begin and not (self._start <= begin and end <= self._start + len(self._chunk)):
            self.stream.seek(begin)
            self._start = begin
            self._chunk = self.stream.read(max(AHEAD, end - begin), dtype="float32", always_2d=True)
        return side_of(padded(self._chunk, first - self._start, last - self._start), side)


def open_recording(path: Path) -> HeldRecording | FileRecording:
    """The recording in a file that soundfile reads; raises UnreadableFile when it breaks off."""
    recording = FileRecording(path)
    return recording if recording.frames * recording.channels > HELD_SAMPLES else recording.held()


def read_window(path: Path, first: int, last: int) -> np.ndarray:
    """Frames first to last of a file, shape (frames, channels); silence where they reach outside it."""
    with open_sound(path) as stream:
        begin, end = max(0, min(first, stream.frames)), max(0, min(last, stream.frames))
        stream.seek(begin)
        there = stream.read(max(0, end - begin), dtype="float32", always_2d=True)
    return padded(there, first - begin, last - begin)


def steps_of(subtype: str) -> int | None:
    """Steps of a format's full scale by soundfile's name of it, None where it has none (float, lossy)."""
    bits = _EXTREMES.get(subtype)
    return None if bits is None else 2 ** (bits - 1)


def windows(recording: Recording, side: int, starts: np.ndarray, length: int) -> np.ndarray:
    """Pieces of one length from ascending starts (samples), shape (starts, length)."""
    rows = np.empty((len(starts), length), dtype=np.float32)
    for row, start in zip(rows, starts.tolist(), strict=True):
        row[:] = recording.piece(side, start, start + length)
    return rows


def padded(samples: np.ndarray, first: int, last: int) -> np.ndarray:
    """Rows first to last, silence where they reach outside."""
    if first >= 0 and last <= len(samples):
        return samples[first:last]
    result = np.zeros((last - first, samples.shape[1]), dtype=np.float32)
    begin, end = max(0, first), min(len(samples), last)
    if end > begin:
        result[begin - first : end - first] = samples[begin:end]
    return result


def side_of(samples: np.ndarray, side: int) -> np.ndarray:
    """One side of frames, shape (frames,)."""
    if side == MIX:
        return samples.mean(axis=1, dtype=np.float32)
    return samples[:, side]
