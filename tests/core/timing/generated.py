"""Takes with known truth. Shares no code with the estimator: sounds are laid down at chosen times, and the truth of
each hit is found on the hit alone, without disturbance, 16 times oversampled, by the published definition (first
passing of 10 % of the hit's own peak within 150 ms or before the next moment; an impulse's centre).
"""

from dataclasses import dataclass, field
from functools import cache

import numpy as np

OVER = 16
SILENT_DB = -200.0
LASTS = {"sharp": 0.4, "drum": 1.2, "impulse": 0.003, "hat": 0.3}
"""Seconds after which a hit that does not ring is over (more than 90 dB down)."""


@dataclass
class Case:
    """What to lay down. late_ms, jitter_ms, drift_ppm of the hits; everything else is a disturbance.

    two_ms: half the hits, by chance, come so much later; doubled_ms: every note comes again so much later; chord_ms:
    three notes so far apart; pop: a click before the first note; velocities: hits differ by up to 20 dB; attack_ms: of
    pads, which are held for half of ring_s; echoes: (ms, dB) of each; hall_s: of a reverberation, hall_db: its energy
    against the dry sound's.
    """

    kind: str = "sharp"
    rate: int = 48000
    late_ms: float = 14.2
    jitter_ms: float = 0.0
    two_ms: float = 0.0
    drift_ppm: float = 0.0
    noise_db: float = -90.0
    hum_db: float = SILENT_DB
    dc: float = 0.0
    level: float = 0.5
    invert: bool = False
    side: str = ""
    missing: float = 0.0
    extra: int = 0
    doubled_ms: float = 0.0
    pop: float = 0.0
    velocities: bool = False
    chord_ms: float = 0.0
    ring_s: float = 0.3
    attack_ms: float = 40.0
    echoes: tuple = ()
    hall_s: float = 0.0
    hall_db: float = -12.0
    pitches: tuple = (110.0, 82.4, 98.0, 146.8)
    notes: np.ndarray = field(default_factory=lambda: irregular(48))


def irregular(count: int, shortest: float = 0.3, seed: int = 3, first: float = 0.5) -> np.ndarray:
    """Seconds of notes with uneven gaps of at least `shortest`."""
    rng = np.random.default_rng(seed)
    return first + np.cumsum(shortest + 0.4 * rng.random(count))


def swung(count: int, bpm: float = 96.0, percent: float = 58.0) -> np.ndarray:
    """Sixteenths, the second of each pair at `percent` of the eighth; some are left out, as in a beat."""
    eighth = 30.0 / bpm
    at = np.arange(count)
    times = (at // 2) * eighth + (at % 2) * eighth * percent / 100
    return 0.5 + times[np.random.default_rng(11).random(count) < 0.6]


def harmonics(t: np.ndarray, hz: float, count: int, damping: float) -> np.ndarray:
    """Partials n of weight 1/n that decay n times as fast as the first; each until it is over (100 dB down)."""
    turn = np.exp((2j * np.pi * hz - damping) * t)
    power, total = turn.copy(), turn.imag.copy()
    for number in range(2, count + 1):
        live = np.searchsorted(t, 11.5 / (damping * number)) if damping else len(t)
        power = power[:live] * turn[:live]
        total[:live] += power.imag / number
    return total


@cache
def hiss() -> np.ndarray:
    """Noise at 192 kHz for hats, always the same."""
    return np.random.default_rng(77).standard_normal(192_000)


def sound(kind: str, age: np.ndarray, hz: float, case: Case) -> np.ndarray:
    """A hit as a function of its age in seconds (0 before it begins)."""
    live = age >= 0
    t = np.where(live, age, 0.0)
    if kind == "sharp":
        wave = np.exp(-t * 40) * np.cos(2 * np.pi * 900 * t)
    elif kind == "drum":
        wave = np.exp(-t * 9) * np.cos(2 * np.pi * (55 * t + 4 * (1 - np.exp(-30 * t))))
    elif kind == "hat":
        wave = np.exp(-t * 30) * np.interp(t, np.arange(192_000) / 192_000, hiss()) / 3
    elif kind == "pluck":
        wave = (1 - np.exp(-t / 0.0008)) * harmonics(t, hz, 11, 1 / case.ring_s)
    elif kind == "bass":
        wave = (1 - np.exp(-t / 0.001)) * harmonics(t, hz / 2, 8, 0.0) * np.exp(-t / case.ring_s)
    elif kind == "pad":
        wave = (1 - np.exp(-t / (case.attack_ms / 1000))) * harmonics(t, hz * 2, 3, 0.0)
        wave /= 1 + np.exp(np.minimum((t - case.ring_s / 2) / 0.012, 500))
    elif kind == "impulse":
        # Band-limited, its centre 1 ms after it begins, so that it may fall anywhere between samples.
        x = (age - 0.001) * case.rate
        return np.sinc(x) * np.cos(np.pi * np.clip(x / (0.001 * case.rate), -1, 1) / 2) ** 2
    else:
        raise ValueError(kind)
    return np.where(live, wave, 0.0)


_ONSETS: dict = {}


def own_onset(case: Case, hz: tuple, starts: tuple, gap_s: float) -> float:
    """Seconds after the first start at which the hit alone passes 10 % of its own peak within 150 ms or the gap."""
    if case.kind == "impulse":
        return 0.001
    window = min(0.15, max(0.002, round(gap_s, 4)))
    key = (case.kind, case.rate, case.ring_s, case.attack_ms, hz, starts, window)
    if key not in _ONSETS:
        t = np.arange(0, window, 1 / (case.rate * OVER))
        alone = np.abs(sum(sound(case.kind, t - start, f, case) for f, start in zip(hz, starts, strict=True)))
        _ONSETS[key] = float(t[np.argmax(alone > 0.1 * alone.max())])
    return _ONSETS[key]


def lay_down(case: Case, seed: int = 1):
    """(recording, note positions in samples, true lateness in ms of each note laid down or NaN where left out)."""
    rng = np.random.default_rng(seed)
    notes = case.notes
    middle = (notes[0] + notes[-1]) / 2
    begins = notes + case.late_ms / 1000 + case.drift_ppm * 1e-6 * (notes - middle)
    begins = begins + case.jitter_ms / 1000 * rng.standard_normal(len(notes))
    if case.two_ms:
        begins = begins + case.two_ms / 1000 * (rng.random(len(notes)) < 0.5)
    if case.kind == "impulse":
        begins = begins - 0.001
    length = int((notes[-1] + 1.5) * case.rate)
    time = np.arange(length) / case.rate
    signal = np.zeros(length)
    left_out = rng.random(len(notes)) < case.missing
    truth = np.full(len(notes), np.nan)
    gaps = np.append(np.diff(begins), 1.0)
    lasts = LASTS.get(case.kind, 5 * case.ring_s + 0.3)
    for index, begin in enumerate(begins):
        base = case.pitches[index % len(case.pitches)]
        hz = (base, base * 1.26, base * 1.5) if case.chord_ms else (base,)
        starts = tuple(np.arange(len(hz)) * case.chord_ms / 1000)
        if left_out[index]:
            continue
        truth[index] = (begin - notes[index] + own_onset(case, hz, starts, gaps[index])) * 1000
        gain = 10 ** (-rng.random()) if case.velocities else 1.0
        for again in (0.0, case.doubled_ms / 1000) if case.doubled_ms else (0.0,):
            at = begin + again
            low = max(0, int(at * case.rate) - 2)
            high = int((at + lasts) * case.rate)
            part = time[low:high]
            signal[low:high] += gain * sum(
                sound(case.kind, part - at - start, f, case) for f, start in zip(hz, starts, strict=True)
            )
    for _ in range(case.extra):
        at = rng.uniform(notes[0], notes[-1])
        low, high = (int((at + after) * case.rate) for after in (0.0, lasts))
        signal[low:high] += sound(case.kind, time[low:high] - at, 220.0, case)
    dry = signal.copy()
    for late, gain_db in case.echoes:
        samples = round(late * case.rate / 1000)
        signal[samples:] += 10 ** (gain_db / 20) * dry[:-samples]
    if case.hall_s:
        tail = np.arange(round(1.5 * case.hall_s * case.rate)) / case.rate
        hall = rng.standard_normal(len(tail)) * 10 ** (-3 * tail / case.hall_s)
        # The first reflection comes 12 ms behind.
        hall = np.concatenate([np.zeros(round(0.012 * case.rate)), hall])
        hall *= 10 ** (case.hall_db / 20) / np.sqrt((hall**2).sum())
        size = 1 << int(np.ceil(np.log2(len(signal) + len(hall))))
        signal += np.fft.irfft(np.fft.rfft(dry, size) * np.fft.rfft(hall, size), size)[: len(signal)]
    signal *= case.level / np.abs(signal).max() * (-1 if case.invert else 1)
    if case.pop:
        signal[int(0.2 * case.rate) :][:20] += case.pop * (-1.0) ** np.arange(20)
    signal += case.dc
    if case.hum_db > SILENT_DB:
        signal += 10 ** (case.hum_db / 20) * np.sin(2 * np.pi * 50 * time)
    signal += 10 ** (case.noise_db / 20) * rng.standard_normal(length)
    signal = np.clip(signal, -1, 1 - 2**-15)
    if case.side:
        silent = 1e-5 * rng.standard_normal(length)
        pair = (signal, silent) if case.side == "left" else (silent, signal)
        signal = np.stack(pair, axis=1)
    return signal.astype(np.float32), notes * case.rate, truth
