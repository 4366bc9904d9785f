"""What a pass sends, byte by byte."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.session.schedule import LEAD_IN_S, TAIL_S, PlayedPart, plan_run
from hypotaxis.core.session.score import CONTROL, NOTE, no_controls
from hypotaxis.core.session.tempo import TempoMap

TEMPO = TempoMap(480, ((0, 500_000),))


def part(rows, controls=(), **fields):
    notes = np.array(rows, dtype=NOTE)
    kept = np.array(list(controls), dtype=CONTROL) if controls else no_controls()
    return PlayedPart(**({"port": "out", "channel": 3, "notes": notes, "controls": kept} | fields))


def run(*parts, first_bar=1, last_bar=1, tempo=TEMPO, rate=48000):
    return plan_run(parts, tempo, first_bar=first_bar, last_bar=last_bar, sample_rate=rate)


class ScheduleTest(SimpleTestCase):
    def test_bytes_and_times(self):
        # MIDI 1.0: 92 3C 64 is note on, channel 3, note 60, velocity 100; C2 05 program 5.
        plan = run(part([(0, 480, 60, 100)], calls=(b"\xc2\x05",)))
        sent = [(message.time_ns, message.data.hex(" ")) for message in plan.messages]
        lead = round(LEAD_IN_S * 1e9)
        self.assertEqual(sent, [(0, "c2 05"), (lead, "92 3c 64"), (lead + 500_000_000, "82 3c 40")])

    def test_the_run_begins_before_the_sessions_zero(self):
        plan = run(part([(0, 480, 60, 100)]))
        self.assertEqual(plan.first_sample, -24000)
        self.assertEqual(plan.frames, round((LEAD_IN_S + 2.0 + TAIL_S) * 48000))

    def test_only_the_bars_are_played_and_their_notes_end_with_them(self):
        rows = [(0, 480, 60, 100), (1920, 480, 62, 100), (3600, 4000, 64, 100), (3840, 480, 65, 100)]
        plan = run(part(rows), first_bar=2, last_bar=2)
        notes = [m.data[1] for m in plan.messages if m.data[0] == 0x92]
        self.assertEqual(notes, [62, 64])
        self.assertEqual(plan.messages[-1].time_ns, round((LEAD_IN_S + 2.0) * 1e9))

    def test_a_repeated_note_ends_before_it_begins_again(self):
        plan = run(part([(0, 480, 60, 100), (480, 480, 60, 90)]))
        self.assertEqual([m.data[0] & 0xF0 for m in plan.messages], [0x90, 0x80, 0x90, 0x80])

    def test_a_note_of_no_length_ends_behind_its_beginning_and_before_its_key_is_struck_again(self):
        plan = run(part([(0, 480, 60, 90), (0, 0, 60, 100)]))
        sent = [(m.data[0], m.data[2]) for m in plan.messages]
        self.assertEqual(sent, [(0x92, 100), (0x82, 64), (0x92, 90), (0x82, 64)])
        self.assertEqual(plan.messages[0].time_ns, plan.messages[2].time_ns)

    def test_the_sound_in_force_is_sent_as_one_thing(self):
        # Bank MSB 3 stands with the track, its LSB and another program come along the way, then a bank that waits.
        controls = [(0, 0xB0, 32, 4), (0, 0xB0, 7, 90), (960, 0xC0, 9, 0), (970, 0xB0, 0, 1)]
        calls = (b"\xb2\x00\x03", b"\xc2\x05")
        plan = run(part([(1920, 480, 60, 100)], controls, calls=calls), first_bar=2, last_bar=2)
        early = [m.data.hex(" ") for m in plan.messages if m.time_ns == 0]
        self.assertEqual(early, ["b2 00 03", "b2 20 04", "c2 09", "b2 07 5a", "b2 00 01"])

    def test_a_sound_along_the_way_goes_early_with_its_bank_but_not_before_the_note_ahead(self):
        # At 120 BPM a tick is 1/960 s; the box wants 100 ms. The bank at tick 500 waits for the program at 940.
        notes = [(0, 400, 60, 100), (480, 100, 62, 100), (960, 400, 64, 100), (1000, 100, 65, 100)]
        controls = [(500, 0xB0, 0, 3), (940, 0xB0, 32, 4), (940, 0xC0, 9, 0), (980, 0xC0, 7, 0), (990, 0xB0, 0, 6)]
        plan = run(part(notes, controls, gap_ms=100))
        ms = {m.data.hex(" "): m.time_ns / 1e6 - 1000 * LEAD_IN_S for m in plan.messages}
        self.assertAlmostEqual(ms["b2 00 03"], 500 / 0.96, delta=0.001)
        self.assertAlmostEqual(ms["b2 20 04"], 900.0, delta=0.001)
        self.assertAlmostEqual(ms["c2 09"], 900.0, delta=0.001)
        self.assertAlmostEqual(ms["c2 07"], 1000.0, delta=0.001)
        self.assertGreater(ms["c2 07"], 1000.0)
        self.assertAlmostEqual(ms["b2 00 06"], 990 / 0.96, delta=0.001)

    def test_a_sound_that_should_go_before_the_run_goes_with_its_beginning(self):
        plan = run(part([(10, 100, 60, 100)], [(5, 0xC0, 9, 0)], gap_ms=2000))
        times = {m.data.hex(" "): m.time_ns for m in plan.messages}
        self.assertEqual(times["c2 09"], 0)

    def test_controls_in_force_are_sent_in_the_lead_in_the_last_value_only(self):
        controls = [(0, 0xB0, 7, 90), (100, 0xB0, 7, 100), (200, 0xE0, 0, 64), (300, 0xB0, 1, 5), (1920, 0xB0, 7, 80)]
        plan = run(part([(1920, 480, 60, 100)], controls), first_bar=2, last_bar=2)
        early = [m.data.hex(" ") for m in plan.messages if m.time_ns == 0]
        self.assertEqual(early, ["b2 07 64", "e2 00 40", "b2 01 05"])
        self.assertIn("b2 07 50", [m.data.hex(" ") for m in plan.messages if m.time_ns > 0])

    def test_one_byte_messages_have_one_data_byte(self):
        plan = run(part([(0, 480, 60, 100)], [(0, 0xD0, 33, 0), (0, 0xC0, 9, 0)]))
        self.assertEqual({len(m.data) for m in plan.messages if m.data[0] in (0xC2, 0xD2)}, {2})

    def test_several_parts_are_merged_in_time(self):
        plan = run(part([(0, 240, 60, 100), (480, 240, 61, 100)]), part([(240, 240, 62, 100)], channel=4))
        times = [message.time_ns for message in plan.messages]
        self.assertEqual(times, sorted(times))
        self.assertEqual([m.data[1] for m in plan.messages if m.data[0] & 0xF0 == 0x90], [60, 62, 61])

    def test_positions_are_whole_samples_at_every_rate(self):
        tempo = TempoMap(480, ((0, 437_956),))
        for rate in (44100, 48000, 96000):
            with self.subTest(rate):
                plan = run(part([(1920 * 6, 480, 60, 100)]), first_bar=7, last_bar=7, tempo=tempo, rate=rate)
                expected = float(tempo.samples_at(1920 * 6, rate)) - plan.first_sample
                self.assertAlmostEqual(plan.messages[0].time_ns * rate / 1e9, expected, delta=0.001)

    def test_bars_that_make_no_sense_are_refused(self):
        for first, last in ((0, 1), (3, 2)):
            with self.subTest(first=first), self.assertRaisesRegex(CannotSchedule, "cannot be recorded"):
                run(part([(0, 480, 60, 100)]), first_bar=first, last_bar=last)
        with self.assertRaisesRegex(CannotSchedule, "four hours"):
            run(part([(0, 480, 60, 100)]), last_bar=10_000)
