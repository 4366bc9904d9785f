"""How loud is it? ITU-R BS.1770-4: K weighting, mean square over blocks of 400 ms, gated.

LUFS; silence is minus infinity. One or two channels, each counted with weight 1 (left, right).
"""

import math

import numpy as np

BLOCK_S, STEP_S = 0.4, 0.1
ABSOLUTE_LUFS, RELATIVE_LU = -70.0, -10.0
OFFSET = -0.691
"""So that a 997 Hz sine at 0 dBFS in one channel reads −3.01 (BS.1770-4)."""


def k_weighting(rate: int) -> tuple[tuple[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]:
    """The two filters as (b, a): the head's high shelf, and the high pass. At 48 kHz they are the published ones; at
    other rates the same analogue ones by the bilinear transform (parameters as reverse-engineered for EBU R 128 by
    Mansbridge, Finn and Reiss, 2012, from memory; checked against the table of 48 kHz)."""
    gain_db, quality, corner = 3.999843853973347, 0.7071752369554196, 1681.974450955533
    k, vh = math.tan(math.pi * corner / rate), 10 ** (gain_db / 20)
    vb = vh**0.4996667741545416
    a0 = 1 + k / quality + k * k
    shelf = (
        np.array([vh + vb * k / quality + k * k, 2 * (k * k - vh), vh - vb * k / quality + k * k]) / a0,
        np.array([a0, 2 * (k * k - 1), 1 - k / quality + k * k]) / a0,
    )
    quality, corner = 0.5003270373238773, 38.13547087602444
    k = math.tan(math.pi * corner / rate)
    a0 = 1 + k / quality + k * k
    high = (np.array([1.0, -2.0, 1.0]), np.array([a0, 2 * (k * k - 1), 1 - k / quality + k * k]) / a0)
    return shelf, high


class LoudnessMeter:
    """Takes sound in block by block; memory does not grow with it beyond a value every 100 ms."""

    def __init__(self, rate: int, channels: int) -> None:
        self._filters = k_weighting(rate)
        self._states = [np.zeros((2, channels)) for _ in self._filters]
        self._step = round(STEP_S * rate)
        self._left = np.zeros((0, channels))
        self._powers: list[float] = []
        """Sum of the channels' mean squares, a value a step."""

    def feed(self, block: np.ndarray) -> None:
        """The next frames, shape (frames, channels)."""
        from scipy.signal import lfilter  # Takes longer to import than all of the pages, and only sound needs it.

        sound = np.asarray(block, dtype=np.float64)
        for number, (b, a) in enumerate(self._filters):
            sound, self._states[number] = lfilter(b, a, sound, axis=0, zi=self._states[number])
        sound = np.concatenate([self._left, sound])
        count = len(sound) // self._step
        whole, self._left = sound[: count * self._step], sound[count * self._step :]
        squares = (whole.reshape(count, self._step, sound.shape[1]) ** 2).mean(axis=1).sum(axis=1)
        self._powers += squares.tolist()

    @property
    def integrated(self) -> float:
        """Loudness of all of it, LUFS; minus infinity where less than a block came or all is below the gate."""
        width = round(BLOCK_S / STEP_S)
        if len(self._powers) < width:
            return -math.inf
        blocks = np.convolve(self._powers, np.full(width, 1.0 / width), mode="valid")
        loud = blocks[blocks > _power(ABSOLUTE_LUFS)]
        if not len(loud):
            return -math.inf
        loud = loud[loud > loud.mean() * 10 ** (RELATIVE_LU / 10)]
        return OFFSET + 10 * math.log10(float(loud.mean()))

    @property
    def floor_db(self) -> float:
        """The quietest 400 ms, in dB as loudness is counted; minus infinity for digital silence."""
        width = round(BLOCK_S / STEP_S)
        blocks = np.convolve(self._powers, np.full(width, 1.0 / width), mode="valid") if self._powers else np.zeros(0)
        least = float(blocks.min()) if len(self._powers) >= width else 0.0
        return OFFSET + 10 * math.log10(least) if least > 0 else -math.inf


def _power(lufs: float) -> float:
    return 10 ** ((lufs - OFFSET) / 10)
