"""Drift taken out of a recording, against impulses whose places are known."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.timing.aligning import anchor_samples, fitted, miss_ms, shifted

RATE = 48_000


class FittedTest(SimpleTestCase):
    def test_every_impulse_stands_where_its_note_is(self):
        # Notes every half second; their sounds 700 samples late at zero and drifting by 250 ppm, 12 samples a second.
        moments = np.arange(24_000, 24_000 * 60, 24_000)
        places = 700 + moments * (1 + 250e-6)
        sound = np.zeros((24_000 * 62, 1), dtype=np.float32)
        around = np.arange(-40, 41)
        for place in places:
            at = round(place) + around
            sound[at, 0] += np.sinc(0.5 * (at - place)) * np.hanning(83)[1:-1]
        blocks = [sound[start : start + 10_000] for start in range(0, len(sound), 10_000)]
        found = np.concatenate(list(fitted(blocks, rate=RATE, channels=1, drift_ppm=250.0)))[:, 0]
        earlier = anchor_samples(moment=moments[10], late_samples=places[10] - moments[10], drift_ppm=250.0)
        tops = [int(np.argmax(np.abs(found[m + 600 : m + 800]))) + m + 600 for m in moments]
        self.assertLess(np.abs(np.array(tops) - round(earlier) - moments).max(), 2)
        one_shift = np.abs(places - moments - np.median(places - moments)).max() / 48
        self.assertAlmostEqual(
            miss_ms(places[0] / 48 - moments[0] / 48, places[-1] / 48 - moments[-1] / 48), one_shift, 2
        )

    @settings(max_examples=30, deadline=None)
    @given(st.integers(-500, 900), st.lists(st.integers(1, 300), min_size=1, max_size=6))
    def test_shifted_blocks_lose_or_gain_only_their_beginning(self, earlier, sizes):
        whole = np.arange(sum(sizes), dtype=np.float32)[:, None] + 1
        cuts = np.split(whole, np.cumsum(sizes)[:-1])
        found = [block for block in shifted(cuts, earlier) if len(block)]
        joined = np.concatenate(found) if found else whole[:0]
        expected = np.concatenate([np.zeros((max(0, -earlier), 1), np.float32), whole[max(0, earlier) :]])
        np.testing.assert_array_equal(joined, expected)
