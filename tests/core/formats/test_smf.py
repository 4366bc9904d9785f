"""Reading and writing Standard MIDI Files: round trips, splitting by channel, and files that are refused."""

import io
import struct
from unittest import mock

import mido
import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile, UnsupportedScore
from hypotaxis.core.formats import smf as reader
from hypotaxis.core.formats.smf import read_smf, write_smf
from hypotaxis.core.session.score import CONTROL, NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.demo.compose import tide_tables

END = b"\x00\xff\x2f\x00"


def smf(*tracks: bytes, kind=1, division=480, count=None) -> bytes:
    head = b"MThd" + struct.pack(">LHHH", 6, kind, len(tracks) if count is None else count, division)
    return head + b"".join(b"MTrk" + struct.pack(">L", len(track)) + track for track in tracks)


NOTE_ON_OFF = b"\x00\x90\x3c\x64\x83\x60\x80\x3c\x40"


seven_bits = st.integers(0, 127)
bank = st.one_of(st.none(), seven_bits)
sounds = st.one_of(st.just({}), st.fixed_dictionaries({"program": seven_bits, "msb": bank, "lsb": bank}))


@st.composite
def parts(draw):
    rows, at = [], 0
    for _ in range(draw(st.integers(1, 20))):
        at += draw(st.integers(0, 2000))
        rows.append(
            (
                at,
                draw(st.one_of(st.just(0), st.integers(1, 3000))),
                draw(st.integers(0, 127)),
                draw(st.integers(1, 127)),
            )
        )
    # One pitch at a time: two notes on one key have no owner for their ends in the file format.
    kept, free_at = [], {}
    for row in rows:
        if row[0] >= free_at.get(row[2], 0):
            kept.append(row)
            free_at[row[2]] = row[0] + row[1]
    notes = np.array(kept, dtype=NOTE)
    notes = notes[np.argsort(notes, order=("tick", "note"), kind="stable")]
    status = st.sampled_from([0xA0, 0xB0, 0xE0])
    controls = draw(st.lists(st.tuples(st.integers(0, 9000), status, st.integers(0, 127), st.integers(0, 127))))
    controls = sorted(controls, key=lambda row: row[0])
    return notes, np.array(controls, dtype=CONTROL) if controls else no_controls()


class RoundTripTest(SimpleTestCase):
    def assert_same(self, one: Score, other: Score):
        self.assertEqual(one.tempo, other.tempo)
        self.assertEqual(one.end_tick, other.end_tick)
        self.assertEqual(len(one.parts), len(other.parts))
        for part, twin in zip(one.parts, other.parts, strict=True):
            self.assertEqual((part.name, part.channel, part.sound), (twin.name, twin.channel, twin.sound))
            np.testing.assert_array_equal(part.notes, twin.notes)
            np.testing.assert_array_equal(part.controls, twin.controls)

    def test_the_demo_session(self):
        score = tide_tables()
        self.assert_same(read_smf(write_smf(score)), score)

    @settings(max_examples=60)
    @given(parts(), st.integers(1, 16), sounds, st.sampled_from([24, 96, 480, 960]))
    def test_any_part(self, part, channel, sound, tpq):
        notes, controls = part
        tempo = TempoMap(tpq, ((0, 500_000), (960, 400_000)), ((0, 3, 4), (2880, 7, 8)))
        # A piece ends where its last note ends, or later.
        end = max(20_000, int((notes["tick"] + notes["duration"]).max()))
        score = Score(tempo, (ScorePart("Lïne", channel, notes, controls, **sound),), end)
        self.assert_same(read_smf(write_smf(score)), score)


class ReadTest(SimpleTestCase):
    def test_a_track_with_several_channels_is_split(self):
        # Channels 1 and 10 in one track of a type 0 file, with a name and a program each.
        track = (
            b"\x00\xff\x03\x04Duet\x00\xc0\x05\x00\xc9\x07"
            b"\x00\x90\x3c\x64\x00\x99\x24\x70\x60\x80\x3c\x40\x00\x89\x24\x40" + END
        )
        score = read_smf(smf(track, kind=0))
        found = [(p.name, p.channel, p.program, p.notes["note"].tolist()) for p in score.parts]
        self.assertEqual(found, [("Duet, channel 1", 1, 5, [60]), ("Duet, channel 10", 10, 7, [36])])

    def test_running_status_velocity_zero_and_a_note_left_open(self):
        track = b"\x00\x90\x3c\x64\x60\x3c\x00\x00\x40\x50\x60\xff\x2f\x00"
        (part,) = read_smf(smf(track)).parts
        self.assertEqual(part.notes.tolist(), [(0, 96, 60, 100), (96, 96, 64, 80)])

    def test_the_sound_in_force_at_the_first_note_is_taken_out_and_outdates_those_before(self):
        # Kept as a control, program 1 would be written behind program 2 and the box would answer with it.
        track = b"\x00\xc0\x01\x00\xc0\x02" + NOTE_ON_OFF + b"\x00\xc0\x03" + END
        (part,) = read_smf(smf(track)).parts
        self.assertEqual(part.program, 2)
        self.assertEqual(part.controls["data1"].tolist(), [3])

    def test_bank_select_leaves_before_its_program(self):
        # MIDI 1.0: a bank select (controllers 0 and 32) takes effect at the next program change; read back by mido.
        bank = b"\x00\xb0\x00\x03\x00\xb0\x20\x04\x00\xc0\x05"
        later = b"\x00\xb0\x00\x07"
        for name, head, kept in [
            ("together", bank, []),
            ("with another controller between", b"\x00\xb0\x00\x03\x00\xb0\x07\x64" + bank[4:], [7]),
            ("over an older sound", b"\x00\xb0\x00\x01\x00\xc0\x01" + bank, []),
            ("and a bank that waits", bank + later, [0]),
        ]:
            with self.subTest(name):
                score = read_smf(smf(head + NOTE_ON_OFF + END))
                (part,) = score.parts
                self.assertEqual((part.program, part.msb, part.lsb), (5, 3, 4))
                self.assertEqual(part.controls["data1"].tolist(), kept)
                written = [
                    m.bytes() for m in mido.MidiFile(file=io.BytesIO(write_smf(score))).tracks[1] if not m.is_meta
                ]
                self.assertEqual(written[:3], [[0xB0, 0, 3], [0xB0, 32, 4], [0xC0, 5]])

    def test_a_bank_without_a_program_stays_where_it_is(self):
        (part,) = read_smf(smf(b"\x00\xb0\x00\x03" + NOTE_ON_OFF + b"\x00\xb0\x20\x04" + END)).parts
        self.assertIsNone(part.program)
        self.assertEqual(part.controls["data1"].tolist(), [0, 32])

    def test_a_note_of_no_length_ends_before_its_key_is_struck_again(self):
        notes = np.array([(0, 480, 60, 90), (0, 0, 60, 100), (480, 0, 60, 70)], dtype=NOTE)
        data = write_smf(Score(TempoMap(), (ScorePart("Flam", 1, notes, no_controls()),), 960))
        sent = [(m.type, m.velocity) for m in mido.MidiFile(file=io.BytesIO(data)).tracks[1] if not m.is_meta]
        on, off = "note_on", "note_off"
        self.assertEqual(sent, [(on, 100), (off, 64), (on, 90), (off, 64), (on, 70), (off, 64)])
        read = read_smf(data).parts[0].notes.tolist()
        self.assertEqual(sorted(read), sorted(notes.tolist()))

    def test_system_exclusive_is_counted_and_said(self):
        track = b"\x00\xf0\x05\x7e\x7f\x06\x01\xf7" + NOTE_ON_OFF + END
        self.assertIn("1 system exclusive", read_smf(smf(track)).remarks[0])

    def test_tempo_from_any_track_counts_for_all(self):
        conductor = b"\x00\xff\x58\x04\x03\x02\x18\x08\x00\xff\x51\x03\x0a\x2c\x2a" + END
        score = read_smf(smf(conductor, NOTE_ON_OFF + END))
        self.assertEqual((score.tempo.tempos, score.tempo.meters), (((0, 666_666),), ((0, 3, 4),)))

    def test_files_that_are_refused_say_why(self):
        good = NOTE_ON_OFF + END
        far = b"\xff\xff\xff\x7f\x90\x3c\x64" + END
        cases = [
            (b"RIFF....", UnreadableFile, "not a Standard MIDI File"),
            (b"MThd\x00\x00", UnreadableFile, "breaks off in its header"),
            (smf(good, kind=2), UnsupportedScore, "type 2"),
            (smf(good, kind=7), UnreadableFile, "of type 7"),
            (smf(good, division=0xE728), UnsupportedScore, "SMPTE"),
            (smf(good, division=0), UnsupportedScore, "zero ticks"),
            (smf(good)[:-6], UnreadableFile, "track 1 should have 13 bytes, 7 are there"),
            (smf(good, count=3), UnreadableFile, "declares 3 tracks, 1 are there"),
            (smf(count=0), UnreadableFile, "no tracks"),
            (smf(b"\x00\xff\x51\x03\x00\x00\x00" + good), UnsupportedScore, "tempo of zero at tick 0"),
            (smf(b"\x00\xff\x58\x04\x00\x02\x18\x08" + good), UnsupportedScore, "meter of 0/4"),
            (smf(far, division=24), UnsupportedScore, r"lasts \d+\.\d hours"),
            (smf(good, b"\x00\x90\x3c"), UnreadableFile, "Track 2 cannot be read"),
            (smf(b"\x00\x90\x3c\xff" + END), UnreadableFile, "Track 1 cannot be read"),
            (smf(b"\x00\xff\x59\x02\x50\x00" + END), UnreadableFile, "Track 1 cannot be read"),
        ]
        for data, error, reason in cases:
            with self.subTest(reason), self.assertRaisesRegex(error, reason):
                read_smf(data)

    def test_more_than_a_million_events_are_refused(self):
        track = b"\x00\x90\x3c\x64" + b"\x00\x3c\x64" * 400 + END
        with mock.patch.object(reader, "MAX_EVENTS", 1000), self.assertRaisesRegex(UnsupportedScore, "1,000 events"):
            read_smf(smf(track, track, track))
        self.assertEqual(reader.MAX_EVENTS, 1_000_000)

    @settings(max_examples=150)
    @given(st.data())
    def test_damaged_files_are_refused_by_name_or_read(self, data):
        whole = bytearray(smf(b"\x00\xff\x51\x03\x07\xa1\x20" + END, b"\x00\xc0\x05" + NOTE_ON_OFF + END))
        for _ in range(data.draw(st.integers(1, 4))):
            whole[data.draw(st.integers(4, len(whole) - 1))] = data.draw(st.integers(0, 255))
        try:
            read_smf(bytes(whole))
        except UnreadableFile as error:
            self.assertTrue(str(error))
