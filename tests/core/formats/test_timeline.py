"""A time line is read back to the sample. pyaaf2 writes and reads it: no independent reader, as the documents say."""

import tempfile
from pathlib import Path

import numpy as np
import soundfile
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.timeline import Clip, Placed, read_inside, read_timeline, write_beside, write_inside

CLIPS = st.lists(
    st.builds(
        Clip,
        track=st.sampled_from(("Bittern", "Küche", "水")),
        title=st.text(st.characters(codec="utf-8", categories=("L", "N", "Zs")), min_size=1, max_size=20),
        file=st.sampled_from(("audio/a b.wav", "audio/ü%.wav")),
        begins=st.integers(0, 2**40),
        frames=st.integers(1, 2**28),
        rate=st.sampled_from((44_100, 48_000, 96_000)),
        channels=st.sampled_from((1, 2)),
        colour=st.sampled_from(("", "#1F7F78")),
    ),
    min_size=1,
    max_size=5,
)


class TimelineTest(SimpleTestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "line.aaf"

    @settings(max_examples=12, deadline=None)
    @given(CLIPS)
    def test_places_come_back_to_the_sample_with_their_files(self, clips):
        write_beside(self.path, "Tide Tables", clips)
        found = read_timeline(self.path)
        self.assertEqual(
            [(one.title, one.begins, one.frames, one.rate, one.file) for one in found],
            [(one.title, one.begins, one.frames, one.rate, one.file) for one in clips],
        )
        self.assertEqual(len({one.slot for one in found}), len(clips), "each in a slot of its own")

    def test_sounds_inside_come_back_exactly_a_slot_a_side(self):
        steps = np.random.default_rng(3).integers(-(2**23), 2**23, (70_001, 2))
        sound = steps / 2**23
        for name, of in (("a.wav", steps), ("b.wav", steps[:, 0])):
            soundfile.write(self.folder / name, (of << 8).astype(np.int32), 48_000, "PCM_24")
        pair = Clip("Sedge", "Sedge, take 1", "", 12_345, 70_001, 48_000, 2)
        mono = Clip("Sedge", "Sedge, take 2", "", 0, 70_001, 48_000, 1)
        write_inside(self.path, "Tide Tables", [(pair, self.folder / "a.wav"), (mono, self.folder / "b.wav")])
        self.assertEqual(
            read_timeline(self.path),
            (
                Placed("Sedge L", "Sedge, take 1", 12_345, 70_001, 48_000),
                Placed("Sedge R", "Sedge, take 1", 12_345, 70_001, 48_000),
                Placed("Sedge 2", "Sedge, take 2", 0, 70_001, 48_000),
            ),
        )
        for number, side in enumerate((0, 1, 0)):
            np.testing.assert_array_equal(read_inside(self.path, number), sound[:, side])

    def test_a_sound_that_is_shorter_than_announced_is_told(self):
        soundfile.write(self.folder / "a.wav", np.zeros(10), 48_000, "PCM_24")
        with self.assertRaisesRegex(ValueError, "10 frames were delivered, 11 announced"):
            write_inside(self.path, "x", [(Clip("A", "A", "", 0, 11, 48_000, 1), self.folder / "a.wav")])

    def test_what_is_no_time_line_is_refused(self):
        self.path.write_bytes(b"RIFF, not really")
        with self.assertRaisesRegex(UnreadableFile, "no time line"):
            read_timeline(self.path)
