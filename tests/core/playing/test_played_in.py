"""What arrives from hands becomes notes: pairs, controls, what is left out and said; the click to play to."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.playing.count_in import Beat, ClickTrack, beats
from hypotaxis.core.playing.played_in import fine_enough, laid_in, played_in
from hypotaxis.core.session.arrange import Part
from hypotaxis.core.session.score import CONTROL, NOTE, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message

AT_125 = TempoMap(480, ((0, 480_000),))
"""A tick is a millisecond."""


KEYS = st.tuples(st.integers(0, 1800), st.integers(1, 400), st.integers(0, 127), st.integers(1, 127))


def heard(*rows, port: str = "keys") -> list[Message]:
    """(ms, bytes as hexadecimal digits)."""
    return [Message(round(ms * 1e6), port, bytes.fromhex(data)) for ms, data in rows]


def notes_of(messages, **how) -> list[tuple]:
    found = played_in(messages, AT_125, **{"zero_ns": 0.0, "first_tick": 0, "end_tick": 1920} | how)
    return found.rounds[0].notes.tolist()


class PlayedInTest(SimpleTestCase):
    def test_what_is_taken_off_moves_all_of_it_and_zero_is_where_the_session_begins(self):
        played = heard((1020, "90 3c 64"), (1520, "80 3c 00"))
        self.assertEqual(notes_of(played), [(1020, 500, 60, 100)])
        self.assertEqual(notes_of(played, zero_ns=1e9, off_ms=20.0), [(0, 500, 60, 100)])

    def test_a_note_on_without_velocity_ends_and_a_key_struck_again_begins_anew(self):
        played = heard((0, "90 3c 64"), (100, "90 3c 50"), (300, "90 3c 00"))
        self.assertEqual(notes_of(played), [(0, 100, 60, 100), (100, 200, 60, 80)])

    def test_two_keyboards_and_channels_hold_their_own_keys(self):
        played = heard((0, "90 3c 64")) + heard((10, "91 3c 65")) + heard((20, "90 3c 66"), port="pads")
        ends = heard((50, "80 3c 00")) + heard((60, "81 3c 00")) + heard((70, "80 3c 00"), port="pads")
        self.assertEqual(notes_of([*played, *ends]), [(0, 50, 60, 100), (10, 50, 60, 101), (20, 50, 60, 102)])

    def test_pressure_bend_sustain_and_controllers_are_kept_as_they_are(self):
        played = heard((5, "b0 40 7f"), (6, "d0 33"), (7, "a0 3c 12"), (8, "e0 01 40"), (9, "b0 01 02"))
        found = played_in(played, AT_125, zero_ns=0, first_tick=0, end_tick=1920).rounds[0].controls.tolist()
        self.assertEqual(
            found, [(5, 0xB0, 64, 127), (6, 0xD0, 51, 0), (7, 0xA0, 60, 18), (8, 0xE0, 1, 64), (9, 0xB0, 1, 2)]
        )

    def test_what_is_not_of_the_bars_and_not_of_a_part_is_left_out_and_said(self):
        played = heard(
            (-400, "90 30 40"), (-20, "90 31 40"), (100, "f8"), (101, "fe"), (102, "c0 05"), (103, "f0 7e f7"),
            (104, "90 3c"), (1900, "90 32 40"), (1000, "90 33 40"), (1500, "90 34 40"),
        )  # fmt: skip
        found = played_in(sorted(played, key=lambda m: m.time_ns), AT_125, zero_ns=0, first_tick=0, end_tick=1920)
        self.assertEqual(
            found.rounds[0].notes.tolist(), [(0, 1920, 0x31, 64), (1000, 920, 0x33, 64), (1500, 420, 0x34, 64)]
        )
        self.assertEqual(
            found.told,
            (
                "1 note before the first bar left out.",
                "1 note behind the last bar left out.",
                "3 keys were still down at the end of the bars, and let go there.",
                "1 program change not kept: a track calls its own sound.",
                "1 SysEx message not kept.",
                "1 broken message left out.",
            ),
        )

    def test_each_time_round_is_folded_into_the_same_bars(self):
        # Two bars of 1.92 s: in the first round a key that is held over the wrap, in the second one that is struck 10
        # ms before it, for its first beat.
        played = heard(
            (1800, "90 3c 40"), (2500, "80 3c 00"), (3830, "90 3e 41"), (4000, "80 3e 00"), (4200, "90 40 42")
        )
        found = played_in(played, AT_125, zero_ns=0, first_tick=0, end_tick=1920, times=3)
        self.assertEqual([part.notes.tolist() for part in found.rounds], [
            [(1800, 120, 60, 64)], [], [(0, 160, 62, 65), (360, 1560, 64, 66)],
        ])  # fmt: skip
        self.assertEqual(len(found.whole(anew=False).notes), 3)
        self.assertEqual(found.whole(anew=True).notes.tolist(), [(0, 160, 62, 65), (360, 1560, 64, 66)])

    def test_bars_begun_anew_cut_what_reaches_into_them(self):
        was = Part(np.array([(0, 900, 50, 1), (500, 10, 51, 1), (960, 10, 52, 1)], dtype=NOTE), no_controls())
        came = Part(np.array([(490, 10, 60, 9)], dtype=NOTE), np.array([(500, 0xB0, 1, 2)], dtype=CONTROL))
        anew = laid_in(was, came, first_tick=480, end_tick=960, anew=True)
        self.assertEqual(anew.notes.tolist(), [(0, 480, 50, 1), (490, 10, 60, 9), (960, 10, 52, 1)])
        self.assertEqual(len(laid_in(was, came, first_tick=480, end_tick=960, anew=False).notes), 4)

    @given(
        st.lists(
            st.tuples(st.integers(0, 1800), st.integers(1, 400), st.integers(0, 127), st.integers(1, 127)), max_size=30
        )
    )
    def test_every_key_that_is_let_go_is_a_note_with_its_times(self, rows):
        # One at a time a key, as a key can be struck.
        kept, busy = [], {}
        for start, length, note, velocity in sorted(rows):
            if start >= busy.get(note, 0):
                kept.append((start, min(length, 1920 - start), note, velocity))
                busy[note] = start + length
        played = [(start, f"90{note:02x}{velocity:02x}") for start, _, note, velocity in kept]
        played += [(start + length, f"80{note:02x}00") for start, length, note, _ in kept]
        # An end that falls on a beginning of the same key comes first.
        found = notes_of(heard(*sorted(played, key=lambda row: (row[0], row[1][:2] == "90"))))
        self.assertEqual(found, sorted(kept, key=lambda row: (row[0], row[2])))

    def test_a_pad_that_sends_5000_messages_a_second_loses_none(self):
        pressures = [(tick, f"d0{tick % 128:02x}") for tick in range(0, 1920) for _ in range(5)]
        arrived = heard((0, "903c50"), *pressures, (1900, "803c00"))
        found = played_in(arrived, AT_125, zero_ns=0.0, first_tick=0, end_tick=1920)
        (part,) = found.rounds
        # What comes in the last 25 ms is meant for the bar behind them.
        self.assertEqual((len(part.notes), len(part.controls)), (1, 5 * 1895))
        self.assertTrue((np.diff(part.controls["tick"]) >= 0).all())

    def test_ticks_are_fine_enough_for_hands_or_not(self):
        self.assertTrue(fine_enough(TempoMap(480, ((0, 500_000),))))
        self.assertFalse(fine_enough(TempoMap(480, ((0, 500_000), (480, 1_000_000)))))


class ClickTest(SimpleTestCase):
    def test_it_counts_in_at_the_first_bars_pace_and_accents_its_bars(self):
        tempo = TempoMap(480, ((0, 500_000), (1920, 250_000)), ((0, 2, 4),))
        found = beats(tempo, first_bar=1, last_bar=3, count_in=1, first_s=1.5)
        self.assertEqual(found[:4], [Beat(0.5, True), Beat(1.0, False), Beat(1.5, True), Beat(2.0, False)])
        self.assertEqual([one.at_s for one in found[4:]], [2.5, 3.0, 3.5, 3.75])

    def test_a_clicks_edge_is_its_first_sample_whatever_the_blocks(self):
        click = ClickTrack([Beat(0.1, True), Beat(0.2, False)], rate=48_000, level_db=-6.0)
        whole = click(0, 12_000)
        pieces = np.concatenate([click(start, 512) for start in range(0, 12_000, 512)])[:12_000]
        np.testing.assert_array_equal(whole, pieces)
        self.assertEqual(int(np.flatnonzero(whole)[0]), 4_800)
        self.assertAlmostEqual(whole[4_800], 10 ** (-6 / 20), places=9)
        self.assertAlmostEqual(whole[9_600], 10 ** (-15 / 20), places=9)
