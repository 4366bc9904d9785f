"""Levels read off while a recording passes are those of one reading of it, and several files are heard at once."""

import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.formats.wave import FULL_SCALE, stepped
from hypotaxis.core.timing import hearing
from hypotaxis.core.timing.hearing import ToHear, hear, hear_each
from hypotaxis.core.timing.levels import LevelReader, kept_levels, levels_of, packed, packed_end
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import FileRecording, open_recording
from tests.core.timing.generated import Case, irregular, lay_down

RATE = 48_000


class LevelsTest(SimpleTestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    @given(st.lists(st.integers(0, 3000), min_size=1, max_size=8), st.booleans(), st.integers(0, 2**32 - 1))
    @settings(deadline=None, max_examples=30)
    def test_in_blocks_of_any_length_they_are_those_of_the_file(self, lengths: list[int], loud: bool, seed: int):
        rng = np.random.default_rng(seed)
        sound = rng.normal(0, 0.6 if loud else 0.1, (sum(lengths), 2)).astype(np.float32)
        if loud and len(sound) > 100:
            sound[50:60] = 1.2
        path, kept = self.folder / "take.wav", self.folder / "take.f32"
        soundfile.write(path, stepped(sound), RATE, subtype="PCM_24")
        whole = levels_of(open_recording(path), (0, 1))
        reader, at = LevelReader(RATE, (0, 1), FULL_SCALE), 0
        with kept.open("wb") as stream:
            for length in lengths:
                stream.write(packed(reader.feed(stepped(sound[at : at + length]))))
                at += length
            stream.write(packed_end(reader.clipped))
        found = kept_levels(kept, rate=RATE, sides=2, frames=len(sound))
        np.testing.assert_array_equal(found.hops, whole.hops)
        self.assertEqual(found.clipped, whole.clipped)
        self.assertEqual(found.clipped, (loud and len(sound) > 100,) * 2)
        self.assertIsNone(kept_levels(kept, rate=RATE, sides=2, frames=len(sound) + 48), "of another length")
        self.assertIsNone(kept_levels(self.folder / "none", rate=RATE, sides=2, frames=len(sound)))

    def asked(self, number: int) -> ToHear:
        signal, positions, _ = lay_down(Case("drum", late_ms=12.0 + number, notes=irregular(20)), number)
        path = self.folder / f"{number}.wav"
        soundfile.write(path, signal if number < 3 else 0 * signal, RATE, subtype="PCM_24")
        return ToHear(path, len(signal), distinct_moments(positions, RATE), self.folder / "none")

    def test_several_long_ones_are_heard_side_by_side_and_answer_in_their_order(self):
        every, told = [self.asked(number) for number in (1, 2, 3)], []
        alone = [hear(one) for one in every]
        with mock.patch.object(hearing, "TOGETHER_FRAMES", 1):
            found = [answer() for answer in hear_each(every, told.append)]
        self.assertEqual(found, alone)
        self.assertIn("silent", found[2].refusal)
        self.assertTrue(all(0 <= share <= 1 for share in told))
        every[1].path.unlink()
        with mock.patch.object(hearing, "TOGETHER_FRAMES", 1):
            answers = list(hear_each(every, told.append))
        with self.assertRaises((OSError, soundfile.LibsndfileError)):
            answers[1]()
        self.assertEqual(answers[0](), alone[0], "the others answer")

    def test_pieces_of_a_long_file_are_those_of_it(self):
        signal = np.random.default_rng(1).normal(0, 0.1, (40_000, 2)).astype(np.float32)
        path = self.folder / "long.wav"
        soundfile.write(path, signal, RATE, subtype="FLOAT")
        recording = FileRecording(path)
        for first, length in ((0, 100), (90, 10), (30_000, 9_000), (5, 3), (39_990, 50), (-20, 40)):
            there = np.zeros(length, np.float32)
            begin, end = max(0, first), min(len(signal), first + length)
            there[begin - first : end - first] = signal[begin:end, 1]
            np.testing.assert_array_equal(recording.piece(1, first, first + length), there)
