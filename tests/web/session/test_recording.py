"""Passes: what they keep, refuse and survive; lateness, placement and listening."""

import io
from dataclasses import replace
from unittest import mock

import numpy as np
import soundfile
from django.urls import reverse

from hypotaxis.core.errors import CannotSchedule, NoAnswer, SharedReturn
from hypotaxis.core.rig.change import set_instrument, set_rig
from hypotaxis.core.studio import Block, Lost
from hypotaxis.core.timing.lateness import measure
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import open_recording
from hypotaxis.records import audio, jobs
from hypotaxis.records.journal import change_plan
from hypotaxis.records.lateness import heard_together, known_latenesses
from hypotaxis.records.models import Job, Pass, Take
from hypotaxis.standin import desk as desk_module
from hypotaxis.standin.desk import Desk, interface_nature
from hypotaxis.steps.rig.services import unplug
from hypotaxis.steps.session.services import placing, recording
from tests.web.base import DemoTest


class PassTest(DemoTest):
    def test_several_instruments_are_recorded_measured_and_placed_in_one_pass(self):
        run = self.record("Alder kit", "Bittern", "Sedge upper")
        self.assertEqual((run.job.state, run.job.progress), (Job.DONE, 1.0))
        takes = {take.track.name: take for take in run.takes.all()}
        self.assertEqual({name: take.channels for name, take in takes.items()}, {
            "Alder kit": 2, "Bittern": 1, "Sedge upper": 2,
        })  # fmt: skip
        for name, take in takes.items():
            with self.subTest(name):
                self.assertTrue(take.complete)
                self.assertEqual(take.placement, -round(take.measured.lateness_ms * 48))
                # Buffer, converters, wire and box together on the stand-in.
                self.assertTrue(8 < take.measured.lateness_ms < 25)
                self.assertEqual(self.known(name).lateness_ms, take.measured.lateness_ms)
        self.assertEqual(takes["Alder kit"].frames, run.setup["frames"])

    def test_played_together_each_is_sent_by_its_lateness_and_its_take_is_placed_as_exactly(self):
        self.record("Alder kit")
        known = self.known("Alder kit").lateness_ms
        change_plan(self.rig, "together", self.plan, set_rig(self.plan, together="sent earlier"))
        run = self.record("Alder kit")
        (part,) = run.setup["parts"]
        self.assertAlmostEqual(part["shift_ms"], -known, delta=0.001)
        take = run.takes.get()
        # Heard on the beat as it arrives; its lateness is still that of its trip, and the placement the little rest.
        self.assertAlmostEqual(take.measured.lateness_ms, known, delta=0.3)
        self.assertAlmostEqual(take.placement, (known - take.measured.lateness_ms) * 48, delta=1)
        self.assertLess(abs(take.placement), 15)
        change_plan(self.rig, "held", self.plan, set_rig(self.plan, together="held to the slowest"))
        self.record("Bittern")
        shifts = [one.shift_ms for one in heard_together(self.plan, known_latenesses(self.plan))]
        self.assertEqual(min(shifts), 0.0)
        self.assertGreater(max(shifts), 0.0)

    def test_a_drifting_take_is_told_and_placed_with_its_rate_corrected(self):
        nature = replace(interface_nature("any"), crystal_ppm=290.0)
        with mock.patch.object(desk_module, "interface_nature", lambda uid: nature):
            run = self.record("Alder kit", bars=(1, 12))
        take = run.takes.get()
        self.assertAlmostEqual(take.measured.drift_ppm, 290, delta=25)
        self.assertIn("one placement misses by up to 4", self.page("session:home"))
        self.client.post(reverse("session:place", args=[take.uid]), {"to": "fitted"})
        take.refresh_from_db()
        self.assertLess(take.fitted_frames, take.frames)
        positions, notes = placing.note_positions(take)
        start = take.first_sample + take.placement
        moments = distinct_moments(positions - start, take.sample_rate, notes)
        found = measure(open_recording(audio.take_path(take.sound_file[0])), moments)
        self.assertLess(abs(found.drift_ppm), 15)
        self.assertLess(max(abs(found.start_ms), abs(found.end_ms)), 0.3)
        self.assertIn("Its rate is corrected by", self.page("session:home"))
        self.client.post(reverse("session:place", args=[take.uid]), {"to": "arrived"})
        take.refresh_from_db()
        self.assertEqual(take.sound_file, (take.file, take.frames), "the sound as it arrived is still there")

    def test_a_take_may_stand_by_what_is_typed_for_its_instrument(self):
        take = self.record("Bittern").takes.get()
        bittern = self.instrument("Bittern")
        change_plan(
            self.rig,
            "typed",
            self.plan,
            set_instrument(self.plan, bittern.uid, given_ms=12.5, given_from="typed"),
        )
        self.assertIn("Place it by +12.50 ms, typed", self.page("session:home"))
        self.client.post(reverse("session:place", args=[take.uid]), {"to": "instrument"})
        take.refresh_from_db()
        self.assertEqual((take.placement, take.borrowed), (-600, "Bittern, typed"))
        self.client.post(reverse("session:place", args=[take.uid]), {"to": "placed"})
        take.refresh_from_db()
        self.assertEqual((take.placement, take.borrowed), (placing.own_placement(take), ""))

    def test_the_recorded_sound_is_what_the_studio_delivered_to_the_bit(self):
        delivered, original = [], Desk.run

        def listened(desk, *given):
            for block in original(desk, *given):
                # What is recorded; the other inputs are only watched.
                delivered.append(block.samples[:, :2])
                yield block

        with mock.patch.object(Desk, "run", listened):
            take = self.record("Alder kit", place=False).takes.get()
        # A take has 24 bits: each sample is the nearest step to what came.
        wanted = np.rint(np.concatenate(delivered).astype(np.float64) * 2**23)
        kept = audio.read_frames(take.file, 0, take.frames).astype(np.float64) * 2**23
        np.testing.assert_array_equal(kept, wanted)
        self.assertGreater(np.abs(kept).max(), 2**20)
        self.assertIsNone(take.placement)

    def test_parts_that_share_a_return_are_refused_in_one_pass(self):
        self.arm("Sedge upper", "Sedge lower")
        with self.assertRaisesRegex(SharedReturn, "both come home on line in 1–2.*a pass each"):
            recording.start_pass(self.session, self.plan, first_bar=1, last_bar=2, fast=True, place_takes=True)
        answer = self.client.post(reverse("session:start"), {"first_bar": 1, "last_bar": 2, "fast": "on"}, follow=True)
        self.assertIn("Record them in a pass each", self.told(answer))
        self.assertContains(answer, "Same return as Sedge upper")
        self.assertFalse(Pass.objects.exists())

    def test_bars_that_make_no_sense_are_refused(self):
        self.arm("Alder kit")
        for bars in ({"first_bar": 5, "last_bar": 4}, {"first_bar": 0, "last_bar": 2}, {"first_bar": "x"}):
            answer = self.client.post(reverse("session:start"), bars, follow=True)
            self.assertRegex(self.told(answer), "cannot be recorded|whole numbers from 1")
        self.arm()
        with self.assertRaisesRegex(CannotSchedule, "No track is armed"):
            recording.start_pass(self.session, self.plan, first_bar=1, last_bar=2, fast=True, place_takes=True)
        self.assertFalse(Pass.objects.exists())

    def test_only_one_pass_at_a_time(self):
        self.record("Alder kit")
        Job.objects.update(state=Job.RUNNING)
        with self.assertRaisesRegex(CannotSchedule, "Pass 1 is still running"):
            self.record("Alder kit")

    def test_a_silent_return_gives_a_take_with_its_reason_and_no_placement(self):
        unplug(self.rig, self.plan, self.plan.rig.cable_at(self.socket("Bittern", "out")))
        run = self.record("Bittern")
        take = run.takes.get()
        self.assertIsNone(take.placement)
        self.assertRegex(take.unmeasured, "silent|steady sound or noise")
        with self.assertRaisesRegex(NoAnswer, f"Take {take.number} cannot be placed"):
            placing.place(take)
        self.assertIn(take.unmeasured, self.page("session:home"))


def recording_panels():
    from hypotaxis.web.studio_startup import front_panels

    return front_panels()


class CutShortTest(DemoTest):
    def stop_after(self, blocks: int, act):
        """A studio whose run does `act` after so many blocks."""
        original = Desk.run

        def cut(desk, *given):
            for number, block in enumerate(original(desk, *given)):
                if number == blocks:
                    act()
                yield block

        return mock.patch.object(Desk, "run", cut)

    def test_cancel_keeps_what_was_recorded_so_far(self):
        ask = lambda: jobs.ask_to_cancel(str(Job.objects.last().uid))  # noqa: E731
        with self.stop_after(150, ask), mock.patch.object(jobs.Reporter, "due", lambda self: True):
            run = self.record("Alder kit")
        self.assertEqual(run.job.state, Job.CANCELLED)
        take = run.takes.get()
        self.assertFalse(take.complete)
        self.assertTrue(148 * 1024 <= take.frames <= 153 * 1024)
        self.assertIsNotNone(take.placement)
        self.assertFalse(list(audio.folder("partial").glob("*")))

    def test_a_studio_that_fails_is_said_and_what_came_is_kept(self):
        def fail():
            raise OSError("the cable was pulled")

        with self.stop_after(150, fail), self.assertLogs("hypotaxis.records.jobs", "ERROR"):
            run = self.record("Alder kit")
        self.assertEqual(run.job.state, Job.FAILED)
        self.assertIn("Nothing recorded before is lost", run.job.message)
        self.assertEqual(run.takes.get().frames, 150 * 1024)
        page = self.page("session:home")
        self.assertIn("Record it again", page)
        self.client.post(reverse("session:repeat", args=[run.uid]))
        self.assertTrue(Take.objects.filter(run__number=2, complete=True).exists())

    def test_what_a_dead_worker_left_becomes_a_take_at_its_next_start(self):
        run = self.record("Alder kit", place=True)
        sound = audio.read_frames(run.takes.get().file, 0, 60_000)
        run.takes.all().delete()
        audio.partial_path(str(run.uid)).write_bytes(sound.astype("<f4").tobytes()[:-5])
        Job.objects.update(state=Job.RUNNING)
        jobs.mark_interrupted()
        self.assertEqual(Job.objects.get(uid=run.job_id).state, Job.INTERRUPTED)
        recording.rescue_partial_takes()
        self.assertEqual(run.takes.get().frames, 59_999)
        recording.rescue_partial_takes()
        self.assertEqual(run.takes.count(), 1)
        self.assertIn("was interrupted", self.page("session:home"))

    def test_what_cannot_be_rescued_is_put_aside_and_the_worker_starts(self):
        run = self.record("Alder kit")
        run.takes.all().delete()
        partial = audio.partial_path(str(run.uid))
        partial.write_bytes(b"\0" * 800_000)
        with (
            mock.patch.object(audio, "TakeFile", side_effect=OSError("no such device")),
            self.assertLogs("hypotaxis.steps.session", "ERROR"),
        ):
            recording.rescue_partial_takes()
        self.assertTrue(partial.with_suffix(".broken").exists())
        partial.with_suffix(".broken").unlink()

    def test_frames_that_did_not_come_are_told_with_their_bars(self):
        original = Desk.run

        def gappy(desk, source, setup):
            for block in original(desk, source, setup):
                yield replace(block, lost=(Lost(block.start, 512),)) if block.start == 30 * 1024 else block

        with mock.patch.object(Desk, "run", gappy):
            take = self.record("Alder kit").takes.get()
        self.assertEqual(take.run.gaps, [Lost(30_720, 512)])
        self.assertIn("512 frames (10.7 ms) did not come, in bar 1; silence stands there.", self.page("session:home"))

    def test_clips_are_counted_and_said(self):
        loud = lambda desk, source, setup: (  # noqa: E731
            Block(start, np.full((1024, len(setup.inputs)), 1.0 - 2.0**-23, dtype=np.float32))
            for start in range(0, 102_400, 1024)
        )
        with mock.patch.object(Desk, "run", loud):
            take = self.record("Alder kit").takes.get()
        self.assertEqual((take.clipped, take.peak_db > -0.01), (2, True))
        self.assertIn("Clipped 2 times", self.page("session:home"))


class PlacedTest(DemoTest):
    def test_a_take_can_stand_as_it_arrived_and_be_placed_again(self):
        take = self.record("Alder kit").takes.get()
        placed = take.placement
        self.client.post(reverse("session:place", args=[take.uid]), {"to": "arrived"})
        take.refresh_from_db()
        self.assertIsNone(take.placement)
        answer = self.client.post(reverse("session:place", args=[take.uid]), {"to": "placed"}, follow=True)
        self.assertIn(f"placed by −{-placed} samples", self.told(answer))

    def test_of_two_takes_the_better_one_is_kept_and_the_other_can_come_back(self):
        first = self.record("Alder kit").takes.get()
        second = self.record("Alder kit").takes.get()
        self.assertIn("take 2 sounds instead", self.page("session:home"))
        answer = self.client.post(reverse("session:keep", args=[second.uid]), {"to": "away"}, follow=True)
        self.assertIn("Take 2 is put away", self.told(answer))
        page = self.page("session:home")
        self.assertIn("take 1 sounds instead", page)
        self.assertIn("Bring back take 2, Alder kit", page)
        self.assertNotIn(str(second.uid), self.page("handover:home"))
        self.assertIn(str(first.uid), self.page("handover:home"))
        self.assertIn("take 1 of Tide Tables", self.page("timing:home"))
        self.client.post(reverse("session:keep", args=[second.uid]), {"to": "back"})
        self.assertIn("take 2 sounds instead", self.page("session:home"))
        self.assertEqual(self.record("Alder kit").takes.get().number, 3)

    def test_a_take_without_a_lateness_of_its_own_can_borrow_one_visibly(self):
        slow = self.record("Sedge lower", bars=(1, 8)).takes.get()
        self.assertIsNone(slow.placement)
        answer = self.client.post(reverse("session:place", args=[slow.uid]), {"to": "borrowed"}, follow=True)
        self.assertIn("no measured take whose lateness take 1 could borrow", self.told(answer))
        self.record("Alder kit")
        self.assertNotIn("Place it like", self.page("session:home"))
        quick = self.record("Sedge upper").takes.get()
        self.assertIn("Place it like take 3, Sedge upper", self.page("session:home"))
        self.client.post(reverse("session:place", args=[slow.uid]), {"to": "borrowed"})
        slow.refresh_from_db()
        self.assertEqual(slow.placement, quick.placement)
        self.assertIn("it is placed by that of take 3, Sedge upper", self.page("session:home"))
        self.assertIn("Sedge lower", self.page("handover:home"))

    def test_a_borrowed_lateness_is_corrected_by_comparing_the_two_takes(self):
        self.record("Alder kit", bars=(1, 4))
        later = self.record("Alder kit", bars=(1, 4)).takes.get()
        own = later.placement
        later.measurement, later.unmeasured, later.placement = None, "Its beginnings cannot be read.", None
        later.save()
        lender = self.session.takes.exclude(uid=later.uid).get()
        lender.measurement |= {"lateness_ms": lender.measured.lateness_ms + 3.0}
        lender.save()
        self.client.post(reverse("session:place", args=[later.uid]), {"to": "borrowed"})
        later.refresh_from_db()
        self.assertRegex(later.borrowed, r"take 1, Alder kit, and [+−]\d\.\d\d ms \(±.* by comparing")
        # The lender's number counts (3 ms more than it is), and what the two really differ by.
        self.assertAlmostEqual(later.placement, own - 144, delta=12)

    def test_placed_the_sound_stands_at_the_note_and_as_it_arrived_behind_it(self):
        take = self.record("Alder kit").takes.get()
        heard = {}
        for how in ("placed", "arrived"):
            answer = self.client.get(reverse("session:listen", args=[take.uid, how]))
            heard[how], _ = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)))
        alone = audio.read_frames(take.file, 0, take.frames)
        first_note = -take.first_sample
        # The click is what listening adds to the take; in the take's own frames it stands later by the lateness.
        edges = {how: int(np.argmax(np.abs(heard[how][:, 0] - alone[:, 0]) > 0.3)) for how in heard}
        self.assertEqual(edges["arrived"], first_note)
        self.assertEqual(edges["placed"], first_note - take.placement)

    def test_the_page_shows_strips_glass_numbers_and_the_silent_return(self):
        self.record("Alder kit")
        page = self.page("session:home", tick=0, span=0.8)
        for part in ("hits used", "drift, ppm", "silent", "take 1 sounds instead", "Let it stand as it arrived"):
            self.assertIn(part, page)
        self.assertGreater(page.count('class="sample"'), 20)
        glass = self.page("session:glass", tick=480, span=2, offset=1)
        self.assertIn("bar 1, beat 2, sixteenth 1", glass)
        self.assertIn("bar 1, beat 1", self.page("session:glass", tick="nonsense", span=-3, offset="1e400"))

    def test_track_settings_are_kept_and_bad_ones_said(self):
        track = self.track("Bittern")
        form = {f"{t.uid}-instrument_uid": t.instrument_uid for t in self.session.tracks.all()}
        form |= {f"{track.uid}-program": "2", f"{track.uid}-armed": "on"}
        self.client.post(reverse("session:tracks"), form)
        track.refresh_from_db()
        self.assertEqual((track.program, track.armed), (2, True))
        answer = self.client.post(reverse("session:tracks"), form | {f"{track.uid}-program": "128"}, follow=True)
        self.assertIn("Bittern: Ensure this value is less than or equal to 127", self.told(answer))
        track.refresh_from_db()
        self.assertEqual(track.program, 2)
