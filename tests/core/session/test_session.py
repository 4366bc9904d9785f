"""Passes, meters, try-outs, clicks and the handover's time line."""

import math

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import CannotSchedule, SharedReturn
from hypotaxis.core.playing.plain_sound import plain_sound
from hypotaxis.core.playing.tryout import (
    LOUDEST_CHORD,
    PlayedNote,
    explain,
    explain_demo,
    looped,
    plan_tryout,
    together,
    usual_note,
)
from hypotaxis.core.session.glue import click, with_clicks
from hypotaxis.core.session.handover import file_line, with_preroll
from hypotaxis.core.session.listening import FULL_SCALE, InputMeter
from hypotaxis.core.session.passes import ArmedTrack, check_pass, inputs_of, live_return_silent
from hypotaxis.core.session.takes import start_of
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.demo.compose import saltmarsh_room, tide_tables
from tests.rooms import add_boxes, change, instrument_named, small_room, uid_of


def armed(plan, *names):
    return [ArmedTrack(name, name, instrument_named(plan, name)) for name in names]


class PassTest(SimpleTestCase):
    def test_several_instruments_go_into_one_pass(self):
        plan = small_room()
        tracks = armed(plan, "Alder kit", "Bittern", "Sedge upper")
        check_pass(plan, tracks)
        names = [use.name for use in inputs_of(plan, [t.instrument for t in tracks])]
        self.assertEqual(names, ["line in 5", "line in 6", "line in 3", "line in 1", "line in 2"])

    def test_two_parts_on_one_return_are_refused_with_the_reason(self):
        plan = small_room()
        with self.assertRaisesRegex(SharedReturn, "Sedge upper and Sedge lower both come home on line in 1–2"):
            check_pass(plan, armed(plan, "Sedge upper", "Sedge lower"))

    def test_what_lacks_something_is_refused(self):
        plan = small_room()
        cases = [
            ([], "No track is armed"),
            ([ArmedTrack("x", "Lead", None)], "Lead has no instrument"),
            (armed(change(plan, "Bittern", send=""), "Bittern"), "no send socket"),
            (armed(change(plan, "Bittern", returns=()), "Bittern"), "no return"),
            (armed(change(plan, "Bittern", returns=("gone",)), "Bittern"), "is gone"),
        ]
        two = add_boxes(plan, ("interface-8", "Pier"))
        beside = change(two, "Bittern", returns=(uid_of(two, "Pier", "line in 1"),))
        with self.assertRaisesRegex(
            CannotSchedule, "comes home on Pier, and sound is recorded by one interface, Quays"
        ):
            check_pass(beside, armed(beside, "Bittern"))
        for tracks, reason in cases:
            with self.subTest(reason), self.assertRaisesRegex(CannotSchedule, reason):
                check_pass(plan, tracks)

    def test_the_live_return_is_silent_while_its_take_exists_or_is_made(self):
        table = {(False, False): False, (True, False): True, (False, True): True, (True, True): True}
        for (take, recording), silent in table.items():
            self.assertEqual(live_return_silent(take, recording), silent)


class MeterTest(SimpleTestCase):
    def test_peak_is_held_and_silence_is_minus_infinity(self):
        meter = InputMeter("in")
        meter.feed(np.zeros(10))
        self.assertEqual(meter.level_db, -math.inf)
        meter.feed(np.array([0.0, -0.5, 0.25]))
        meter.feed(np.array([0.1]))
        self.assertAlmostEqual(meter.peak_db, -6.02, places=2)
        self.assertAlmostEqual(meter.level_db, -20.0, places=2)

    def test_a_held_peak_falls_after_its_time_or_at_a_reset(self):
        kept, falling = InputMeter("a"), InputMeter("b", hold_frames=100)
        for meter in (kept, falling):
            for height in (0.5, 0.25, 0.25, 0.25):
                meter.feed(np.full(50, height, dtype=np.float32))
        self.assertAlmostEqual(kept.held_db, -6.02, places=2)
        self.assertAlmostEqual(falling.held_db, -12.04, places=2)
        kept.feed(np.ones(50, dtype=np.float32))
        self.assertEqual(kept.clips, 1)
        kept.reset()
        self.assertEqual((kept.held_db, kept.clips, kept.peak_db), (-np.inf, 0, 0.0))

    def test_a_clip_is_three_samples_in_a_row_at_full_scale(self):
        # Common practice: three or more consecutive samples at full scale.
        full = FULL_SCALE
        for samples, clips in (([full, full], 0), ([full] * 3, 1), ([-1.0] * 9, 1), ([full] * 3 + [0] + [full] * 4, 2)):
            meter = InputMeter("in")
            meter.feed(np.array(samples))
            self.assertEqual(meter.clips, clips)

    @given(st.lists(st.booleans(), max_size=60), st.integers(1, 7))
    def test_clips_do_not_depend_on_how_the_run_is_cut(self, full, size):
        samples = np.where(np.array(full, dtype=bool), 1.0, 0.0)
        whole, pieces = InputMeter("in"), InputMeter("in")
        whole.feed(samples)
        for start in range(0, len(samples), size):
            pieces.feed(samples[start : start + size])
        self.assertEqual(pieces.clips, whole.clips)


class TryOutTest(SimpleTestCase):
    def test_the_note_to_begin_with_leaves_by_what_is_cabled_to_the_return(self):
        # General MIDI percussion: 36 bass drum 1, 38 acoustic snare.
        plan = saltmarsh_room()
        notes = {
            name: usual_note(plan, instrument_named(plan, name)) for name in ("Sedge upper", "Alder kit", "Alder kick")
        }
        self.assertEqual(notes, {"Sedge upper": 60, "Alder kit": 38, "Alder kick": 36})
        small = small_room()
        self.assertEqual(usual_note(small, instrument_named(small, "Alder kit")), 36)

    def test_the_message_is_a_note_on_the_instruments_channel(self):
        plan = small_room()
        tryout = plan_tryout(plan, instrument_named(plan, "Alder kit"), together([(36, 100)], 0.5))
        self.assertEqual([message.data.hex(" ") for message in tryout.messages], ["99 24 64", "89 24 40"])

    def test_a_pattern_is_looped_and_offs_go_before_ons(self):
        plan = small_room()
        notes = looped([PlayedNote(0.0, 0.5, 60, 100), PlayedNote(0.5, 0.5, 60, 90)], 1.0)
        self.assertEqual((len(notes), notes[-1].start_s), (120, 59.5))
        tryout = plan_tryout(plan, instrument_named(plan, "Bittern"), notes)
        statuses = [message.data[0] & 0xF0 for message in tryout.messages]
        self.assertEqual(statuses, [0x90, 0x80] * 120)
        self.assertEqual(tryout.messages[2].time_ns - tryout.messages[0].time_ns, 500_000_000)

    def test_the_way_home_alone_is_judged_by_what_moves_while_the_box_plays(self):
        plan = small_room()
        bittern = instrument_named(plan, "Bittern")
        line = {number: uid_of(plan, "Quayside 18", f"line in {number}") for number in (1, 3)}
        self.assertIn("its way home is whole", explain_demo(plan, bittern, [line[3]])[0])
        self.assertIn("choose that as the return", explain_demo(plan, bittern, [line[1]])[1][0])
        self.assertIn("start its demo on the box", explain_demo(plan, bittern, [])[1][0])

    def test_the_plain_sound_has_the_pitch_of_equal_temperament(self):
        # ISO 16: note 69 (A4) is 440 Hz; numpy's transform finds the strongest line.
        for note, hertz in ((69, 440.0), (57, 220.0), (60, 261.6256)):
            samples = plain_sound([PlayedNote(0.0, 1.0, note, 100)], 48000)[:48000]
            spectrum = np.abs(np.fft.rfft(samples * np.hanning(len(samples)), 16 * len(samples)))
            self.assertAlmostEqual(np.argmax(spectrum) / 16, hertz, delta=0.2)
        loudest = plain_sound([PlayedNote(0.0, 0.5, note, 127) for note in LOUDEST_CHORD], 48000)
        self.assertLess(np.abs(loudest).max(), 1.0)
        self.assertEqual(len(plain_sound([], 48000)), 24000)

    def test_what_moved_is_put_in_words(self):
        plan = small_room()
        kit = instrument_named(plan, "Alder kit")
        line = {number: uid_of(plan, "Quayside 18", f"line in {number}") for number in range(1, 9)}
        self.assertEqual(explain(plan, kit, [line[5], line[6]]), ("It came home on line in 5–6.", []))
        self.assertIn("Only Quayside 18 line in 5 moved", explain(plan, kit, [line[5]])[0])
        verdict, causes = explain(plan, kit, [line[1]])
        self.assertEqual(verdict, "Nothing came home on line in 5–6.")
        self.assertIn("Quayside 18 line in 1 moved instead", causes[0])
        self.assertIn("another channel than 10", causes[1])

    def test_what_the_sheet_knows_comes_first(self):
        plan = small_room(whole=False)
        _, causes = explain(plan, instrument_named(plan, "Bittern"), [])
        self.assertEqual(causes[0], "On the sheet no cable brings Bittern home to line in 3.")

    def test_without_a_send_socket_nothing_is_played(self):
        plan = change(small_room(), "Bittern", send="")
        with self.assertRaisesRegex(CannotSchedule, "nowhere to send"):
            plan_tryout(plan, instrument_named(plan, "Bittern"), together([(60, 1)], 1))


class GlueTest(SimpleTestCase):
    def test_clicks_stand_at_their_moments_however_the_blocks_are_cut(self):
        sound = click(48000)
        for size in (100, 1000, 10_000):
            blocks = (np.zeros((min(size, 10_000 - at), 1)) for at in range(0, 10_000, size))
            mixed = np.concatenate(list(with_clicks(blocks, np.array([950.0, 9900.0]), rate=48000)))[:, 0]
            self.assertEqual(int(np.flatnonzero(mixed)[0]), 950)
            np.testing.assert_allclose(mixed[950 : 950 + len(sound)], sound)
            np.testing.assert_allclose(mixed[9900:], sound[:100])

    def test_a_click_before_the_first_block_is_no_error(self):
        (block,) = with_clicks(iter([np.zeros((600, 2))]), np.array([-300.0]), rate=48000)
        np.testing.assert_allclose(block[:, 0], np.pad(click(48000)[300:], (0, 600))[:600])


class HandoverTest(SimpleTestCase):
    def test_the_files_begin_whole_bars_early_when_a_take_does(self):
        tempo = TempoMap(480, ((0, 625_000),))
        # 96 BPM in 4/4: a bar is 2.5 s, 120,000 samples at 48 kHz (arithmetic).
        line = file_line(tempo, [-24_682, 480_000], 48000)
        self.assertEqual((line.bars, line.samples), (1, 120_000))
        self.assertEqual(line.reference(-24_682), 95_318)
        self.assertEqual(file_line(tempo, [0, 100], 48000).bars, 0)
        self.assertEqual(file_line(tempo, [], 48000).bars, 0)
        self.assertEqual(file_line(tempo, [-120_001], 48000).bars, 2)

    def test_notes_move_with_the_files_beginning(self):
        score = tide_tables()
        moved = with_preroll(score, 1)
        self.assertEqual(moved.tempo.tempos, score.tempo.tempos)
        np.testing.assert_array_equal(moved.parts[0].notes["tick"], score.parts[0].notes["tick"] + 1920)
        self.assertIs(with_preroll(score, 0), score)

    def test_a_placed_take_starts_earlier_by_its_lateness(self):
        self.assertEqual(start_of(-24_000, -682), -24_682)
        self.assertEqual(start_of(-24_000, None), -24_000)
