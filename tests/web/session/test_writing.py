"""A long pass's takes are written while it runs, by a process beside it, and are the same without it."""

import time
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from hypotaxis.records import audio
from hypotaxis.records.models import Job, Take
from hypotaxis.records.writing import WantedTake, WritingBeside, write_takes
from hypotaxis.steps.session.services import recording
from tests.web.base import DemoTest

RATE, WIDTH = 48_000, 3
WANTED = (WantedTake((0, 2), 1000, 90_000, -500), WantedTake((1,), 1000, 400_000, -500))


class WriterTest(DemoTest):
    def setUp(self):
        super().setUp()
        self.frames = np.random.default_rng(3).normal(0, 0.2, (120_000, WIDTH)).astype("<f4")
        self.frames[50_000:50_005, 1] = 1.5
        self.partial = audio.folder("partial") / "grows.f32"
        self.addCleanup(self.partial.unlink)

    def left(self) -> list[Path]:
        return [path for name in ("takes", "levels") for path in audio.folder(name).glob("*.part")]

    def beside(self) -> WritingBeside:
        found = WritingBeside(self.partial, WIDTH, RATE, WANTED)
        self.addCleanup(found.end)
        return found

    def test_what_grows_is_written_as_it_would_be_at_the_end(self):
        writer = self.beside()
        with self.partial.open("wb", buffering=0) as stream:
            for first in range(0, len(self.frames), 30_000):
                stream.write(self.frames[first : first + 30_000].tobytes())
        written = writer.keep()
        for wanted, alone in zip(WANTED, write_takes(self.partial, WIDTH, RATE, WANTED), strict=True):
            found = written[wanted]
            self.assertEqual((found.frames, found.peak_db, found.clips), (alone.frames, alone.peak_db, alone.clips))
            sound, _ = soundfile.read(audio.take_path(found.file), dtype="float32", always_2d=True)
            end = min(len(self.frames), wanted.start + wanted.frames)
            np.testing.assert_allclose(
                sound, self.frames[wanted.start : end, list(wanted.columns)].clip(-1, 1), atol=2**-23
            )
            self.assertEqual(audio.figures_kept(found.file), audio.figures_kept(alone.file))
            np.testing.assert_array_equal(audio.peaks(found.file), audio.peaks(alone.file))
        self.assertEqual([one.clips for one in written.values()], [0, 1])
        self.assertEqual(self.left(), [])

    def test_left_without_a_word_it_leaves_nothing(self):
        self.partial.write_bytes(self.frames.tobytes())
        writer, until = self.beside(), time.monotonic() + 60
        while len(self.left()) < 4:
            self.assertLess(time.monotonic(), until)
            time.sleep(0.02)
        writer.end()
        self.assertEqual(self.left(), [])

    def test_where_it_dies_nothing_is_told_and_what_nobody_goes_on_with_is_cleared_later(self):
        self.partial.write_bytes(self.frames.tobytes())
        writer = self.beside()
        writer._child.kill()
        with self.assertLogs("hypotaxis.records.writing", "WARNING"):
            self.assertEqual(writer.keep(), {})
        left = audio.folder("takes") / "old.wav.part"
        left.write_bytes(b"x")
        audio.forget_unfinished()
        self.assertTrue(left.exists(), "somebody may be writing it")
        with mock.patch.object(audio, "UNFINISHED_S", -1.0):
            audio.forget_unfinished()
        self.assertFalse(left.exists())


@mock.patch.object(recording, "LONG_S", 0.0)
class LongPassTest(DemoTest):
    def test_its_takes_are_there_placed_and_whole(self):
        with mock.patch.object(recording, "write_takes", side_effect=AssertionError("made at the end")):
            run = self.record("Alder kit", "Bittern")
        self.assertEqual(run.job.state, Job.DONE)
        for take in run.takes.all():
            self.assertTrue(take.complete)
            self.assertEqual(take.frames, run.frozen.frames)
            self.assertIsNotNone(take.placement)
            self.assertIsNotNone(audio.figures_kept(take.file))
            self.assertFalse(audio.levels_path(take.file).exists(), "needed no more")

    def made_at_its_end(self):
        run = self.record("Bittern")
        self.assertEqual(run.job.state, Job.DONE)
        self.assertIsNotNone(Take.objects.get(run=run).placement)

    def test_without_a_writer_they_are_made_at_its_end(self):
        with (
            mock.patch.object(recording, "WritingBeside", side_effect=OSError("no process")),
            self.assertLogs("hypotaxis.steps.session", "ERROR"),
        ):
            self.made_at_its_end()

    def test_where_the_writer_died_they_are_made_at_its_end(self):
        with mock.patch.object(recording, "WritingBeside") as begun:
            begun.return_value.keep.return_value = {}
            self.made_at_its_end()
            begun.return_value.end.assert_called_once()
