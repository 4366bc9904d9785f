"""Takes of soft sounds with known begins: strings, choir, pad, organ, reed. Shares no code with the comparison.

Where phases run free each hit has its own, as from oscillators that nobody resets; otherwise every hit of a note is the
same, as from samples. Truth is when each hit begins; two takes differ by the differences of their begins.
"""

import numpy as np

SOUNDS = {
    # partials, attack in s, detuned voices, share of breath noise
    "strings": (12, 0.12, 4, 0.05),
    "choir": (8, 0.18, 3, 0.15),
    "pad": (5, 0.25, 3, 0.0),
    "organ": (6, 0.025, 1, 0.02),
    "reed": (9, 0.05, 1, 0.08),
}
PITCHES = (220.0, 261.6, 329.6, 174.6, 293.7)


def soft_take(
    kind: str,
    notes: np.ndarray,
    *,
    late_ms: float,
    seed: int,
    jitter_ms: float = 0.0,
    drift_ppm: float = 0.0,
    free: bool = True,
    rate: int = 48000,
    noise_db: float = -70.0,
    pitches: tuple = PITCHES,
    held: float = 0.75,
    release_s: float = 0.03,
) -> tuple[np.ndarray, np.ndarray]:
    """(samples, begin of each hit in seconds). held: share of the time to the next note for which a note is held, above
    1 = legato; it then dies away within about four times release_s."""
    rng = np.random.default_rng(seed)
    partials, attack, voices, breath = SOUNDS[kind]
    begins = notes + late_ms / 1000 + drift_ppm * 1e-6 * notes + jitter_ms / 1000 * rng.standard_normal(len(notes))
    signal = np.zeros(int((notes[-1] + 2.5) * rate))
    for number, begin in enumerate(begins):
        pitch = pitches[number % len(pitches)]
        # The same hit each time, unless its phases are its own.
        own = rng if free else np.random.default_rng(1000 + number % len(pitches))
        first = int(begin * rate)
        gap = notes[number + 1] - notes[number] if number + 1 < len(notes) else 1.0
        age = (np.arange(first, min(len(signal), first + int(1.8 * rate))) / rate) - begin
        wave = np.zeros(len(age))
        for _ in range(voices):
            hz = pitch * (1 + 0.004 * own.standard_normal() * (voices > 1))
            for partial in range(1, partials + 1):
                wave += np.sin(2 * np.pi * hz * partial * age + own.uniform(0, 2 * np.pi)) / partial
        wave += breath * partials * np.interp(age, np.arange(0, 2, 1 / rate), own.standard_normal(2 * rate))
        ended = np.clip((age - held * gap) / release_s, -50, 50)
        shape = (1 - np.exp(-np.maximum(age, 0) / (attack / 2.3))) / (1 + np.exp(ended))
        signal[first : first + len(age)] += np.where(age >= 0, wave * shape, 0.0)
    signal *= 0.4 / np.abs(signal).max()
    signal += 10 ** (noise_db / 20) * rng.standard_normal(len(signal))
    return signal.astype(np.float32), begins
