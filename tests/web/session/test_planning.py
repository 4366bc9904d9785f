"""A pass plan: made, edited by hand, run in a row, gone on with where it was."""

from unittest import mock

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.session.score import NOTE
from hypotaxis.records.models import Job, Pass, Take
from hypotaxis.steps.session.services import judging, planning, recording
from tests.web.base import DemoTest

SETTINGS = {"first_bar": 1, "last_bar": 2, "gap_s": 0.0, "fast": True}


class PlanningTest(DemoTest):
    def setUp(self):
        super().setUp()
        self.plug_sluice()

    def planned(self, **chosen):
        return planning.plan_anew(self.session, self.plan, **SETTINGS | chosen)

    def names(self, row) -> list[list[str]]:
        named = {str(one.uid): one.name for one in self.session.tracks.all()}
        return [[named[uid] for uid in column.tracks] for column in row.columns.all()]

    def run_it(self, row):
        planning.start(row)
        row.refresh_from_db()
        return row

    def test_parts_of_one_return_go_to_a_pass_each_and_all_is_recorded_in_a_row(self):
        row = self.planned()
        first, second = self.names(row)[:2]
        self.assertIn("Sedge upper", first)
        self.assertIn("Sedge lower", second)
        row = self.run_it(row)
        self.assertEqual((row.job.state, row.job.message), (Job.DONE, ""))
        states = planning.states_of(row.columns.all())
        self.assertTrue(set(states) <= {planning.GOOD, planning.FAILED}, states)
        recorded = {take.track.name for take in Take.objects.all()}
        self.assertEqual(recorded, {name for names in self.names(row) for name in names})
        with self.assertRaisesRegex(CannotSchedule, "Every pass of this plan is done"):
            planning.start(row)

    def test_it_is_edited_by_hand_within_what_can_be(self):
        row = self.planned()
        uid = {one.name: str(one.uid) for one in self.session.tracks.all()}
        with self.assertRaisesRegex(CannotSchedule, "share line in 1–2. They need a pass each."):
            planning.move(row, self.plan, uid["Sedge upper"], 1)
        planning.move(row, self.plan, uid["Bittern"], 1)
        self.assertIn("Bittern", self.names(row)[1])
        count = row.columns.count()
        planning.move(row, self.plan, uid["Bittern"], count)
        self.assertEqual(self.names(row)[count], ["Bittern"])

    def test_what_fails_is_recorded_once_more_and_left_then(self):
        self.session.tracks.exclude(name="Bittern").update(notes=b"")
        row = self.planned()
        silent = lambda takes: {take.uid: "silent" for take in takes}  # noqa: E731
        with mock.patch.object(judging, "troubles_of", silent):
            row = self.run_it(row)
            (column,) = row.columns.all()
            self.assertEqual(planning.states_of([column]), [planning.FAILED])
        self.assertEqual(Pass.objects.filter(planned=column).count(), 2, "once more, and no more")
        self.assertEqual(row.job.state, Job.DONE)

    def test_it_stops_after_a_pass_and_goes_on_where_it_was(self):
        row = self.planned()
        real = recording.measure_takes.call_local

        def stop_after(uid):
            planning.stop(row, after=True)
            return real(uid)

        with mock.patch.object(recording.measure_takes, "call_local", stop_after):
            self.run_it(row)
        states = planning.states_of(row.columns.all())
        self.assertEqual(states.count(planning.WAITS), len(states) - 1)
        done = Pass.objects.count()
        self.run_it(row)
        self.assertNotIn(planning.WAITS, planning.states_of(row.columns.all()))
        self.assertEqual(Pass.objects.filter(planned=row.columns.first()).count(), done, "what was done stays")

    def test_what_cannot_be_recorded_ends_the_row_with_its_reason_and_it_goes_on_later(self):
        row = self.planned()
        real = recording.plan_pass
        with mock.patch.object(recording, "plan_pass", side_effect=CannotSchedule("The return of Sedge is gone.")):
            row = self.run_it(row)
        self.assertEqual((row.job.state, row.job.message), (Job.FAILED, "The return of Sedge is gone."))
        self.assertIs(recording.plan_pass, real)
        # As after a worker that died: what was recorded is there, the rest waits.
        Job.objects.filter(uid=row.job_id).update(state=Job.INTERRUPTED)
        row.refresh_from_db()
        row = self.run_it(row)
        self.assertEqual(row.job.state, Job.DONE)

    def test_takes_that_are_unlike_the_last_one_fail(self):
        self.session.tracks.exclude(name="Bittern").update(notes=b"")
        self.run_it(self.planned())
        first = Take.objects.get()
        self.assertEqual((judging.troubles_of([first]), judging.unlike(first, self.plan)), ({first.uid: ""}, ""))
        notes = self.track("Bittern")
        rows = np.frombuffer(bytes(notes.notes), dtype=NOTE).copy()
        rows["note"] += 12
        self.session.tracks.filter(name="Bittern").update(notes=rows.tobytes())
        self.run_it(self.planned(repeat=False))
        second = Take.objects.order_by("number").last()
        self.assertIn("not like take 1: Another sound", judging.unlike(second, self.plan))

    def test_a_pass_of_ones_own_waits_for_the_plan(self):
        row = self.planned()
        row.job = Job.objects.create(kind=planning.KIND, state=Job.RUNNING)
        row.save()
        self.arm("Bittern")
        with self.assertRaisesRegex(CannotSchedule, "The pass plan is running."):
            recording.start_pass(self.session, self.plan, first_bar=1, last_bar=1, fast=True, place_takes=True)
        with self.assertRaisesRegex(CannotSchedule, "The pass plan is running. Stop it first."):
            self.planned()
