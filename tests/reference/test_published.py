"""Against published standards and independent libraries; each check names its source."""

import io
import tempfile
from datetime import datetime
from pathlib import Path

import mido
import numpy as np
import pretty_midi
import soundfile
import wavinfo
from django.test import SimpleTestCase

from hypotaxis.core.formats.smf import read_smf, write_smf
from hypotaxis.core.formats.wave import BEXT, Broadcast, read_broadcast, to_int24, write_wave
from hypotaxis.core.session.handover import with_preroll
from hypotaxis.core.units import BYTE_US, ms_to_samples, samples_to_ms
from hypotaxis.demo.compose import tide_tables
from hypotaxis.standin.sound import pitch_hz
from tests.core.formats.test_smf import END, smf


class StandardMidiFileTest(SimpleTestCase):
    def test_variable_length_numbers(self):
        # Standard MIDI File (RP-001), table of examples: number and its bytes, here as delta times.
        table = {
            0x00: "00",
            0x40: "40",
            0x7F: "7f",
            0x80: "81 00",
            0x2000: "c0 00",
            0x3FFF: "ff 7f",
            0x4000: "81 80 00",
            0x100000: "c0 80 00",
            0x1FFFFF: "ff ff 7f",
        }
        for number, written in table.items():
            track = bytes.fromhex(written) + b"\x90\x3c\x64\x10\x80\x3c\x40" + END
            (part,) = read_smf(smf(track, division=0x7FFF)).parts
            self.assertEqual(int(part.notes["tick"][0]), number, written)

    def test_an_independent_reader_finds_the_same_notes_and_times(self):
        # pretty_midi 0.2: seconds of each note by its own tempo map.
        score = tide_tables()
        other = pretty_midi.PrettyMIDI(io.BytesIO(write_smf(score)))
        self.assertEqual(len(other.instruments), len(score.parts))
        for part, instrument in zip(score.parts, other.instruments, strict=True):
            expected = sorted(
                (float(us) / 1e6, int(n))
                for us, n in zip(score.tempo.us_at(part.notes["tick"]), part.notes["note"], strict=True)
            )
            found = sorted((note.start, note.pitch) for note in instrument.notes)
            np.testing.assert_allclose(found, expected, atol=1e-6)

    def test_tempo_changes_agree_with_an_independent_reader(self):
        # mido's own playback times against ours, with a tempo change inside a held note.
        track = mido.MidiTrack(
            [
                mido.MetaMessage("set_tempo", tempo=400_000, time=0),
                mido.Message("note_on", note=60, velocity=90, time=100),
                mido.MetaMessage("set_tempo", tempo=700_000, time=333),
                mido.Message("note_off", note=60, time=777),
                mido.Message("note_on", note=62, velocity=90, time=5),
                mido.Message("note_off", note=62, time=50),
            ]
        )
        file = mido.MidiFile(type=0, ticks_per_beat=96, tracks=[track])
        stream = io.BytesIO()
        file.save(file=stream)
        score = read_smf(stream.getvalue())
        times, now = [], 0.0
        for message in file:
            now += message.time
            if message.type == "note_on":
                times.append(now)
        np.testing.assert_allclose(score.tempo.us_at(score.parts[0].notes["tick"]) / 1e6, times, atol=1e-9)

    def test_the_handover_carries_the_program_changes(self):
        file = mido.MidiFile(file=io.BytesIO(write_smf(with_preroll(tide_tables(), 1))))
        programs = {m.channel + 1: m.program for track in file.tracks for m in track if m.type == "program_change"}
        self.assertEqual(programs, {3: 0, 1: 0, 2: 1})


class BroadcastWaveTest(SimpleTestCase):
    def written(self, samples, **fields):
        path = Path(tempfile.mkdtemp()) / "take.wav"
        bext = Broadcast(**fields)
        with path.open("wb") as stream:
            write_wave(stream, [samples], rate=48000, channels=samples.shape[1], frames=len(samples), bext=bext)
        return path

    def test_the_chunk_has_602_bytes_and_its_fields_in_order(self):
        # EBU Tech 3285, version 2.
        self.assertEqual(BEXT.size, 602)

    def test_an_independent_reader_finds_the_time_reference_and_description(self):
        # wavinfo 4: reads bext on its own. A reference over 32 bits uses both halves of the field.
        for reference in (0, 95_318, 2**32 + 17):
            path = self.written(
                np.zeros((480, 2)),
                description="Tide Tables: Bittern, take 2, placed -682 samples",
                time_reference=reference,
                recorded=datetime(2026, 11, 12, 14, 22, 5),
            )
            bext = wavinfo.WavInfoReader(str(path)).bext
            self.assertEqual(bext.time_reference, reference)
            self.assertEqual(bext.description, "Tide Tables: Bittern, take 2, placed -682 samples")
            self.assertEqual((bext.originator_date, bext.originator_time), ("2026-11-12", "14:22:05"))
            self.assertEqual(bext.version, 2)
            self.assertEqual(read_broadcast(path).time_reference, reference)

    def test_samples_come_back_to_the_bit(self):
        # libsndfile, through soundfile: every 24-bit step that was written is read.
        rng = np.random.default_rng(1)
        steps = rng.integers(-(2**23), 2**23, size=(999, 2))
        path = self.written(steps / 2**23)
        found, rate = soundfile.read(path, dtype="int32", always_2d=True)
        self.assertEqual(rate, 48000)
        np.testing.assert_array_equal(found >> 8, steps)
        self.assertEqual(soundfile.info(path).subtype, "PCM_24")

    def test_an_odd_number_of_bytes_is_padded(self):
        path = self.written(np.full((1, 1), 0.5))
        self.assertEqual(path.stat().st_size % 2, 0)
        self.assertEqual(soundfile.info(path).frames, 1)

    def test_over_four_gigabytes_the_header_is_rf64(self):
        # EBU Tech 3306: RF64 and ds64 carry sizes beyond 32 bits. Only the header is written here.
        class Head(io.BytesIO):
            def write(self, data):
                return super().write(data) if self.tell() < 4096 else len(data)

        head, frames = Head(), 800_000_000
        block = np.zeros((1, 2))
        with self.assertRaisesRegex(ValueError, "1 frames were delivered, 800000000 announced"):
            write_wave(head, [block], rate=48000, channels=2, frames=frames, bext=Broadcast())
        raw = head.getvalue()
        self.assertEqual(raw[:4], b"RF64")
        self.assertEqual(raw[12:16], b"ds64")
        self.assertEqual(int.from_bytes(raw[28:36], "little"), frames * 6)

    def test_beyond_full_scale_is_held(self):
        self.assertEqual(to_int24(np.array([[2.0], [-2.0]])).hex(), "ffff7f000080")


class NumbersTest(SimpleTestCase):
    def test_the_wire(self):
        # MIDI 1.0 Detailed Specification: 31,250 baud, ten bits a byte.
        self.assertEqual(BYTE_US, 10 / 31_250 * 1e6)
        self.assertEqual(8 * BYTE_US, 2560)

    def test_one_buffer_of_256(self):
        # Arithmetic: 256 samples at 48 and 44.1 kHz.
        self.assertAlmostEqual(samples_to_ms(256, 48000), 5.333, places=3)
        self.assertAlmostEqual(samples_to_ms(256, 44100), 5.805, places=3)
        self.assertAlmostEqual(ms_to_samples(14.2, 48000), 681.6)

    def test_pitch(self):
        # Equal temperament from A4 = 440 Hz; pretty_midi's own table as the second way.
        for note in range(128):
            self.assertAlmostEqual(pitch_hz(note), pretty_midi.note_number_to_hz(note), places=6)
