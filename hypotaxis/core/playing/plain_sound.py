"""A plain sound of our own, to compare a box with: the same notes, nothing outside.

Three harmonics that die away, equal temperament with note 69 at 440 Hz (ISO 16). Mono, full scale ±1.
"""

from collections.abc import Sequence

import numpy as np

from hypotaxis.core.playing.tryout import PlayedNote

HARMONICS = ((1, 1.0), (2, 0.4), (3, 0.2))
DECAY_S, RELEASE_S, ATTACK_S = 0.7, 0.06, 0.003
GAIN = 0.16
"""Six notes at full velocity stay below full scale."""


def plain_sound(notes: Sequence[PlayedNote], rate: int) -> np.ndarray:
    """The samples of notes, float32, shape (frames,), from the first note's start to half a second after the last."""
    end_s = max((one.start_s + one.length_s for one in notes), default=0.0) + 0.5
    samples = np.zeros(round(end_s * rate))
    for one in notes:
        first = round(one.start_s * rate)
        time_s = np.arange(min(len(samples) - first, round((one.length_s + 0.5) * rate))) / rate
        pitch = 440.0 * 2 ** ((one.note - 69) / 12)
        tone = sum(level * np.sin(2 * np.pi * pitch * number * time_s) for number, level in HARMONICS)
        shape = np.minimum(1.0, time_s / ATTACK_S) * np.exp(-time_s / DECAY_S)
        shape *= np.exp(-np.maximum(time_s - one.length_s, 0.0) / RELEASE_S)
        samples[first : first + len(time_s)] += GAIN * (one.velocity / 127) ** 1.3 * tone * shape
    return np.clip(samples, -1.0, 1.0).astype(np.float32)
