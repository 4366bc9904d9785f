"""The queue on a DIN wire: the specification's own numbers, files byte for byte, and a second, slower queue.

Source: MIDI 1.0 Detailed Specification (31,250 baud, ten bits a byte; running status; real-time bytes between any two
bytes) and RP-001 (Standard MIDI Files). Each figure follows from 320 µs a byte.
"""

import io
import struct

import mido
import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile, UnsupportedScore
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.formats.smf_traffic import read_traffic
from hypotaxis.core.midi.wire import Traffic, send
from hypotaxis.core.studio import Message
from hypotaxis.core.timing.remedies import late_notes, remedies, thin, traffic_of
from hypotaxis.core.timing.wires import wire_report
from hypotaxis.demo.compose import tide_tables
from tests.core.formats.test_smf import END, smf
from tests.core.standin.test_desk import queued

NS = 1000


def traffic(rows, clocks=()):
    """Traffic in nanoseconds: rows of (time, bytes)."""
    times, messages = [time for time, _ in rows], [data for _, data in rows]
    return Traffic(
        ready=np.array(times, dtype=np.int64),
        statuses=np.array([data[0] for data in messages], dtype=np.int64),
        sizes=np.array([len(data) for data in messages], dtype=np.int64),
        parts=np.array([(data[0] & 15) + 1 if data[0] < 0xF0 else 0 for data in messages], dtype=np.int64),
        clocks=np.array(clocks, dtype=np.int64),
        per_us=NS,
    )


def chord(count=10, status=0x90):
    return [(0, bytes([status, 60 + n, 100])) for n in range(count)]


class WireTest(SimpleTestCase):
    def test_the_specifications_numbers(self):
        cases = [
            # Ten notes on one tick: the last byte of the last stands 9.60 ms behind, 6.72 ms with running status.
            (chord(), False, 9.60, 8.64),
            (chord(), True, 6.72, 6.08),
            # A system exclusive message of 4,096 bytes takes 1.311 s.
            ([(0, bytes([0xF0, *[0] * 4094, 0xF7]))], False, 1310.72, 0.0),
            # Bank select in both bytes and program change: 2.56 ms, 2.24 ms with running status between controllers.
            ([(0, b"\xb0\x00\x51"), (0, b"\xb0\x20\x03"), (0, b"\xc0\x07")], False, 2.56, 1.92),
            ([(0, b"\xb0\x00\x51"), (0, b"\xb0\x20\x03"), (0, b"\xc0\x07")], True, 2.24, 1.6),
        ]
        for rows, running, arrival, wait in cases:
            report = wire_report(send(traffic(rows), running_status=running))
            self.assertAlmostEqual(report.max_arrival_ms, arrival, 2)
            self.assertAlmostEqual(report.max_wait_ms, wait, 6)

    def test_running_status_survives_pauses_and_clock_and_not_system_messages(self):
        note, exclusive = b"\x90\x3c\x64", b"\xf0\x7d\xf7"
        rows = [(0, note), (10**9, note), (2 * 10**9, exclusive), (3 * 10**9, note)]
        sent = send(traffic(rows, clocks=[5 * 10**8]), running_status=True)
        self.assertEqual(sent.sizes.tolist(), [3, 2, 3, 3])
        self.assertEqual(sent.byte_count, 12)

    def test_a_clock_goes_between_two_bytes_and_waits_at_most_for_one(self):
        # Handed over 100 µs into the first byte of a note: it goes after that byte, the note's rest 320 µs later.
        sent = send(traffic([(0, b"\x90\x3c\x64")], clocks=[100_000]))
        self.assertEqual((sent.clock_start.tolist(), sent.end.tolist()), ([320_000], [1_280_000]))
        self.assertAlmostEqual(sent.clock_waits_ms.max(), 0.22, 6)
        together = send(traffic([(0, b"\x90\x3c\x64")], clocks=[0]))
        self.assertEqual((together.clock_start.tolist(), together.start.tolist()), ([0], [320_000]))

    def test_the_busiest_second_slides(self):
        # Clock alone at 120 BPM: 48 bytes in a second, 1.54 % (MIDI 1.0 Detailed Specification).
        clocks = (np.arange(480) * 1e9 / 48).astype(int)
        self.assertAlmostEqual(send(traffic([], clocks)).utilisation_peak(), 48 * 320e-6, 6)
        # 1,000 bytes from 0.9 s to 1.22 s, 2,000 from 1.5 s to 2.14 s: the second that ends there lacks the pause.
        rows = [(9 * 10**8, bytes([0xF0, *[0] * 998, 0xF7])), (15 * 10**8, bytes([0xF0, *[0] * 1998, 0xF7]))]
        self.assertAlmostEqual(send(traffic(rows)).utilisation_peak(), 1 - (1.5 - 1.22), 6)
        self.assertEqual(send(traffic([])).utilisation_peak(), 0.0)

    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(st.tuples(st.integers(0, 4_000_000), st.sampled_from((0x90, 0x81, 0xC2, 0xF0))), max_size=25),
        st.lists(st.integers(0, 6_000_000), max_size=12),
    )
    def test_the_same_as_a_queue_that_goes_byte_by_byte(self, rows, clocks):
        data = {0x90: b"\x90\x3c\x64", 0x81: b"\x81\x3c\x40", 0xC2: b"\xc2\x05", 0xF0: b"\xf0\x7d\x01\x02\xf7"}
        rows = sorted((time, data[status]) for time, status in rows)
        sent = send(traffic(rows, sorted(clocks)))
        handed = sorted([*rows, *((time, b"\xf8") for time in clocks)], key=lambda one: one[0])
        ends, clock_ends, plain = [], [], iter([len(message) for _, message in rows])
        left = next(plain, 0)
        for end, byte in queued(handed):
            if byte == 0xF8:
                clock_ends.append(end - 320_000)
                continue
            left -= 1
            if left == 0:
                ends.append(end)
                left = next(plain, 0)
        self.assertEqual((sent.end.tolist(), sent.clock_start.tolist()), (ends, clock_ends))


class TrafficTest(SimpleTestCase):
    def test_tracks_go_in_their_order_at_one_time_and_the_tempo_map_is_exact(self):
        tempo = b"\x00\xff\x51\x03\x07\xa1\x21" + END  # 500,001 µs a quarter
        first = b"\x83\x60\x90\x3c\x64" + END  # at tick 480
        second = b"\x83\x60\x91\x3c\x64\x00\xf0\x03\x7d\x01\xf7" + END
        found = read_traffic(smf(tempo, first, second))
        self.assertEqual((found.statuses.tolist(), found.sizes.tolist()), ([0x90, 0x91, 0xF0], [3, 3, 4]))
        self.assertEqual((found.ready / found.per_us).tolist(), [500_001.0] * 3)
        self.assertEqual(found.parts.tolist(), [1, 2, 0])

    def test_the_same_messages_at_the_same_times_as_an_independent_reader(self):
        # mido merges tracks by time, those of one time in the order of the tracks, and reckons with the tempo map.
        data = write_smf(tide_tables())
        found, now, expected = read_traffic(data), 0.0, []
        for message in mido.MidiFile(file=io.BytesIO(data)):
            now += message.time
            if not message.is_meta:
                expected.append((round(now * 1e6), message.bytes()[0], len(message.bytes())))
        times = np.rint(found.ready / found.per_us).astype(int).tolist()
        self.assertEqual(list(zip(times, found.statuses.tolist(), found.sizes.tolist(), strict=True)), expected)

    def test_clock_runs_from_tick_zero_to_the_last_message(self):
        # Two quarters at 120 BPM: 49 clocks, 20.833 ms apart (numbers: 2500/BPM).
        found = read_traffic(smf(b"\x87\x40\x90\x3c\x64" + END), clock=True)
        self.assertEqual(len(found.clocks), 49)
        self.assertAlmostEqual(found.clocks[1] / found.per_us, 20_833.333, 2)
        report = wire_report(send(found))
        self.assertEqual((report.messages, report.bytes, report.clocks), (1, 52, 49))
        self.assertEqual(report.max_wait_ms, 0.32, "the clock on its tick goes first")

    def test_what_cannot_be_read_is_refused_with_the_place(self):
        cases = [
            (b"RIFF", UnreadableFile, "not a Standard MIDI File"),
            (smf(b"\x00\x3c\x64" + END), UnreadableFile, "data byte 3C stands where a message should begin"),
            (smf(b"\x00\xf4" + END), UnreadableFile, "F4 is no event of a file, at byte 1"),
            (smf(b"\x00\x90\x3c"), UnreadableFile, "it breaks off"),
            (smf(b"\x00\xf0\x7f\x01"), UnreadableFile, "it breaks off"),
            (smf(b"\xff\xff\xff\xff\x00" + END), UnreadableFile, "more than four bytes"),
            (smf(b"\x00\xff\x51\x03\x00\x00\x00" + END), UnsupportedScore, "tempo of zero"),
            (smf(END, division=0xE728), UnsupportedScore, "SMPTE"),
            (smf(b"\xff\xff\xff\x7f\x90\x3c\x64" + END, division=1), UnsupportedScore, "hours"),
        ]
        for data, error, words in cases:
            with self.subTest(words), self.assertRaisesRegex(error, words):
                read_traffic(data, clock=True)
        slow = struct.pack(">B", 0) + b"\xff\x51\x03\x00\x00\x01" + b"\xff\xff\xff\x7f\x90\x3c\x64" + END
        with self.assertRaisesRegex(UnsupportedScore, "clocks"):
            read_traffic(smf(slow, division=1), clock=True)


class RemediesTest(SimpleTestCase):
    """A pad with a swept filter and a drum on one wire: what each remedy would give, by 320 µs a byte."""

    def setUp(self):
        messages = [Message(0, "out", bytes([0x90, 60 + n, 100])) for n in range(4)]
        messages += [Message(n * 2_000_000, "out", bytes([0xB0, 74, n])) for n in range(50)]
        messages += [Message(0, "out", b"\x99\x24\x64"), Message(60_000_000, "out", b"\x99\x24\x64")]
        self.messages = sorted(messages, key=lambda message: message.time_ns)
        self.none = np.zeros(0, dtype=np.int64)

    def found(self, free=("out 6",)):
        boxes, names = {1: "Sedge", 10: "Alder"}, {1: "Sedge pad", 10: "Alder kit"}
        return {one.name: one for one in remedies(self.messages, self.none, names=names, boxes=boxes, free=free)}

    def test_each_remedy_has_its_figures_before_and_after(self):
        found = self.found()
        # Now the drum waits for four notes and a controller: 15 bytes.
        now = {part: before for part, before, _ in found["running status"].by_part}
        self.assertAlmostEqual(now[10].max_wait_ms, 15 * 0.32)
        # Running status: 3 + 3·2 bytes of notes, 3 of the controller before it.
        after = {part: then for part, _, then in found["running status"].by_part}
        self.assertAlmostEqual(after[10].max_wait_ms, 12 * 0.32)
        # Apart, the drum never waits, and the pad's first controller waits for its own four notes.
        own = found["Sedge on a wire of its own"]
        self.assertAlmostEqual(own.moved.max_wait_ms, 12 * 0.32)
        self.assertEqual(own.then.max_wait_ms, 0.0)
        self.assertIn("Plug Sedge into out 6", own.told)
        self.assertNotIn("Sedge on a wire of its own", self.found(free=()))

    def test_thinned_controllers_keep_their_pace_and_their_last_value(self):
        kept = thin(self.messages)
        controls = [(m.time_ns, m.data[2]) for m in kept if m.data[0] == 0xB0]
        self.assertEqual(controls[0], (0, 0))
        self.assertEqual(controls[-1], (98_000_000, 49), "where it comes to rest")
        gaps = np.diff([time for time, _ in controls[:-1]])
        self.assertTrue((gaps >= 10_000_000).all())
        self.assertEqual(len([m for m in kept if m.data[0] != 0xB0]), 6, "notes stay")
        banks = [Message(n, "out", bytes([0xB0, number, 1])) for n, number in enumerate((0, 32, 64, 64, 6, 101))]
        self.assertEqual(thin(banks), banks)

    def test_notes_beyond_a_limit_are_counted_by_part(self):
        sent = send(traffic_of(self.messages, self.none))
        self.assertEqual(late_notes(sent, 3.0), {1: (0, 4), 10: (1, 2)})
        self.assertEqual(late_notes(sent, 2.0), {1: (1, 4), 10: (1, 2)})
