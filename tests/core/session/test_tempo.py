"""Ticks, bars and samples, against hand calculation and numbers of the trade."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.session.tempo import Position, TempoMap


class TempoTest(SimpleTestCase):
    def test_one_tempo(self):
        # 96 BPM: a quarter is 625 ms; bar 9 of 4/4 begins after 32 quarters = 20 s.
        tempo = TempoMap(480, ((0, 625_000),))
        self.assertEqual(float(tempo.us_at(480)), 625_000)
        self.assertEqual(float(tempo.samples_at(tempo.bar_tick(9), 48000)), 20 * 48000)
        self.assertEqual(tempo.bpm_at(0), 96)

    def test_without_a_tempo_it_is_120(self):
        # Standard MIDI File (RP-001): 500,000 µs a quarter where nothing is said.
        self.assertEqual(TempoMap().bpm_at(0), 120)

    def test_a_tempo_change_counts_from_its_tick(self):
        tempo = TempoMap(480, ((0, 500_000), (960, 250_000)))
        self.assertEqual(tempo.us_at(np.array([960, 1440])).tolist(), [1_000_000, 1_250_000])
        self.assertEqual(tempo.tick_at_us(1_250_000), 1440)

    def test_positions_read_from_one(self):
        tempo = TempoMap(480)
        self.assertEqual(str(tempo.position(tempo.bar_tick(9) + 2 * 480)), "bar 9, beat 3, sixteenth 1")
        self.assertEqual(tempo.position(480 - 1), Position(1, 1, 4))

    def test_meters_change_the_bars(self):
        tempo = TempoMap(480, meters=((0, 4, 4), (2 * 1920, 3, 4), (2 * 1920 + 2 * 1440, 7, 8)))
        self.assertEqual([tempo.bar_tick(bar) for bar in (2, 3, 4, 5, 6)], [1920, 3840, 5280, 6720, 6720 + 7 * 240])
        self.assertEqual(tempo.position(6720 + 240), Position(5, 2, 1))
        self.assertEqual([tempo.beats_in_bar(bar) for bar in (1, 3, 5)], [4, 3, 7])

    def test_a_meter_inside_a_bar_begins_a_new_bar(self):
        tempo = TempoMap(480, meters=((0, 4, 4), (960, 3, 4)))
        self.assertEqual(tempo.position(960), Position(2, 1, 1))
        self.assertEqual(tempo.bar_tick(2), 960)

    def test_half_and_double_time_counts(self):
        # 8 bars of 4/4 are 32 beats, 128 sixteenths, 768 clocks at 24 a quarter (arithmetic).
        tempo = TempoMap(24)
        self.assertEqual(tempo.bar_tick(9), 768)

    @given(
        st.lists(st.tuples(st.integers(1, 5000), st.integers(50_000, 2_000_000)), max_size=12),
        st.integers(24, 960),
        st.integers(0, 100_000),
    )
    def test_ticks_come_back_from_their_time(self, steps, tpq, tick):
        tempos, at = [(0, 500_000)], 0
        for step, us in steps:
            at += step
            tempos.append((at, us))
        tempo = TempoMap(tpq, tuple(tempos))
        # A hair later, so that rounding of the double cannot fall before the tick.
        self.assertEqual(tempo.tick_at_us(float(tempo.us_at(tick)) + 1e-3), tick)
        self.assertGreater(float(tempo.us_at(tick + 1)), float(tempo.us_at(tick)))
