"""The count on a screen, by value: 120 BPM is a beat every 500 ms."""

import unittest

from hypotaxis.core.session.count import Beat, beat_at, coming_beats
from hypotaxis.core.session.tempo import TempoMap

FOUR = TempoMap(480, ((0, 500_000),), ((0, 4, 4),))
THREE = TempoMap(480, ((0, 500_000),), ((0, 3, 4), (3 * 480, 4, 4)))


class CountTest(unittest.TestCase):
    def test_a_place_in_the_bars_is_its_beat(self):
        for at_s, beat in ((0, ("1", 1)), (0.499, ("1", 1)), (0.5, ("1", 2)), (1.999, ("1", 4)), (2, ("2", 1))):
            with self.subTest(at_s=at_s):
                self.assertEqual(beat_at(FOUR, at_s * 1e6, 1), Beat(*beat, 4))

    def test_what_lies_before_the_first_bar_is_counted_down(self):
        for at_s, beat in ((-0.5, ("−1", 4)), (-0.01, ("−1", 4)), (-2, ("−1", 1)), (-2.2, ("−2", 4)), (-4, ("−2", 1))):
            with self.subTest(at_s=at_s):
                self.assertEqual(beat_at(FOUR, at_s * 1e6, 1), Beat(*beat, 4))
        self.assertEqual(beat_at(FOUR, 3.8e6, 3), Beat("−1", 4, 4))

    def test_the_next_beats_are_told_with_their_time_across_meters(self):
        coming = coming_beats(THREE, 0.9e6, 2.1e6, 1)
        self.assertEqual(
            [(round(one.in_ms), one.beat) for one in coming],
            [(100, Beat("1", 3, 3)), (600, Beat("2", 1, 4)), (1100, Beat("2", 2, 4))],
        )

    def test_a_count_in_goes_on_into_the_first_bar(self):
        coming = coming_beats(FOUR, 2.9e6, 4.6e6, 3)
        told = [(round(one.in_ms), one.beat.bar, one.beat.beat) for one in coming]
        self.assertEqual(told, [(100, "−1", 3), (600, "−1", 4), (1100, "3", 1), (1600, "3", 2)])
