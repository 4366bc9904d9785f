"""Planted differences are told by their names; honest repeats are told to be the same."""

import numpy as np
from django.test import SimpleTestCase
from scipy.signal import butter, lfilter

from hypotaxis.core.mixing import sameness
from hypotaxis.core.mixing.sameness import Energies, Sameness, later, same_or_different

RATE = 48_000
BARS = [(bar, 2.0 * bar) for bar in range(1, 9)]
"""Eight bars of two seconds."""


def played(seed: int, *, jitter_ms: float = 0.4, noise_db: float = -75.0) -> np.ndarray:
    """A tune of plucked notes with overtones, each a little unsteady, with noise of its own; stereo."""
    rng, notes = np.random.default_rng(seed), np.random.default_rng(99)
    sound = np.zeros(16 * RATE)
    for number in range(64):
        at = round((number * 0.25 + max(0, 0.005 + rng.normal(0, jitter_ms / 1000))) * RATE)
        pitch, length = 110 * 2 ** (notes.integers(0, 24) / 12), round(0.24 * RATE)
        time = np.arange(length) / RATE
        tone = sum(np.sin(2 * np.pi * pitch * k * time + rng.uniform(0, 6)) / k**1.2 for k in range(1, 24))
        end = min(len(sound), at + length)
        sound[at:end] += (0.1 * tone * np.exp(-time * 9))[: end - at]
    both = np.stack([sound, 0.8 * sound], axis=1)
    return both + rng.normal(0, 10 ** (noise_db / 20), both.shape)


def energies(sound: np.ndarray) -> np.ndarray:
    found = Energies(RATE)
    for start in range(0, len(sound), 65_536):
        found.feed(sound[start : start + 65_536])
    return found.found()


class SamenessTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.one = played(1)
        cls.heard = energies(cls.one)

    def against(self, other: np.ndarray) -> Sameness:
        """The other as the first, so that what is said is of it."""
        return same_or_different(energies(other), self.heard, BARS)

    def test_honest_repeats_are_the_same(self):
        for seed in range(2, 6):
            found = self.against(played(seed))
            self.assertEqual((found.kind, found.told), (sameness.SAME, "The same sound."), seed)
            self.assertLess(max(abs(bar.worst_db) for bar in found.bars), 4.0)

    def test_another_level_of_the_same_sound(self):
        found = self.against(played(2) * 0.5)
        self.assertEqual(found.told, "The same sound, the first 6.0 dB softer.")
        self.assertAlmostEqual(found.level_db, -6.02, delta=0.2)

    def test_another_sound_from_a_bar_on_is_told_with_its_band(self):
        other = played(3)
        dull = lfilter(*butter(2, 800 / (RATE / 2)), other, axis=0)
        other[8 * RATE :] = dull[8 * RATE :]
        found = self.against(other)
        self.assertEqual(found.kind, sameness.SOUND)
        self.assertIn("The same sound until bar 4. Another sound from bar 5 on: the first is duller", found.told)

    def test_silence_a_missing_side_a_drop_out_and_another_bar(self):
        silent = played(4)
        silent[8 * RATE :] = np.random.default_rng(1).normal(0, 2e-5, silent[8 * RATE :].shape)
        self.assertEqual(self.against(silent).told, "The first is silent from bar 5 on.")
        side = played(5) * [1.0, 0.0]
        self.assertEqual(self.against(side).told, "The right side of the first is missing.")
        drop = played(6)
        drop[round(6.50 * RATE) : round(6.70 * RATE)] = 0.0
        self.assertEqual(self.against(drop).told, "The first drops out in bar 4, for a moment.")
        moved = np.concatenate([np.zeros((2 * RATE, 2)), played(7)[: 14 * RATE]])
        self.assertEqual(self.against(moved).told, "The first has its notes 1 bar later.")

    def test_waves_are_laid_over_each_other_to_a_fraction_of_a_sample(self):
        wave = played(8)[: 4 * RATE, 0]
        spectrum = np.fft.rfft(wave)
        turn = 2j * np.pi * np.fft.rfftfreq(len(wave))
        for shift in (0.0, 0.31, -7.43, 250.5):
            moved = np.fft.irfft(spectrum * np.exp(-turn * shift), len(wave))
            self.assertAlmostEqual(later(moved, wave, RATE), shift, delta=0.02)
        self.assertIsNone(later(np.random.default_rng(1).normal(size=RATE), wave, RATE))
        self.assertIsNone(later(np.zeros(RATE), wave, RATE))

    def test_two_silent_takes_are_the_same(self):
        self.assertEqual(same_or_different(energies(self.one * 0), self.heard * 0, BARS).kind, sameness.SAME)
