"""Straightening against figures by hand, and doubled notes planted and found, none where there are none."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.doubled_notes import doubled_notes, without_doubled
from hypotaxis.core.session.score import NOTE
from hypotaxis.core.session.straighten import Straightening, straightened
from hypotaxis.core.session.tempo import TempoMap

TEMPO = TempoMap(480, ((0, 625_000),))
"""96 BPM: a tick is 1.302 ms."""


def rows(*ticks: int, note: int = 60, velocity: int = 90) -> np.ndarray:
    return np.array([(tick, 100, note, velocity) for tick in ticks], dtype=NOTE)


def ticks(notes: np.ndarray, **how) -> list[int]:
    return straightened(notes, how.pop("tempo", TEMPO), Straightening(**how))["tick"].tolist()


class StraightenTest(SimpleTestCase):
    def test_notes_go_to_the_nearest_place_with_their_length(self):
        moved = straightened(rows(5, 110, 125, 1915), TEMPO, Straightening())
        self.assertEqual(moved["tick"].tolist(), [0, 120, 120, 1920])
        self.assertEqual(set(moved["duration"].tolist()), {100})

    def test_strength_goes_part_of_the_way_and_a_window_leaves_what_is_far(self):
        self.assertEqual(ticks(rows(20, 130), strength=0.5), [10, 125])
        # Half a sixteenth is 60 ticks; of it a half.
        self.assertEqual(ticks(rows(29, 31), window=0.5), [0, 31])

    def test_swing_stands_where_the_figures_say(self):
        # numbers.md: at 96 BPM 58 % puts the second sixteenth at 181.25 ms instead of 156.25: 25.0 ms later.
        (tick,) = ticks(rows(118), swing=58.0)
        self.assertAlmostEqual(float(TEMPO.us_at(tick)) / 1000, 181.25, delta=0.7)
        self.assertEqual(ticks(rows(118, 230), swing=66.7), [160, 240])
        # What is nearer to the swung place before it goes back to it.
        self.assertEqual(ticks(rows(250), swing=75.0), [240])

    def test_triplets_and_bars_of_other_lengths(self):
        self.assertEqual(ticks(rows(150, 330), division="1/8 triplet"), [160, 320])
        odd = TempoMap(480, ((0, 500_000),), ((0, 7, 8),))
        # A bar of seven eighths has 1,680 ticks: quarters begin anew with it.
        self.assertEqual(ticks(rows(1600, 1690, 2150), division="1/4", tempo=odd), [1680, 1680, 2160])

    def test_nonsense_is_refused(self):
        for how, told in (
            ({"division": "1/5"}, "is no division: 1/4"),
            ({"swing": 80.0}, "A swing of 80 % is none"),
            ({"strength": 1.5}, "Strength goes from 0 to 100 %"),
        ):
            with self.subTest(told), self.assertRaisesMessage(BadBars, told):
                Straightening(**how)

    @given(st.lists(st.integers(0, 20_000), max_size=40), st.sampled_from(["1/8", "1/16", "1/16 triplet"]))
    def test_what_is_straight_stays_and_nothing_moves_by_more_than_half_a_division(self, places, division):
        notes = rows(*sorted(places))
        once = straightened(notes, TEMPO, Straightening(division=division))
        self.assertEqual(once["tick"].tolist(), ticks(once, division=division))
        half = {"1/8": 120, "1/16": 60, "1/16 triplet": 40}[division]
        away = np.abs(np.sort(once["tick"]) - np.sort(notes["tick"]))
        self.assertLessEqual(int(away.max(initial=0)), half)


class DoubledTest(SimpleTestCase):
    part = rows(0, 480, 960, 1440)

    def with_more(self, shifts, velocity: int = 90) -> np.ndarray:
        more = self.part.copy()
        more["tick"] += np.array(shifts)
        more["velocity"] = velocity
        both = np.concatenate([self.part, more])
        return both[np.argsort(both["tick"], kind="stable")]

    def test_each_path_is_found_and_told_apart_and_taken_out_in_one_move(self):
        for shifts, cause in (
            ([0, 0, 0, 0], "brought in twice, or a loop went round twice"),
            ([6, 6, 6, 6], "always some 7.8 ms behind the first: two routes"),
            ([1, 9, 3, 11], "a generator was left on"),
        ):
            with self.subTest(cause):
                notes = self.with_more(shifts)
                found = doubled_notes(notes, TEMPO)
                self.assertEqual(found.count, 4)
                self.assertIn(cause, found.cause)
                self.assertEqual(without_doubled(notes, found)["tick"].tolist(), self.part["tick"].tolist())

    def test_flams_repeats_and_chords_are_none(self):
        for notes in (
            self.part,
            rows(),
            self.with_more([8, 8, 8, 8], velocity=50),
            self.with_more([40, 40, 40, 40]),
            np.concatenate([self.part, rows(0, 480, 960, 1440, note=64)]),
        ):
            self.assertEqual(doubled_notes(notes, TEMPO).count, 0)
