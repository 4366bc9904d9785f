"""Background work always ends: lost, doubled, cancelled, killed, without room, and said truly meanwhile."""

import errno
import sqlite3
import sys
from unittest import mock

from django.urls import reverse

from hypotaxis.core.errors import CannotSchedule, NotBegun
from hypotaxis.records import audio, jobs
from hypotaxis.records.models import Job, Pass, Session, Sounding
from hypotaxis.steps.session.services import recording
from hypotaxis.web import worker_watch
from tests.core.formats.test_smf import END, smf
from tests.web.base import DemoTest
from tests.web.test_start import wait_for

ASKED = {"first_bar": 1, "last_bar": 1, "fast": "on", "place": "on"}


def without_queue(*kinds: str):
    """Tasks of these kinds never reach the queue, as when both processes are killed just behind the row."""
    return mock.patch.dict(jobs._functions, dict.fromkeys(kinds, lambda uid: None))


class WorkEndsTest(DemoTest):
    def start(self, **fields):
        return self.client.post(reverse("session:start"), ASKED | fields, follow=True)

    def states(self) -> list[str]:
        return list(Job.objects.filter(kind="pass").values_list("state", flat=True))

    def test_a_task_that_cannot_be_queued_fails_its_job_and_blocks_no_other(self):
        self.arm("Alder kit")
        locked = mock.Mock(side_effect=sqlite3.OperationalError("database is locked"))
        with mock.patch.dict(jobs._functions, {"pass": locked}), self.assertLogs("hypotaxis", "ERROR"):
            self.assertContains(self.start(), "could not be handed to the worker", status_code=409)
        self.assertEqual(self.states(), ["failed"])
        self.start()
        self.assertEqual(self.states(), ["failed", "done"])

    def test_a_job_whose_task_was_lost_is_queued_by_the_look_round(self):
        with without_queue("pass"):
            run = self.record("Alder kit")
        healer = jobs.Healer()
        healer.look()
        self.assertEqual(self.states(), ["waiting"], "it may be on its way")
        with self.assertLogs("hypotaxis", "WARNING"):
            healer.look()
        self.assertEqual(self.states(), ["done"])
        self.assertEqual(run.takes.count(), 1)

    def test_a_task_that_comes_twice_does_nothing(self):
        run = self.record("Alder kit")
        recording.record(str(run.job_id))
        self.assertEqual((run.takes.count(), self.states()), (1, ["done"]))

    def test_what_is_stopped_before_it_began_is_stopped_at_once(self):
        with without_queue("pass"):
            run = self.record("Alder kit")
        self.client.post(reverse("session:cancel", args=[run.uid]))
        self.assertEqual(self.states(), ["cancelled"])
        recording.record(str(run.job_id))
        self.record("Alder kit")
        self.assertEqual(self.states(), ["cancelled", "done"])

    def test_what_waited_when_the_program_ended_does_not_sound_at_the_next_start(self):
        with without_queue("pass", "import"):
            self.record("Alder kit")
            jobs.begin("import", about=str(self.rig.uid))
        jobs.mark_not_begun()
        self.assertEqual(self.states(), ["interrupted"])
        self.assertIn("ended before this began", self.page("session:home"))
        self.assertEqual(Job.objects.get(kind="import").state, Job.WAITING)

    def test_what_is_said_to_run_and_does_not_is_ended(self):
        job = jobs.begin("pass")
        Job.objects.update(state=Job.RUNNING)
        healer = jobs.Healer()
        for _ in range(2):
            self.assertEqual(Job.objects.get().state, Job.RUNNING)
            healer.look()
        self.assertEqual(Job.objects.get(uid=job.uid).state, Job.INTERRUPTED)

    def test_quiet_work_is_taken_up_once_more_and_not_for_ever(self):
        job = jobs.begin("measuring")
        for state in (Job.WAITING, Job.INTERRUPTED):
            with jobs.running(str(job.uid)):
                Job.objects.filter(uid=job.uid).update(state=Job.RUNNING)
                jobs.mark_interrupted()
                found = Job.objects.get(uid=job.uid).state
            self.assertEqual(found, state)
            Job.objects.filter(uid=job.uid).update(state=found)

    def test_what_is_sent_twice_is_done_once(self):
        self.arm("Alder kit")
        for _ in range(4):
            answer = self.start(token="one-page-start")
        self.assertEqual(Pass.objects.count(), 1)
        self.assertIn("had asked for pass 1 already", self.told(answer))
        run = Pass.objects.get()
        for _ in range(4):
            self.client.post(reverse("session:repeat", args=[run.uid]), {"token": "one-page-repeat"})
        self.assertEqual(Pass.objects.count(), 2)
        for _ in range(2):
            self.client.post(reverse("timing:take"), self.sounding() | {"token": "one-page-take"})
        self.assertEqual(Sounding.objects.count(), 1)

    def sounding(self) -> dict:
        trip = self.instrument("Alder kit").uid
        return {"trip": trip, "test": "hits", "hits": 16, "velocity": 100, "fast": "on"}

    def test_a_repeat_waits_for_the_pass_that_runs(self):
        run = self.record("Alder kit")
        with without_queue("pass"):
            recording.repeat_pass(run)
        with self.assertRaisesRegex(CannotSchedule, "Pass 2 is still running"):
            recording.repeat_pass(run)
        answer = self.client.post(reverse("session:repeat", args=[run.uid]), follow=True)
        self.assertIn("Pass 2 is still running", self.told(answer))

    def test_an_interrupted_sounding_is_taken_again(self):
        with without_queue("sounding"):
            self.client.post(reverse("timing:take"), self.sounding())
        row = Sounding.objects.get()
        jobs.mark_not_begun()
        page = self.page("timing:open", row.uid)
        self.assertIn("Take it again", page)
        self.assertNotIn("Measure again", page)
        answer = self.client.post(reverse("timing:again", args=[row.uid]), {"side": "auto"}, follow=True)
        self.assertIn("there is nothing to measure", self.told(answer))
        self.client.post(reverse("timing:retake", args=[row.uid]))
        row.refresh_from_db()
        self.assertIsNotNone(row.measured)
        self.assertEqual(Job.objects.get(uid=row.job_id).state, Job.DONE)

    def test_a_sounding_stopped_before_it_began_is_gone(self):
        with without_queue("sounding"):
            self.client.post(reverse("timing:take"), self.sounding())
        self.client.post(reverse("timing:cancel", args=[Sounding.objects.get().uid]))
        self.assertFalse(Sounding.objects.exists() or Job.objects.filter(kind="sounding").exists())


class StateLineTest(DemoTest):
    def test_measuring_is_told_take_by_take_stopped_asked_for_again_and_refuses_no_pass(self):
        with without_queue("measuring"):
            run = self.record("Alder kit", "Bittern")
        self.assertIn("Pass 1: measuring take 1 of 2", self.page("session:home"))
        self.assertIn("Record 2 armed tracks", self.page("session:home"))
        address = reverse("session:measure", args=[run.uid])
        self.client.post(address, {"to": "stop"})
        self.assertIn("2 of 2 takes not measured yet", self.page("session:home"))
        self.assertEqual(self.client.get(reverse("session:measuring", args=[run.uid]))["X-Finished"], "1")
        self.client.post(address)
        self.assertIn("Pass 1: 2 takes measured, placed.", self.page("session:home"))
        with without_queue("measuring"):
            self.record("Alder kit")
            self.assertEqual(self.record("Alder kit").job.state, Job.DONE, "a pass while takes wait to be measured")

    def test_the_time_left_is_never_more_than_the_whole(self):
        reporter = jobs.Reporter(jobs.begin("pass"))
        reporter.whole_s = 10.0
        reporter.began -= 60
        reporter.report(0.5)
        self.assertEqual(Job.objects.get().remaining_s, 5.0)


class NoRoomTest(DemoTest):
    full = OSError(errno.ENOSPC, "No space left on device")

    def test_a_full_disk_is_told_and_leaves_nothing_half_done(self):
        big = smf(b"\x05\x90\x3c\x64\x05\x80\x3c\x40" * 20_000 + END)
        with mock.patch.object(audio.os, "fsync", side_effect=self.full):
            form = {"score": self.upload("long.mid", big), "name": ""}
            answer = self.client.post(reverse("session:import"), form)
            self.assertContains(answer, "The disk is full", status_code=409)
            self.assertEqual((Job.objects.count(), Session.objects.count()), (0, 1))
            run = self.record("Alder kit")
        self.assertEqual(run.job.state, Job.FAILED)
        self.assertIn("The disk is full", run.job.message)
        recording.rescue_partial_takes()
        self.assertEqual(run.takes.count(), 1, "what was recorded is still there when there is room again")

    def upload(self, name: str, data: bytes):
        from django.core.files.uploadedfile import SimpleUploadedFile

        return SimpleUploadedFile(name, data)


class WorkerWatchTest(DemoTest):
    def test_a_worker_that_dies_is_started_again_however_often_and_the_pages_say_so(self):
        quick = {"FIRST_WAIT_S": 0.01, "LONGEST_WAIT_S": 0.05}
        with mock.patch.multiple(worker_watch, **quick), mock.patch.object(worker_watch, "_watch", None):
            watch = worker_watch.WorkerWatch([sys.executable, "-c", "raise SystemExit(1)"])
            self.addCleanup(watch.stop)
            watch.start()
            wait_for(lambda: watch._deaths > 7)
            wait_for(lambda: "records and measures ended for the" in self.page("session:home"))
            watch.stop()

    def test_work_that_was_never_handed_over_says_why(self):
        job = jobs.begin("pass")
        with (
            mock.patch.dict(jobs._functions, {"pass": mock.Mock(side_effect=OSError("disk full"))}),
            self.assertRaisesRegex(NotBegun, "Try again"),
            self.assertLogs("hypotaxis", "ERROR"),
        ):
            jobs.hand_over(job)
