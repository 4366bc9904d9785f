"""Recordings of one's own on the timing page: kept, measured, compared, and removed without a trace."""

import io
import tempfile
from pathlib import Path

import mido
import numpy as np
import soundfile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from hypotaxis.records import jobs
from hypotaxis.records.models import Job, Sounding
from hypotaxis.steps.timing.services import sounding
from tests.core.formats.test_smf import END, smf
from tests.core.timing.files import pair_of_files
from tests.web.base import DemoTest


class SoundingTest(DemoTest):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.addCleanup(lambda: [path.unlink() for path in self.kept()])

    def kept(self) -> list[Path]:
        return list(sounding.path_of("").glob("*"))

    def upload(self, score: bytes | None = None, recording: bytes | None = None, headers=None, **fields):
        made_score, made_recording, self.true_ms = pair_of_files(self.folder, jitter_ms=0.3, seed=fields.pop("seed", 3))
        form = {
            "score": SimpleUploadedFile("pattern.mid", made_score.read_bytes() if score is None else score),
            "recording": SimpleUploadedFile(
                "to the left.wav", made_recording.read_bytes() if recording is None else recording
            ),
        }
        return self.client.post(reverse("timing:new"), form | fields, headers=headers, follow=True)

    def test_the_verdict_the_numbers_and_the_value_to_type(self):
        answer = self.upload()
        row = Sounding.objects.get()
        self.assertEqual((row.name, row.job.state), ("to the left", Job.DONE))
        self.assertAlmostEqual(row.measured.lateness_ms, self.true_ms, delta=1 / 48)
        self.assertContains(answer, f"It comes home {row.measured.lateness_ms:.1f} ms late, by 32 of 32 notes")
        for figure in (f"{row.measured.lateness_ms:.2f}", f"{row.measured.samples:.0f}"):
            for sign in "+−":
                self.assertContains(answer, f'<td class="num trip-figure">{sign}{figure}</td>')
        self.assertEqual(answer.content.decode().count('class="hit-dot"') + row.measured.set_aside, 32)
        late = self.page("timing:open", row.uid)
        self.assertIn("1 recording", late)
        self.assertIn('<option value="2">track 2: Kit</option>', late)

    def test_an_improvisation_is_aligned_by_the_click_beside_it(self):
        # A click at 100 BPM on the left, 1,790.4 samples late and drifting by 150 ppm; something else on the right.
        rate, late = 48_000, 1790.4
        beats = np.arange(0, 90) * 28_800
        sound = np.zeros((28_800 * 92, 2), dtype=np.float32)
        sound[:, 1] = 0.2 * np.sin(np.arange(len(sound)) * 0.05)
        around = np.arange(-30, 31)
        for place in late + beats * (1 + 150e-6):
            at = round(place) + around
            sound[at, 0] += 0.8 * np.sinc(0.5 * (at - place)) * np.hanning(63)[1:-1]
        data = io.BytesIO()
        soundfile.write(data, sound, rate, format="WAV", subtype="PCM_24")
        form = {"step": "quarters", "bpm": "100", "side": "left", "name": "Long walk"}
        form["recording"] = SimpleUploadedFile("walk.wav", data.getvalue())
        answer = self.client.post(reverse("timing:new"), form, follow=True)
        row = Sounding.objects.get()
        self.assertAlmostEqual(row.measured.drift_ppm, 150, delta=3)
        self.assertContains(answer, "one shift misses by up to")
        answer = self.client.get(reverse("timing:aligned", args=[row.uid]), {"rate": "corrected"})
        found, _ = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)))
        for beat in beats[[3, 45, 88]]:
            top = int(np.argmax(np.abs(found[beat - 400 : beat + 400, 0]))) - 400
            self.assertLessEqual(abs(top), 3, "centre or edge of the click, within a few samples of its beat")
        plain = self.client.get(reverse("timing:aligned", args=[row.uid]))
        whole, _ = soundfile.read(io.BytesIO(b"".join(plain.streaming_content)))
        self.assertEqual(len(whole), len(sound) - round(row.measured.samples))

    def test_a_click_needs_its_tempo_and_no_score(self):
        form = {"step": "quarters", "recording": SimpleUploadedFile("walk.wav", b"RIFF")}
        self.assertContains(self.client.post(reverse("timing:new"), form), "Enter the tempo of the click or clock")
        form = {"step": "quarters", "bpm": "100", "recording": SimpleUploadedFile("walk.wav", b"RIFF")}
        self.assertContains(self.client.post(reverse("timing:new"), form), "walk.wav cannot be used. This is no WAV")
        form = {"recording": SimpleUploadedFile("walk.wav", b"RIFF")}
        self.assertContains(self.client.post(reverse("timing:new"), form), "or a click or clock without notes")
        answer = self.upload(step="quarters", bpm="100")
        self.assertContains(answer, "A score is chosen as well.")
        self.assertFalse(Sounding.objects.exists())

    def test_a_recording_of_an_instrument_is_kept_with_it(self):
        self.upload(instrument=self.instrument("Bittern").uid)
        row, bittern = Sounding.objects.get(), self.instrument("Bittern")
        self.assertEqual((row.instrument_uid, self.known().source), (bittern.uid, "sounding"))
        self.assertEqual(self.known().lateness_ms, row.measured.lateness_ms)
        self.assertNotIn("Recordings of your own", self.page("timing:home"))
        self.assertIn("to the left.wav", self.page("timing:trip", bittern.uid))

    def test_the_wave_around_any_hit_down_to_single_samples(self):
        self.upload()
        row = Sounding.objects.get()
        wave = self.page("timing:wave", row.uid, hit=7, span=0.8, offset=14)
        self.assertIn("hit 8 of 32", wave)
        self.assertGreater(wave.count('class="sample"'), 30)
        self.assertIn("hit 32 of 32", self.page("timing:wave", row.uid, hit=99, span="x", offset="1e999"))

    def test_several_are_compared(self):
        self.upload(name="Before")
        self.upload(name="After", seed=4)
        after = Sounding.objects.get(name="After")
        page = self.page("timing:open", after.uid)
        self.assertIn("ms against the opened", page)
        self.assertEqual(page.count('class="needle-head"'), 4)

    def test_a_recording_is_laid_over_another_one_of_the_same_notes(self):
        self.upload()
        first, own = Sounding.objects.get(), self.true_ms
        self.upload(name="A week later")
        later = Sounding.objects.exclude(uid=first.uid).get()
        self.assertIn("Compare with another recording", self.page("timing:open", later.uid))
        self.client.post(reverse("timing:compare", args=[later.uid]), {"other": first.uid})
        later.refresh_from_db()
        later.job.refresh_from_db()
        self.assertEqual(later.job.state, Job.DONE)
        self.assertAlmostEqual(later.comparison.difference_ms, self.true_ms - own, delta=0.05)
        page = self.page("timing:open", later.uid)
        self.assertRegex(page, "Its notes come 0.00 ms ±0.0. (later|earlier) than those of to the left")
        self.assertIn(f"late by +{first.measured.lateness_ms:.2f} ms", page)
        self.upload(seed=12)
        other = Sounding.objects.first()
        self.client.post(reverse("timing:compare", args=[other.uid]), {"other": first.uid})
        self.assertIn("It does not compare with to the left", self.page("timing:open", other.uid))
        answer = self.client.post(reverse("timing:compare", args=[other.uid]), {"other": "none"}, follow=True)
        self.assertIn("Choose the recording to compare with", self.told(answer))

    def test_a_recording_without_an_answer_says_why_and_can_be_measured_anew(self):
        silent = self.folder / "silent.wav"
        soundfile.write(silent, [0.0] * 480_000, 48000)
        answer = self.upload(recording=silent.read_bytes())
        row = Sounding.objects.get()
        self.assertEqual((row.job.state, row.measured), (Job.FAILED, None))
        self.assertContains(answer, "the recording is silent")
        self.assertIn("no answer: open to see why", self.page("timing:home"))
        self.client.post(reverse("timing:again", args=[row.uid]), {"channel": "99"})
        self.client.post(reverse("timing:again", args=[row.uid]), {"channel": "10", "side": "left"})
        row.refresh_from_db()
        self.assertEqual((row.channel, row.side), (10, "left"))

    def test_bad_input_is_refused_and_nothing_is_kept(self):
        cases = {
            "pattern.mid cannot be used. This is a type 2 file": {"score": smf(END, kind=2)},
            "The score has no notes": {"score": smf(END)},
            "The score is an empty file": {"score": b""},
            "The recording is an empty file": {"recording": b""},
            "less than or equal to 16": {"channel": "17"},
        }
        for reason, change in cases.items():
            with self.subTest(reason):
                self.assertContains(self.upload(**change), reason)
        by_script = self.upload(score=b"x", headers={"X-Fragment": "1"})
        self.assertEqual(by_script.status_code, 400)
        self.assertIn("begin with MThd", by_script.json()["errors"][0])
        self.assertFalse(Sounding.objects.exists())
        self.assertEqual(self.kept(), [])

    def test_a_measurement_can_be_stopped_and_removed(self):
        self.upload()
        row = Sounding.objects.get()
        Job.objects.update(state=Job.WAITING)
        self.assertIn(
            "Stop it first", self.told(self.client.post(reverse("timing:remove", args=[row.uid]), follow=True))
        )
        self.client.post(reverse("timing:cancel", args=[row.uid]))
        sounding.measure(str(row.job_id))
        self.assertEqual(Job.objects.get(uid=row.job_id).state, Job.CANCELLED)
        self.client.post(reverse("timing:rename", args=[row.uid]), {"name": "Bass, second try"})
        self.assertIn("Bass, second try", self.page("timing:home"))
        self.client.post(reverse("timing:remove", args=[row.uid]))
        self.assertEqual((Sounding.objects.count(), self.kept()), (0, []))

    def test_one_that_was_interrupted_says_so(self):
        self.upload()
        Job.objects.update(state=Job.RUNNING, attempts=jobs.MOST_ATTEMPTS)
        jobs.mark_interrupted()
        self.assertIn("It can be repeated", self.page("timing:open", Sounding.objects.get().uid))

    def test_the_test_score_and_the_loop_signal(self):
        answer = self.client.get(reverse("timing:test-score"), {"note": 38, "channel": 3})
        (self.folder / "t.mid").write_bytes(answer.content)
        file = mido.MidiFile(self.folder / "t.mid")
        self.assertEqual({m.note for t in file.tracks for m in t if m.type == "note_on"}, {38})
        loop = self.client.get(reverse("timing:loop-signal"))
        (self.folder / "l.wav").write_bytes(b"".join(loop.streaming_content))
        self.assertEqual(soundfile.info(self.folder / "l.wav").samplerate, 48000)
