"""Loudness against the published compliance signals."""

import math

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.mixing.loudness import LoudnessMeter, k_weighting

RATE = 48_000


def tone(*stretches: tuple[float, float], rate: int = RATE, channels: int = 2) -> np.ndarray:
    """A 1 kHz sine of (dBFS, seconds) one after the other, the same in each channel."""
    pieces = [np.full(round(seconds * rate), 10 ** (level / 20)) for level, seconds in stretches]
    gain = np.concatenate(pieces)
    wave = gain * np.sin(2 * np.pi * 1000 * np.arange(len(gain)) / rate)
    return np.repeat(wave[:, None], channels, axis=1)


def lufs(sound: np.ndarray, rate: int = RATE, block: int = 7919) -> float:
    meter = LoudnessMeter(rate, sound.shape[1])
    for start in range(0, len(sound), block):
        meter.feed(sound[start : start + block])
    return meter.integrated


class LoudnessTest(SimpleTestCase):
    def test_the_compliance_signals_of_ebu_tech_3341(self):
        # EBU Tech 3341, table 1, cases 1 to 5: stereo sines of 1 kHz; tolerance ±0.1 LU.
        for number, stretches, wanted in (
            (1, [(-23.0, 20)], -23.0),
            (2, [(-33.0, 20)], -33.0),
            (3, [(-36.0, 10), (-23.0, 60), (-36.0, 10)], -23.0),
            (4, [(-72.0, 10), (-36.0, 10), (-23.0, 60), (-36.0, 10), (-72.0, 10)], -23.0),
            (5, [(-26.0, 20), (-20.0, 20.1), (-26.0, 20)], -23.0),
        ):
            with self.subTest(case=number):
                self.assertAlmostEqual(lufs(tone(*stretches)), wanted, delta=0.1)

    def test_filters_are_the_published_ones_at_48_khz(self):
        # ITU-R BS.1770-4, tables 1 and 2.
        (b1, a1), (b2, a2) = k_weighting(RATE)
        np.testing.assert_allclose(b1, [1.53512485958697, -2.69169618940638, 1.19839281085285], atol=1e-9)
        np.testing.assert_allclose(a1, [1.0, -1.69065929318241, 0.73248077421585], atol=1e-9)
        np.testing.assert_allclose(b2, [1.0, -2.0, 1.0], atol=1e-9)
        np.testing.assert_allclose(a2, [1.0, -1.99004745483398, 0.99007225036621], atol=1e-9)

    def test_it_reads_the_same_at_other_rates_and_one_channel_reads_3_db_less(self):
        for rate in (44_100, 88_200, 96_000):
            with self.subTest(rate):
                self.assertAlmostEqual(lufs(tone((-23.0, 5), rate=rate), rate), -23.0, delta=0.1)
        self.assertAlmostEqual(lufs(tone((0.0, 5), channels=1)), -3.01, delta=0.05)

    def test_silence_and_what_is_too_short_have_none(self):
        self.assertEqual(lufs(np.zeros((RATE, 2))), -math.inf)
        self.assertEqual(lufs(tone((-20.0, 0.3))), -math.inf)

    def test_the_floor_is_its_quietest_stretch(self):
        meter = LoudnessMeter(RATE, 2)
        meter.feed(tone((-20.0, 2), (-60.0, 1), (-20.0, 1)))
        self.assertAlmostEqual(meter.floor_db, -60.0, delta=0.2)
