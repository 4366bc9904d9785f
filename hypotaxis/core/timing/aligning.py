"""A recording brought to where its notes are, also where two clocks run apart.

Onset and note lie on a line: r = m + late(m), with late(m) = late₀ + s · (m − m₀); m a note's position, r its sound's,
both in samples of the recording, s the drift (1 ppm = 10⁻⁶). Resampled by 1 / (1 + s) the sound keeps one distance from
its notes, and one shift places all of it. Resampling is libsoxr's, at its highest quality.
"""

from collections.abc import Iterable, Iterator

import numpy as np
import soxr

NOTICED_MS = 1.0
"""From this miss at the ends of a take on one placement is told not to be enough."""


def miss_ms(start_ms: float, end_ms: float) -> float:
    """By how much one placement, which is right in the middle, misses at the first and last note.

    >>> miss_ms(14.0, 18.5)
    2.25
    """
    return abs(end_ms - start_ms) / 2


def miss_told(start_ms: float, end_ms: float, drift_ppm: float | None, drift_half: float | None) -> str:
    """The miss in ms as it is told, where a drift was found and it is worth telling; otherwise empty. drift_half:
    half-width of the drift's 95 % interval, None = not known."""
    if drift_ppm is None or drift_half is None or abs(drift_ppm) <= drift_half:
        return ""
    miss = miss_ms(start_ms, end_ms)
    return f"{miss:.1f}" if miss > NOTICED_MS else ""


def fitted(blocks: Iterable[np.ndarray], *, rate: int, channels: int, drift_ppm: float) -> Iterator[np.ndarray]:
    """Blocks of shape (frames, channels) with the drift taken out, float32."""
    stream = soxr.ResampleStream(rate * (1 + drift_ppm * 1e-6), rate, channels, dtype="float32", quality="VHQ")
    for block in blocks:
        yield _in_columns(stream.resample_chunk(_plain(block, channels)), channels)
    yield _in_columns(stream.resample_chunk(_plain(np.zeros((0, channels)), channels), last=True), channels)


def anchor_samples(*, moment: float, late_samples: float, drift_ppm: float) -> float:
    """By how many samples the fitted sound stands behind its notes. moment, late_samples: of any note, in samples of
    the recording as it is."""
    slope = drift_ppm * 1e-6
    return (late_samples - slope * moment) / (1 + slope)


def shifted(blocks: Iterable[np.ndarray], earlier: int) -> Iterator[np.ndarray]:
    """Blocks that begin `earlier` samples later in the sound: the beginning is left out, or silence put before it where
    it is negative."""
    left = earlier
    for block in blocks:
        if left < 0:
            yield np.zeros((-left, block.shape[1]), dtype=block.dtype)
            left = 0
        if left >= len(block):
            left -= len(block)
            continue
        yield block[left:]
        left = 0


def _plain(block: np.ndarray, channels: int) -> np.ndarray:
    block = np.ascontiguousarray(block, dtype=np.float32)
    return block[:, 0] if channels == 1 else block


def _in_columns(block: np.ndarray, channels: int) -> np.ndarray:
    return block.reshape(-1, channels)
