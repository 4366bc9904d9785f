"""`manage.py align` as it is called: what it prints, and how it refuses. No database is opened."""

import io
import json
import sys
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.core.management import call_command
from django.test import SimpleTestCase

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.formats.wave import Broadcast, write_wave
from hypotaxis.core.timing import apart
from tests.core.formats.test_smf import END, smf
from tests.core.timing.files import pair_of_files, score_file
from tests.core.timing.generated import Case, irregular, lay_down
from tests.core.timing.soft import soft_take


class AlignTest(SimpleTestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def align(self, score, recording, *options: str) -> tuple[int, str, str]:
        """(exit code, standard output, standard error)."""
        out, err = io.StringIO(), io.StringIO()
        words = ["--score", str(score), "--recording", str(recording), *options]
        try:
            call_command("align", *words, stdout=out, stderr=err)
        except SystemExit as ended:
            return ended.code, out.getvalue(), err.getvalue()
        return 0, out.getvalue(), err.getvalue()

    def answer(self, score, recording, *options: str) -> dict:
        code, out, err = self.align(score, recording, "--json", *options)
        self.assertEqual((code, err), (0, ""), out)
        return json.loads(out, parse_constant=lambda name: self.fail(f"{name} in JSON"))

    def refusal(self, score, recording, *options: str) -> str:
        code, out, err = self.align(score, recording, "--json", *options)
        self.assertEqual(code, 2)
        told = json.loads(out)
        self.assertEqual(list(told), ["error"])
        self.assertEqual(err.strip(), told["error"])
        self.assertEqual(len(err.strip().splitlines()), 1)
        return told["error"]

    def test_the_answer_as_json_and_as_one_line(self):
        score, recording, true_ms = pair_of_files(self.folder, jitter_ms=0.3, drift_ppm=40)
        found = self.answer(score, recording)
        self.assertAlmostEqual(found["offset_ms"], true_ms, delta=1 / 48)
        self.assertAlmostEqual(found["offset_samples"], true_ms * 48, delta=1)
        self.assertEqual((found["notes"], found["matched"], found["sample_rate"]), (32, 32, 48000))
        self.assertEqual((found["input"], found["clipped"], found["extra"]), ("mono", False, 0))
        for name in ("offset_samples", "offset_ms", "offset_start_ms", "offset_end_ms", "jitter_ms", "drift_ppm"):
            low, high = found[f"{name}_ci"]
            self.assertTrue(low <= found[name] <= high, name)
        self.assertGreaterEqual(found["confidence"], 0.9)
        code, out, _ = self.align(score, recording)
        self.assertEqual((code, len(out.strip().splitlines())), (0, 1))
        self.assertTrue(out.startswith(f"type −{round(found['offset_ms'], 1):.1f} ms, −{found['offset_samples']:.0f}"))

    def soft_pair(self, kind: str, *, rate: int = 48000, **second):
        """(score, recording, other recording, by how much the recording is really later, ms)."""
        score = self.folder / "soft.mid"
        (notes,) = score_file(score, ("Soft", 1, irregular(12, shortest=0.5)))
        begins = []
        for name, seed, late, fields in (("one", 1, 19.7, {}), ("other", 2, 14.2, {"rate": rate} | second)):
            signal, real = soft_take(kind, notes, late_ms=late, seed=seed, free=False, held=1.05, **fields)
            soundfile.write(self.folder / f"{name}.wav", signal, fields.get("rate", 48000), subtype="PCM_24")
            begins.append(real)
        really = float(np.median(begins[0] - begins[1])) * 1000
        return score, self.folder / "one.wav", self.folder / "other.wav", really

    def test_another_recording_of_the_same_notes_is_compared(self):
        score, one, other, really = self.soft_pair("pad", rate=44100)
        found = self.answer(score, one, "--against", str(other))
        self.assertAlmostEqual(found["difference_ms"], really, delta=0.1)
        self.assertAlmostEqual(found["difference_samples"], found["difference_ms"] * 48, delta=0.01)
        for name in ("difference_ms", "difference_samples"):
            low, high = found[f"{name}_ci"]
            self.assertTrue(low <= found[name] <= high)
        self.assertEqual((found["compared"], found["sample_rate"]), (len(found["hits"]), 48000))
        self.assertEqual(list(found["hits"][0]), ["note_ms", "difference_ms"])
        _, out, _ = self.align(score, one, "--against", str(other))
        self.assertIn("+5.50 ms", out)
        self.assertIn("against the other recording", out)

    def test_only_the_difference_may_be_known_and_other_notes_are_refused(self):
        score, one, other, _ = self.soft_pair("pad")
        signal, rate = soundfile.read(one)
        # Its beginning cut off, it is out of range by itself, and still compares.
        for path in (one, other):
            signal, rate = soundfile.read(path)
            soundfile.write(path, np.concatenate([np.zeros(rate // 2), signal]), rate, subtype="PCM_24")
        found = self.answer(score, one, "--against", str(other))
        self.assertIsNone(found["offset_ms"])
        self.assertEqual((found["matched"], found["confidence"], found["notes"]), (None, None, 12))
        self.assertAlmostEqual(found["difference_ms"], 5.5, delta=0.1)
        _, out, _ = self.align(score, one, "--against", str(other))
        self.assertIn("its own lateness is not known", out)
        score, one, other, _ = self.soft_pair("strings", pitches=(246.9, 293.7, 349.2, 196.0, 277.2))
        self.assertIn("notes are the same in both", self.refusal(score, one, "--against", str(other)))

    def test_another_tempo_is_told_in_beats_a_minute(self):
        score, _, _ = pair_of_files(self.folder)
        signal, _, _ = lay_down(Case("drum", notes=irregular(32) * 120 / 121))
        soundfile.write(self.folder / "fast.wav", signal, 48000)
        self.assertIn("runs at 121 BPM, the score at 120", self.refusal(score, self.folder / "fast.wav"))

    def test_other_containers_and_rates(self):
        for name, subtype, rate in (("a.flac", "PCM_16", 44100), ("b.aiff", "PCM_24", 96000), ("c.wav", "FLOAT", 8000)):
            score, recording, true_ms = pair_of_files(self.folder, name=name, subtype=subtype, rate=rate)
            self.assertAlmostEqual(self.answer(score, recording)["offset_ms"], true_ms, delta=1000 / rate)

    def test_stereo_takes_the_clearer_side_or_the_one_that_was_named(self):
        score, recording, _ = pair_of_files(self.folder, side="right")
        self.assertEqual(self.answer(score, recording)["input"], "right")
        self.assertEqual(self.answer(score, recording, "--input", "mix")["input"], "mix")
        self.assertRegex(self.refusal(score, recording, "--input", "left"), "silent|steady|do")

    def test_a_track_is_found_and_a_wrong_one_refused(self):
        score = self.folder / "two.mid"
        _, bass = score_file(score, ("Kit", 10, irregular(32, seed=5)), ("Bass", 1, irregular(32, seed=6)))
        signal, _, _ = lay_down(Case("drum", notes=bass))
        soundfile.write(self.folder / "bass.wav", signal, 48000)
        found = self.answer(score, self.folder / "bass.wav")
        self.assertEqual(found["track"], 3)
        self.assertTrue(any("track 3 (Bass)" in warning for warning in found["warnings"]))
        self.assertEqual(self.answer(score, self.folder / "bass.wav", "--channel", "1")["matched"], 32)
        self.refusal(score, self.folder / "bass.wav", "--track", "2")
        self.assertIn("no notes on track 1", self.refusal(score, self.folder / "bass.wav", "--track", "1"))

    def test_a_time_reference_is_told_and_not_applied(self):
        score, recording, true_ms = pair_of_files(self.folder)
        samples, rate = soundfile.read(recording, always_2d=True)
        with recording.open("wb") as stream:
            bext = Broadcast(time_reference=96_000)
            write_wave(stream, [samples], rate=rate, channels=1, frames=len(samples), bext=bext)
        found = self.answer(score, recording)
        self.assertAlmostEqual(found["offset_ms"], true_ms, delta=1 / 48)
        self.assertTrue(any("time reference of 96000 samples" in warning for warning in found["warnings"]))

    def test_a_recording_that_ends_early_is_answered_with_a_warning(self):
        score, recording, true_ms = pair_of_files(self.folder)
        samples, rate = soundfile.read(recording)
        soundfile.write(recording, samples[: len(samples) * 2 // 3], rate, subtype="PCM_24")
        found = self.answer(score, recording)
        self.assertAlmostEqual(found["offset_ms"], true_ms, delta=1 / 48)
        self.assertGreater(found["outside"], 5)
        self.assertTrue(any("ends before the score" in warning for warning in found["warnings"]))

    def test_what_is_refused(self):
        score, recording, _ = pair_of_files(self.folder)
        samples, _ = soundfile.read(recording)
        made = {
            "silent": np.zeros_like(samples),
            "there is no signal": 0.1 * np.random.default_rng(1).standard_normal(len(samples)),
            "outside|follow|belong": np.concatenate([np.zeros(48000 * 3 // 10), samples]),
            "no numbers": np.where(np.arange(len(samples)) == 999, np.nan, samples),
        }
        for reason, sound in made.items():
            with self.subTest(reason):
                soundfile.write(self.folder / "bad.wav", sound, 48000, subtype="FLOAT")
                self.assertRegex(self.refusal(score, self.folder / "bad.wav"), reason)
        other = self.folder / "other.mid"
        score_file(other, ("Another piece", 10, irregular(32, seed=77)))
        self.assertRegex(self.refusal(other, recording), "follow|belong|agree")
        few = self.folder / "few.mid"
        score_file(few, ("Three", 10, irregular(3)))
        self.assertIn("at least 4 are needed", self.refusal(few, recording))
        whole = recording.read_bytes()
        recording.write_bytes(whole[:-3000])
        (warning,) = self.answer(score, recording)["warnings"]
        self.assertIn("holds less than it declares", warning)
        flac = self.folder / "cut.flac"
        soundfile.write(flac, samples, 48000)
        flac.write_bytes(flac.read_bytes()[:-3000])
        self.assertRegex(self.refusal(score, flac), "less than it declares|could not be decoded")

    def test_scores_and_names_that_cannot_be_read(self):
        _, recording, _ = pair_of_files(self.folder)
        bad = self.folder / "bad.mid"
        tempo_zero = smf(b"\x00\xff\x51\x03\x00\x00\x00\x00\x90\x3c\x64\x60\x80\x3c\x40" + END)
        for reason, data in {"begin with MThd": b"nonsense", "tempo of zero": tempo_zero, "no notes": smf(END)}.items():
            bad.write_bytes(data)
            self.assertIn(reason, self.refusal(bad, recording))
        self.assertIn("No such file", self.refusal(self.folder / "nowhere.mid", recording))
        self.assertIn("directory", self.refusal(self.folder, recording))


class ApartTest(SimpleTestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.score, self.recording, _ = pair_of_files(self.folder)

    def test_a_child_that_dies_takes_too_long_or_too_much_is_a_reason(self):
        for change in ({"SECONDS": 0}, {"MEMORY_BYTES": 32 * 2**20}):
            samples = np.zeros((6_000_000, 2))
            soundfile.write(self.recording, samples, 48000)
            with (
                self.subTest(change),
                mock.patch.multiple(apart, **change),
                self.assertRaisesRegex(NoAnswer, "could not be decoded"),
            ):
                apart.measure_apart(self.score, self.recording)
        with (
            mock.patch.object(sys, "executable", "/bin/false"),
            self.assertRaisesRegex(NoAnswer, "could not be decoded"),
        ):
            apart.measure_apart(self.score, self.recording)

    def test_what_the_progress_raises_ends_the_child_and_leaves_nothing(self):
        with self.assertRaises(KeyError):
            apart.measure_apart(self.score, self.recording, progress=lambda share: {}["stop"])
        self.assertEqual(len(list(self.folder.iterdir())), 2)
