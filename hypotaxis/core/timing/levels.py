"""How loud is each millisecond of a recording, in itself and in its differences?

A hop is a millisecond, its level half the peak-to-peak of what it holds, its power the mean square. Whoever has the
samples pass by reads them off then (`LevelReader`); what is kept of them in a file need not be read from the sound
again.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from hypotaxis.core.timing.recording import MIX, Recording
from hypotaxis.core.units import CLIP_RUN

HOP_MS = 1.0
BANDS = 3
"""The signal itself, its first and its second difference."""
HOPS_A_BLOCK = 1024
_ROW, _ROWS = "<f4", BANDS + 1


def hop_of(rate: int) -> int:
    """Samples a hop."""
    return max(1, round(rate * HOP_MS / 1000))


@dataclass(frozen=True, eq=False)
class Levels:
    """Of some sides of a recording."""

    hops: np.ndarray
    """Shape (sides, BANDS, hops), float32."""
    power: np.ndarray
    """Shape (sides, hops), float32."""
    clipped: tuple[bool, ...]
    """Whether the format's extreme was held, of each side."""

    def only(self, rows: Sequence[int]) -> "Levels":
        """Those of some sides, in their order."""
        if len(rows) == len(self.hops):
            return self
        return Levels(self.hops[rows], self.power[rows], tuple(self.clipped[row] for row in rows))


class LevelReader:
    """Takes a recording in, in blocks of any length. sides: which are read; steps: of the format's full scale, None of
    float."""

    def __init__(self, rate: int, sides: Sequence[int], steps: int | None) -> None:
        self._hop, self._sides = hop_of(rate), tuple(sides)
        self._clips = [_Plateau(steps) for _ in sides]
        self._before: np.ndarray | None = None
        """What is needed of earlier blocks, shape (2 + an unfinished hop, channels)."""

    def feed(self, block: np.ndarray) -> np.ndarray:
        """Levels and, last, power of those hops that these frames, shape (frames, channels), complete: (sides,
        BANDS + 1, hops)."""
        if len(block) == 0:
            return np.zeros((len(self._sides), _ROWS, 0), dtype=np.float32)
        before = np.repeat(block[:1], BANDS - 1, axis=0) if self._before is None else self._before
        joined = np.concatenate([before, block])
        hops = (len(joined) - BANDS + 1) // self._hop
        self._before = joined[hops * self._hop :].copy()
        found = np.empty((len(self._sides), _ROWS, hops), dtype=np.float32)
        for row, side in enumerate(self._sides):
            self._clips[row].feed(_of(block, side))
            signal = _of(joined[: BANDS - 1 + hops * self._hop], side)
            found[row, BANDS] = (signal[BANDS - 1 :].reshape(hops, self._hop) ** 2).mean(axis=1)
            for band in range(BANDS):
                found[row, band] = _level(signal[BANDS - 1 - band :].reshape(hops, self._hop))
                signal = np.diff(signal)
        return found

    @property
    def clipped(self) -> tuple[bool, ...]:
        """Whether the extreme was held so far, of each side."""
        return tuple(clip.found for clip in self._clips)


def levels_of(recording: Recording, sides: Sequence[int], progress=None) -> Levels:
    """In one reading of it; progress is told the share that has been read."""
    reader = LevelReader(recording.rate, sides, recording.steps)
    hop = hop_of(recording.rate)
    hops = np.zeros((len(sides), _ROWS, recording.frames // hop), dtype=np.float32)
    at = blocks = 0
    for block in recording.blocks(HOPS_A_BLOCK * hop):
        found = reader.feed(block)
        hops[..., at : at + found.shape[-1]] = found
        at, blocks = at + found.shape[-1], blocks + 1
        if progress and blocks % 64 == 0:
            progress(at / max(hops.shape[-1], 1))
    return _levels(hops, reader.clipped)


def packed(found: np.ndarray) -> bytes:
    """What a LevelReader has found of a block, as a file of levels goes on."""
    return np.ascontiguousarray(found.transpose(2, 0, 1), dtype=_ROW).tobytes()


def packed_end(clipped: Sequence[bool]) -> bytes:
    """How such a file ends."""
    return np.array(clipped, dtype=_ROW).tobytes()


def kept_levels_of(recording: Recording, path: Path) -> Levels | None:
    """What is kept of every side of a recording; None as below."""
    return kept_levels(path, rate=recording.rate, sides=recording.channels, frames=recording.frames)


def kept_levels(path: Path, *, rate: int, sides: int, frames: int) -> Levels | None:
    """What is kept of so many sides and frames; None where the file is not there or not of that length."""
    try:
        data = np.fromfile(path, dtype=_ROW)
    except OSError:
        return None
    count = frames // hop_of(rate) * sides * _ROWS
    if len(data) != count + sides:
        return None
    # Laid out hop by hop: whoever computes with a row copies it once.
    return _levels(data[:count].reshape(-1, sides, _ROWS).transpose(1, 2, 0), tuple((data[count:] > 0).tolist()))


def _levels(rows: np.ndarray, clipped: tuple[bool, ...]) -> Levels:
    return Levels(rows[:, :BANDS], rows[:, BANDS], clipped)


class _Plateau:
    """Three or more equal samples at the format's extreme; a float file that goes beyond 1.0 is not clipped."""

    def __init__(self, steps: int | None) -> None:
        self.extremes = (1.0,) if steps is None else (1.0 - 1.0 / steps, 1.0)
        self.plain_float = steps is None
        self.tail = np.zeros(0, dtype=np.float32)
        self.seen = self.beyond = False

    @property
    def found(self) -> bool:
        return self.seen and not self.beyond

    def feed(self, signal: np.ndarray) -> None:
        """Take in the next samples."""
        low, high = float(signal.min(initial=0.0)), float(signal.max(initial=0.0))
        self.beyond = self.beyond or (self.plain_float and max(high, -low) > 1.0)
        joined = np.concatenate([self.tail, signal])
        self.tail = joined[-(CLIP_RUN - 1) :]
        if self.seen or max(high, -low) < min(self.extremes):
            return
        top = np.float32(self.extremes[0])
        for full in (joined == top, joined == np.float32(-1.0)):
            self.seen = self.seen or bool((full[:-2] & full[1:-1] & full[2:]).any())


def _of(frames: np.ndarray, side: int) -> np.ndarray:
    return frames.mean(axis=1, dtype=np.float32) if side == MIX else frames[:, side]


def _level(hops: np.ndarray) -> np.ndarray:
    """Half the peak-to-peak of each row; turned round first, which is faster than reducing short rows."""
    turned = np.ascontiguousarray(hops.T)
    return (turned.max(axis=0) - turned.min(axis=0)) / 2
