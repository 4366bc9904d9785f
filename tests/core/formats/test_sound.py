"""Sounds as files: what two independent readers (libsndfile, wavinfo) find in them; rates; the side that is dead."""

import io
import tempfile
from datetime import datetime
from pathlib import Path

import numpy as np
import soundfile
import wavinfo
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.formats.flactake import pack_take, unpack_take
from hypotaxis.core.formats.sound import FLAC, FORMS, WAVE, WAVE_FLOAT, Form, at_rate, resampled, write_sound
from hypotaxis.core.formats.wave import FLOAT32, Broadcast, Naming, wave_head, write_wave
from hypotaxis.core.mixing.one_sided import live_side

BEXT = Broadcast(
    description="Übung", recorded=datetime(2026, 11, 3, 10, 20), time_reference=2**33 + 5, history="A=PCM,F=48000"
)
NAMING = Naming("Tide <Tables> & Co", "Alder kit, take 1", "placed −12 \x07 samples", ("Küche left", "水 right"))


class FormsTest(SimpleTestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.sound = np.random.default_rng(1).uniform(-1, 1, (4801, 2))

    def written(self, kind: str, sound: np.ndarray, rate: int = 48_000) -> Path:
        path = self.folder / "made"
        with path.open("w+b") as stream:
            form = Form(kind, rate, sound.shape[1], len(sound))
            write_sound(stream, np.array_split(sound, 3), form, bext=BEXT, naming=NAMING)
        return path

    def test_each_form_holds_its_samples_place_and_names(self):
        subtypes = {WAVE: "PCM_24", WAVE_FLOAT: "FLOAT", FLAC: "PCM_24"}
        for kind in FORMS:
            with self.subTest(kind):
                path = self.written(kind, self.sound)
                info = soundfile.info(path)
                self.assertEqual((info.frames, info.channels, info.subtype), (4801, 2, subtypes[kind]))
                found = soundfile.read(path, always_2d=True)[0]
                np.testing.assert_allclose(found, self.sound, atol=2**-23 if kind != WAVE_FLOAT else 2**-24)
                if kind == FLAC:
                    with soundfile.SoundFile(path) as source:
                        self.assertEqual(source.title, NAMING.take)
                        self.assertIn(f"time reference {BEXT.time_reference} samples", source.comment)
                    continue
                read = wavinfo.WavInfoReader(str(path))
                self.assertEqual(read.bext.time_reference, BEXT.time_reference)
                self.assertEqual(read.bext.coding_history.strip("\0\r\n"), BEXT.history)
                self.assertEqual(read.ixml.project, NAMING.project)
                self.assertEqual([track.name for track in read.ixml.track_list], list(NAMING.channels))
                self.assertEqual(read.data.frame_count, 4801)

    def test_float_keeps_what_goes_beyond_full_scale_and_24_bits_hold_it(self):
        loud = 2.5 * self.sound
        np.testing.assert_allclose(soundfile.read(self.written(WAVE_FLOAT, loud))[0], loud, rtol=1e-6)
        held = soundfile.read(self.written(WAVE, loud))[0]
        np.testing.assert_allclose(held, loud.clip(-1, 1 - 2**-23), atol=2**-23)

    def test_over_four_gib_it_is_rf64_for_both_readers(self):
        # The head of a file of that size, with its samples left out as a hole that takes no room.
        frames = 2**29 + 3
        path = self.folder / "large.wav"
        head = wave_head(rate=96_000, channels=2, frames=frames, bext=BEXT, encoding=FLOAT32, naming=NAMING)
        with path.open("wb") as stream:
            stream.write(head)
            stream.truncate(len(head) + frames * 8)
        self.assertEqual((head[:4], soundfile.info(path).frames), (b"RF64", frames))
        read = wavinfo.WavInfoReader(str(path))
        self.assertEqual((read.data.frame_count, read.bext.time_reference), (frames, BEXT.time_reference))
        self.assertEqual([track.name for track in read.ixml.track_list], list(NAMING.channels))

    def test_too_few_frames_are_told(self):
        for kind in FORMS:
            with self.assertRaisesRegex(ValueError, "4801 frames were delivered, 4802 announced"):
                write_sound(io.BytesIO(), [self.sound], Form(kind, 48_000, 2, 4802), bext=BEXT, naming=NAMING)


class RateTest(SimpleTestCase):
    def at(self, sound: np.ndarray, rate: int, to_rate: int) -> np.ndarray:
        frames = at_rate(len(sound), rate, to_rate)
        made = resampled(np.array_split(sound, 7), channels=sound.shape[1], rate=rate, to_rate=to_rate, frames=frames)
        return np.concatenate(list(made))

    def test_what_stood_at_a_place_stands_at_it_at_another_rate(self):
        def burst(rate: int) -> np.ndarray:
            time = np.arange(rate) / rate - 0.4
            wave = np.exp(-((time / 0.01) ** 2)) * np.sin(2 * np.pi * 1000 * time)
            return np.stack([wave, -0.5 * wave], axis=1)

        sound = burst(48_000)
        for to_rate in (44_100, 96_000, 192_000):
            with self.subTest(to_rate):
                # It is band-limited to far below either rate, so it is known exactly at the other one.
                np.testing.assert_allclose(self.at(sound, 48_000, to_rate), burst(to_rate), atol=1e-6)
        np.testing.assert_array_equal(self.at(sound, 48_000, 48_000), sound)

    def test_an_odd_length_and_nothing_at_all_have_their_frames(self):
        self.assertEqual(len(self.at(np.ones((1, 1)), 48_000, 44_100)), 1)
        self.assertEqual(len(self.at(np.zeros((0, 2)), 48_000, 44_100)), 0)


class DeadSideTest(SimpleTestCase):
    def test_only_a_side_that_is_silent_beside_a_live_one_is_dead(self):
        tone = 0.3 * np.sin(np.arange(9600) / 10)
        cases = {
            (1.0, 0.0): 0,
            (0.0, 1.0): 1,
            (1.0, 1e-4): 0,  # what leaks over, −80 dB
            (1.0, 0.003): None,  # soft, −60 dBFS
            (1.0, 0.9): None,
            (0.0, 0.0): None,
            (1e-3, 1e-4): None,  # both nearly silent: −70 and −90 dBFS
        }
        for (left, right), side in cases.items():
            with self.subTest(left=left, right=right):
                sound = np.stack([left * tone, right * tone], axis=1)
                self.assertEqual(live_side(np.array_split(sound, 4)), side)


class FlacTakeTest(SimpleTestCase):
    @settings(deadline=None, max_examples=6)
    @given(st.lists(st.integers(-(2**23), 2**23 - 1), min_size=1, max_size=300), st.sampled_from((1, 2)))
    def test_a_take_comes_back_from_flac_to_the_byte(self, steps, channels):
        frames = len(steps)
        sound = np.repeat(np.array(steps)[:, None] / 2**23, channels, axis=1)
        with tempfile.TemporaryDirectory() as folder:
            wave, flac, back = (Path(folder) / name for name in ("a.wav", "a.flac", "b.wav"))
            with wave.open("wb") as stream:
                write_wave(
                    stream, [sound], rate=48_000, channels=channels, frames=frames, bext=Broadcast(time_reference=7)
                )
            head = pack_take(wave, flac, rate=48_000, channels=channels, frames=frames)
            kept = soundfile.read(flac, dtype="int32", always_2d=True)[0]
            self.assertEqual(kept[:, 0].tolist(), [step << 8 for step in steps])
            unpack_take(flac, head, back, channels=channels, frames=frames, name="a")
            self.assertEqual(back.read_bytes(), wave.read_bytes())
