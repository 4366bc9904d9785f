"""Bars, tempo, meter and pace of a piece: by value, and that what is changed comes back exactly."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.arrange import (
    Part,
    Piece,
    Section,
    doubled,
    empty,
    in_double_time,
    in_half_time,
    notes_beyond,
    with_bars,
    with_meter,
    with_section,
    with_tempo,
)
from hypotaxis.core.session.score import CONTROL, NOTE
from hypotaxis.core.session.tempo import TempoMap


def piece(rows, *, bars: int = 4, controls=(), tempo: TempoMap | None = None) -> Piece:
    tempo = tempo or TempoMap(480, ((0, 500_000),))
    part = Part(np.array(rows, dtype=NOTE), np.array(list(controls), dtype=CONTROL))
    return Piece(tempo, tempo.bar_tick(bars + 1), (), {"one": part})


def rows_of(one: Piece) -> list[tuple]:
    return one.parts["one"].notes.tolist()


class ArrangeTest(SimpleTestCase):
    def test_an_empty_piece_has_its_bars(self):
        one = empty(bpm=96, beats=3, unit=4, bars=16)
        self.assertEqual((one.bars, one.end_tick, one.tempo.tempos), (16, 16 * 1440, ((0, 625_000),)))
        self.assertTrue(one.is_empty)

    def test_tempo_changes_where_it_is_said_and_what_changes_nothing_is_left_out(self):
        one = with_tempo(empty(bpm=120, beats=4, unit=4, bars=8), bar=3, beat=2, bpm=60)
        self.assertEqual(one.tempo.tempos, ((0, 500_000), (2 * 1920 + 480, 1_000_000)))
        self.assertEqual(with_tempo(one, bar=5, bpm=60).tempo.tempos, one.tempo.tempos)
        self.assertEqual(with_tempo(one, bar=3, beat=2, bpm=None).tempo.tempos, ((0, 500_000),))

    def test_an_empty_piece_keeps_its_number_of_bars_one_with_notes_its_notes(self):
        one = with_meter(empty(bpm=120, beats=4, unit=4, bars=8), bar=5, meter=(3, 4))
        self.assertEqual((one.bars, one.end_tick), (8, 4 * 1920 + 4 * 1440))
        waltz = with_meter(piece([(4 * 1920 - 480, 480, 60, 90)]), bar=1, meter=(3, 4))
        # 16 quarters are five bars of three and one begun.
        self.assertEqual((waltz.bars, rows_of(waltz)), (6, [(4 * 1920 - 480, 480, 60, 90)]))

    def test_shorter_cuts_what_lies_behind_and_says_how_much(self):
        one = piece([(0, 4000, 60, 90), (1920, 10, 61, 90), (3840, 10, 62, 90)], controls=[(3900, 0xB0, 1, 2)])
        self.assertEqual(notes_beyond(one, 1), 2)
        cut = with_bars(one, 1)
        self.assertEqual((rows_of(cut), len(cut.parts["one"].controls), cut.end_tick), ([(0, 1920, 60, 90)], 0, 1920))

    def test_doubled_has_everything_once_more(self):
        one = with_section(with_tempo(piece([(0, 480, 60, 90)], bars=2), bar=2, bpm=60), bar=2, name=" Bridge ")
        twice = doubled(one)
        self.assertEqual(rows_of(twice), [(0, 480, 60, 90), (3840, 480, 60, 90)])
        self.assertEqual(twice.tempo.tempos, ((0, 500_000), (1920, 1_000_000), (3840, 500_000), (5760, 1_000_000)))
        self.assertEqual(twice.sections, (Section(1920, "Bridge"), Section(5760, "Bridge")))

    def test_half_time_grows_where_it_must(self):
        slow = in_half_time(piece([(1920, 480, 60, 90)], bars=2))
        self.assertEqual((rows_of(slow), slow.bars), ([(3840, 960, 60, 90)], 3))

    def test_what_makes_no_sense_is_refused_with_the_range(self):
        one = piece([])
        for change, told in (
            (lambda: with_tempo(one, bar=1, bpm=5), "5 BPM is no tempo that can be played here: 10 to 400 are."),
            (lambda: with_tempo(one, bar=9, bpm=99), "There is no bar 9: the session has 4."),
            (lambda: with_tempo(one, bar=1, beat=5, bpm=99), "Bar 1 has 4 beats, so there is no beat 5."),
            (lambda: with_tempo(one, bar=1, bpm=None), "Bar 1 needs a tempo"),
            (lambda: with_meter(one, bar=1, meter=(4, 3)), "4/3 is no meter: 1 to 32 beats of 1, 2, 4, 8, 16, 32."),
            (lambda: with_meter(piece([], tempo=TempoMap(10)), bar=1, meter=(3, 16)), "does not fall on this"),
            (lambda: with_bars(one, 0), "A session has 1 to 9,999 bars, not 0."),
            (lambda: with_section(one, bar=1, name="n" * 41), "at most 40 letters"),
        ):
            with self.subTest(told), self.assertRaisesMessage(BadBars, told):
                change()

    @given(
        st.lists(
            st.tuples(st.integers(0, 7600), st.integers(0, 4000), st.integers(0, 127), st.integers(1, 127)), max_size=20
        )
    )
    def test_double_time_and_half_time_bring_each_other_back(self, rows):
        one = piece(sorted(rows), bars=8)
        back = in_half_time(in_double_time(one))
        pace = back.tempo.ticks_per_quarter // 480
        there = [(tick * pace, duration * pace, note, velocity) for tick, duration, note, velocity in rows_of(one)]
        self.assertEqual(rows_of(back), there)
        # As long as before, and each note at the same moment.
        self.assertEqual(float(back.tempo.us_at(back.end_tick)), float(one.tempo.us_at(one.end_tick)))
