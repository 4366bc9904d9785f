"""What does a box sound like? Plain synthesis as pure functions of time.

A voice is a function of the seconds since it began, so a block gives the same samples however the run is cut into
blocks. Amplitudes are relative to full scale; the sounds differ enough that a wrong patch is heard.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

NOISE_RATE = 48_000
NOISE_SECONDS = 2
ROW, FOUR = 32, 4

Timbre = Callable[[np.ndarray, float, int], np.ndarray]
"""(seconds since the beginning, pitch in Hz, seed) → samples before the velocity."""


@dataclass(frozen=True)
class Patch:
    """A sound: its timbre, how long it rings after the key is let go, and after how long it is over at the latest."""

    name: str
    timbre: Timbre
    release_s: float
    longest_s: float


@dataclass(frozen=True)
class Voice:
    """One sounding note: begin, end of key and end of sound in analogue seconds; pan 0 left to 1 right."""

    patch: Patch
    pitch_hz: float
    gain: float
    pan: float
    begin_s: float
    key_up_s: float
    choke_s: float
    seed: int

    @property
    def end_s(self) -> float:
        """When nothing of it is left (70 dB down)."""
        return min(self.key_up_s + 8 * self.patch.release_s, self.begin_s + self.patch.longest_s, self.choke_s + 0.02)

    def render(self, time_s: np.ndarray) -> np.ndarray:
        """Its samples at ascending analogue times in seconds."""
        first = int(np.searchsorted(time_s, self.begin_s))
        sounding = time_s[first:]
        sound = self.patch.timbre(sounding - self.begin_s, self.pitch_hz, self.seed) * self.gain
        for since_s, rings_s in ((self.key_up_s, self.patch.release_s), (self.choke_s, 0.002)):
            if since_s < time_s[-1]:
                sound *= np.exp(-np.maximum(sounding - since_s, 0.0) / rings_s)
        return np.concatenate([np.zeros(first), sound]) if first else sound


def pitch_hz(note: int) -> float:
    """Equal temperament, A4 = note 69 = 440 Hz."""
    return 440.0 * 2 ** ((note - 69) / 12)


def _attack(age: np.ndarray, rise_s: float) -> np.ndarray | float:
    """How a sound rises; where all of it is 40 times as old, that is 1 to the last bit."""
    return 1 - np.exp(-age / rise_s) if len(age) and age[0] < 40 * rise_s else 1.0


def _turns(speed: complex, age: np.ndarray) -> np.ndarray:
    """exp(speed · age) of evenly spaced ages, by few exponentials: one a row, times one a column."""
    row = np.exp(speed * (age[:ROW] - age[:1]))
    return np.multiply.outer(np.exp(speed * age[::ROW]), row).ravel()[: len(age)]


def _partials(
    age: np.ndarray, hz: float, weights: np.ndarray, decay: float = 0.0, damping: float = 0.0, *, even: bool = True
) -> np.ndarray:
    """Harmonics; the n-th decays with decay + n·damping a second. even: the ages are evenly spaced, as those of a block
    are."""
    count = max(1, min(len(weights), int(15_000 / hz)))
    speed = 2j * np.pi * hz - damping
    turn = _turns(speed, age) if even else np.exp(speed * age)
    # Σ w·turnⁿ by Horner's rule, four harmonics at a time: those four are a product of matrices.
    powers = np.empty((FOUR, len(age)), dtype=complex)
    powers[0] = 1.0
    for power in range(1, FOUR):
        np.multiply(powers[power - 1], turn, out=powers[power])
    rows = -(-count // FOUR)
    fours = np.zeros((rows, FOUR))
    fours.flat[:count] = weights[:count]
    sums = (fours @ powers.view(float)).view(complex)
    total = sums[-1]
    step = powers[-1] * turn
    for row in sums[-2::-1] if rows > 1 else ():
        total *= step
        total += row
    total *= turn
    return total.imag * np.exp(-decay * age)


_N12 = np.arange(1, 13)


def _pluck(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    attack = _attack(age, 0.0006)
    return 0.55 * attack * _partials(age, hz, 1 / _N12, 1.2, 0.9)


def _pad(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    attack = _attack(age, 0.045)
    weights = 1 / np.arange(1, 9) ** 1.4
    twin = _partials(age, hz * 1.004, weights) + _partials(age, hz * 0.996, weights)
    return 0.22 * attack * twin


def _organ(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    attack = _attack(age, 0.004)
    return 0.3 * attack * _partials(age, hz, np.array([1, 0.7, 0.45, 0.5, 0, 0.3, 0, 0.25]))


def _bell(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    attack = _attack(age, 0.0008)
    ring = np.sin(2 * np.pi * hz * age + 2.4 * np.exp(-3 * age) * np.sin(2 * np.pi * hz * 3.51 * age))
    return 0.5 * attack * ring * np.exp(-1.6 * age)


def _bass(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    attack = _attack(age, 0.0009)
    return 0.7 * attack * _partials(age, hz, 1 / _N12**0.9, 0.5, 0.8)


def _round_bass(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    attack = _attack(age, 0.006)
    return 0.9 * attack * _partials(age, hz, np.array([1, 0.35, 0.1]), 0.2, 1.1)


def _lead(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    attack = _attack(age, 0.002)
    vibrato = age + 0.0006 * np.sin(2 * np.pi * 5.2 * age) * np.minimum(age, 1.0)
    return 0.5 * attack * _partials(vibrato, hz, 1 / _N12, 0.2, even=False)


@lru_cache(maxsize=64)
def _noise_table(seed: int) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal(NOISE_RATE * NOISE_SECONDS + 2)


def _noise(age: np.ndarray, seed: int) -> np.ndarray:
    at = np.minimum(age * NOISE_RATE, NOISE_RATE * NOISE_SECONDS)
    index = at.astype(np.int64)
    table = _noise_table(seed % 64)
    part = at - index
    return table[index] * (1 - part) + table[index + 1] * part


def _bright_noise(age: np.ndarray, seed: int) -> np.ndarray:
    return _noise(age, seed) - _noise(age + 1 / NOISE_RATE, seed)


def _kick(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    swept = 52 * age + (190 / 38) * (1 - np.exp(-38 * age))
    return 0.95 * np.cos(2 * np.pi * swept) * np.exp(-7 * age)


def _snare(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    body = np.cos(2 * np.pi * 186 * age) * np.exp(-22 * age)
    return 0.4 * body + 0.17 * _noise(age, seed) * np.exp(-14 * age)


def _closed_hat(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    return 0.14 * _bright_noise(age, seed) * np.exp(-55 * age)


def _open_hat(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    return 0.13 * _bright_noise(age, seed) * np.exp(-9 * age)


def _clap(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    flutter = sum(np.exp(-180 * (age - late)) * (age >= late) for late in (0.0, 0.011, 0.022))
    return 0.16 * _noise(age, seed) * (flutter + 0.8 * np.exp(-16 * age))


def _tom(age: np.ndarray, hz: float, seed: int) -> np.ndarray:
    return 0.7 * np.cos(2 * np.pi * (hz * age + 2.2 * (1 - np.exp(-22 * age)))) * np.exp(-8 * age)


POLY_PATCHES = (
    Patch("pluck", _pluck, 0.12, 6.0),
    Patch("pad", _pad, 0.35, 60.0),
    Patch("organ", _organ, 0.03, 60.0),
    Patch("bell", _bell, 0.4, 6.0),
)
MONO_PATCHES = (
    Patch("bass", _bass, 0.05, 8.0),
    Patch("round bass", _round_bass, 0.08, 10.0),
    Patch("lead", _lead, 0.1, 30.0),
)
DRUMS = {
    36: ("kick", Patch("kick", _kick, 60.0, 1.2)),
    38: ("snare", Patch("snare", _snare, 60.0, 0.7)),
    39: ("clap", Patch("clap", _clap, 60.0, 0.6)),
    42: ("hat", Patch("closed hat", _closed_hat, 60.0, 0.2)),
    46: ("hat", Patch("open hat", _open_hat, 60.0, 1.0)),
}
"""By note, with the voice's name (General MIDI percussion agrees on these keys)."""
TOM = ("tom", Patch("tom", _tom, 60.0, 1.0))
