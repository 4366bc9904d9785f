"""Audio files of unknown origin: what is accepted, and the reason for what is not."""

import struct
import tempfile
from pathlib import Path

import numpy as np
import soundfile
from django.test import SimpleTestCase

from hypotaxis.core.errors import UnreadableFile, UnsupportedRecording
from hypotaxis.core.formats.audio import check_audio
from hypotaxis.core.formats.wave import Broadcast, write_wave
from hypotaxis.core.timing.recording import open_recording

SOUND = 0.3 * np.sin(np.arange(48_000) / 20)


class AudioTest(SimpleTestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def write(self, name: str, samples=SOUND, rate=48_000, **options) -> Path:
        path = self.folder / name
        soundfile.write(path, samples, rate, **options)
        return path

    def raw(self, name: str, data: bytes) -> Path:
        path = self.folder / name
        path.write_bytes(data)
        return path

    def test_the_usual_formats_are_read(self):
        # Written by libsndfile: every container, width and rate that is promised.
        table = [
            ("plain.wav", "WAV", {"subtype": "PCM_16"}),
            ("wide.wav", "WAV", {"subtype": "PCM_32"}),
            ("float.wav", "WAV", {"subtype": "FLOAT"}),
            ("extensible.wav", "WAV", {"format": "WAVEX", "subtype": "PCM_24"}),
            ("long.wav", "WAV", {"format": "RF64", "subtype": "PCM_24"}),
            ("apple.aiff", "AIFF", {"subtype": "PCM_24"}),
            ("small.flac", "FLAC", {"subtype": "PCM_24"}),
            ("lossy.ogg", "Ogg", {"subtype": "VORBIS"}),
        ]
        for name, kind, options in table:
            with self.subTest(name):
                facts = check_audio(self.write(name, np.stack([SOUND, SOUND], axis=1), **options))
                self.assertEqual((facts.kind, facts.channels, facts.frames), (kind, 2, 48_000))
        for rate in (8_000, 11_025, 44_100, 96_000, 192_000):
            self.assertEqual(check_audio(self.write("rate.wav", rate=rate)).rate, rate)

    def test_a_time_reference_is_seen(self):
        path = self.folder / "placed.wav"
        with path.open("wb") as stream:
            bext = Broadcast(time_reference=96_000)
            write_wave(stream, [SOUND[:, None]], rate=48_000, channels=1, frames=len(SOUND), bext=bext)
        self.assertEqual(check_audio(path).time_reference, 96_000)

    def test_files_that_hold_less_than_they_declare(self):
        for name in ("cut.aiff", "cut.ogg"):
            with self.subTest(name), self.assertRaisesRegex(UnreadableFile, "less than it declares|breaks off"):
                whole = self.write(name).read_bytes()
                check_audio(self.raw(name, whole[:-600]))
        head = self.write("head.wav").read_bytes()
        with self.assertRaisesRegex(UnreadableFile, "breaks off before its data"):
            check_audio(self.raw("head.wav", head[:30]))

    def test_a_wav_of_unknown_size_is_what_is_there(self):
        # Streamed files have all ones or zero in their sizes; a copy that broke off declares more than is there.
        unknown, short = "does not say how long", "holds less than it declares: 96,000 bytes of sound, 95,400"
        ones, nothing = b"\xff" * 4, bytes(4)
        cases = [
            ("WAV", ones, 0, 48_000, unknown),
            ("WAV", nothing, 0, 48_000, unknown),
            ("WAV", nothing, 3, 47_998, unknown),
            ("WAVEX", ones, 0, 48_000, unknown),
            ("WAV", None, 600, 47_700, short),
            ("RF64", ones * 2, 0, 48_000, unknown),
            ("RF64", nothing * 2, 0, 48_000, unknown),
        ]
        for container, size, missing, frames, remark in cases:
            with self.subTest(container=container, size=size, missing=missing):
                path = self.write("streamed.wav", format=container, subtype="PCM_16")
                data = bytearray(path.read_bytes())
                at = data.find(b"ds64") + 16 if container == "RF64" else data.find(b"data") + 4
                data[at : at + len(size or b"")] = size or b""
                facts = check_audio(self.raw("streamed.wav", bytes(data[: len(data) - missing])))
                self.assertEqual(facts.frames, frames)
                self.assertIn(remark, facts.remark)
                read = open_recording(path).piece(0, 0, frames)
                np.testing.assert_allclose(read, SOUND[:frames], atol=2**-15)
        self.assertEqual(check_audio(self.write("sound.wav")).remark, "")

    def test_a_wav_that_says_it_is_empty_and_is(self):
        data = self.write("none.wav", np.zeros(0)).read_bytes()
        with self.assertRaisesRegex(UnreadableFile, "no samples"):
            check_audio(self.raw("none.wav", data + b"LIST\x04\0\0\0INFO"))

    def test_what_cannot_be_measured_says_why(self):
        with self.assertRaisesRegex(UnsupportedRecording, "3 channels; one or two"):
            check_audio(self.write("three.wav", np.zeros((100, 3))))
        with self.assertRaisesRegex(UnreadableFile, "no samples"):
            check_audio(self.write("none.wav", np.zeros(0)))
        for rate in (4_000, 384_000):
            with self.assertRaisesRegex(UnsupportedRecording, f"{rate} samples a second; 8000 to 192000"):
                check_audio(self.write("rate.wav", rate=rate))

    def test_hostile_and_foreign_files(self):
        fmt = struct.pack("<4sIHHIIHH", b"fmt ", 16, 1, 1, 0xFFFFFFFF, 0xFFFFFFFF, 2, 16)
        absurd = b"RIFF" + struct.pack("<I", 36 + 8) + b"WAVE" + fmt + struct.pack("<4sI", b"data", 8) + bytes(8)
        cases = {
            "is an empty file": b"",
            "no WAV, AIFF, FLAC or Ogg": b"MThd" + bytes(60),
            "MP3 files begin late": b"ID3" + bytes(60),
            "samples a second|cannot be decoded": absurd,
            "cannot be decoded|no samples": b"fLaC" + bytes(60),
            "its last page is missing": b"OggS" + bytes(60),
            "no format before its data": b"RIFF\x24\0\0\0WAVEdata\x08\0\0\0" + bytes(8),
        }
        for reason, data in cases.items():
            with self.subTest(reason), self.assertRaisesRegex(UnreadableFile, reason):
                check_audio(self.raw("odd.wav", data))
