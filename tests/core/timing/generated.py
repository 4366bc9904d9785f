"""Takes with known truth. Shares no code with the estimator: sounds are laid down at chosen times, and the truth of
each hit is found on the hit alone, without disturbance, 16 times oversampled, by the published definition (first
passing of 10 % of the hit's own peak).
"""

from dataclasses import dataclass, field
from functools import cache

import numpy as np

OVER = 16
LASTS = {"sharp": 0.4, "drum": 1.2}
"""Seconds after which a hit that does not ring is over (more than 90 dB down)."""


@dataclass
class Case:
    """What to lay down. late_ms, jitter_ms, drift_ppm of the hits; everything else is a disturbance."""

    kind: str = "sharp"
    rate: int = 48000
    late_ms: float = 14.2
    jitter_ms: float = 0.0
    drift_ppm: float = 0.0
    noise_db: float = -90.0
    hum_db: float = -200.0
    dc: float = 0.0
    level: float = 0.5
    invert: bool = False
    side: str = ""
    missing: float = 0.0
    extra: int = 0
    chord_ms: float = 0.0
    ring_s: float = 0.3
    pitches: tuple = (110.0, 82.4, 98.0, 146.8)
    notes: np.ndarray = field(default_factory=lambda: irregular(48))


def irregular(count: int, shortest: float = 0.3, seed: int = 3) -> np.ndarray:
    """Seconds of notes with uneven gaps of at least `shortest`."""
    rng = np.random.default_rng(seed)
    return 0.5 + np.cumsum(shortest + 0.4 * rng.random(count))


def harmonics(t: np.ndarray, hz: float, count: int, damping: float) -> np.ndarray:
    """Partials n of weight 1/n that decay n times as fast as the first."""
    turn = np.exp((2j * np.pi * hz - damping) * t)
    power, total = turn.copy(), turn.imag.copy()
    for number in range(2, count + 1):
        power *= turn
        total += power.imag / number
    return total


def sound(kind: str, age: np.ndarray, hz: float, ring_s: float) -> np.ndarray:
    """A hit as a function of its age in seconds (0 before it begins)."""
    live = age >= 0
    t = np.where(live, age, 0.0)
    if kind == "sharp":
        wave = np.exp(-t * 40) * np.cos(2 * np.pi * 900 * t)
    elif kind == "drum":
        wave = np.exp(-t * 9) * np.cos(2 * np.pi * (55 * t + 4 * (1 - np.exp(-30 * t))))
    elif kind == "pluck":
        wave = (1 - np.exp(-t / 0.0008)) * harmonics(t, hz, 11, 1 / ring_s)
    elif kind == "bass":
        wave = (1 - np.exp(-t / 0.001)) * harmonics(t, hz / 2, 8, 0.0) * np.exp(-t / ring_s)
    elif kind == "pad":
        wave = (1 - np.exp(-t / 0.04)) * np.sin(2 * np.pi * hz * 2 * t) * np.exp(-t / max(ring_s, 0.05))
    else:
        raise ValueError(kind)
    return np.where(live, wave, 0.0)


@cache
def own_onset(kind: str, rate: int, ring_s: float, hz: tuple, starts: tuple) -> float:
    """Seconds after the first start at which the hit alone passes 10 % of its own peak within 150 ms."""
    t = np.arange(0, 0.15, 1 / (rate * OVER))
    alone = np.abs(sum(sound(kind, t - start, f, ring_s) for f, start in zip(hz, starts, strict=True)))
    return float(t[np.argmax(alone > 0.1 * alone.max())])


def lay_down(case: Case, seed: int = 1):
    """(recording, note positions in samples, true lateness in ms of each note laid down or NaN where left out)."""
    rng = np.random.default_rng(seed)
    notes = case.notes
    middle = (notes[0] + notes[-1]) / 2
    begins = notes + case.late_ms / 1000 + case.drift_ppm * 1e-6 * (notes - middle)
    begins = begins + case.jitter_ms / 1000 * rng.standard_normal(len(notes))
    length = int((notes[-1] + 1.5) * case.rate)
    time = np.arange(length) / case.rate
    signal = np.zeros(length)
    left_out = rng.random(len(notes)) < case.missing
    truth = np.full(len(notes), np.nan)
    for index, begin in enumerate(begins):
        base = case.pitches[index % len(case.pitches)]
        hz = (base, base * 1.26, base * 1.5) if case.chord_ms else (base,)
        starts = tuple(np.arange(len(hz)) * case.chord_ms / 1000)
        if left_out[index]:
            continue
        truth[index] = (begin - notes[index] + own_onset(case.kind, case.rate, case.ring_s, hz, starts)) * 1000
        low, high = int(begin * case.rate) - 2, int((begin + LASTS.get(case.kind, 5 * case.ring_s + 0.3)) * case.rate)
        part = time[low:high]
        signal[low:high] += sum(
            sound(case.kind, part - begin - start, f, case.ring_s) for f, start in zip(hz, starts, strict=True)
        )
    for _ in range(case.extra):
        at = rng.uniform(notes[0], notes[-1])
        signal += sound(case.kind, time - at, 220.0, case.ring_s)
    signal *= case.level / np.abs(signal).max() * (-1 if case.invert else 1)
    signal += case.dc + 10 ** (case.hum_db / 20) * np.sin(2 * np.pi * 50 * time)
    signal += 10 ** (case.noise_db / 20) * rng.standard_normal(length)
    signal = np.clip(signal, -1, 1)
    if case.side:
        silent = 1e-5 * rng.standard_normal(length)
        pair = (signal, silent) if case.side == "left" else (silent, signal)
        signal = np.stack(pair, axis=1)
    return signal.astype(np.float32), notes * case.rate, truth
