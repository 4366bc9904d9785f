"""What holds on every page: policy, hosts, errors without a traceback, the work line's facts."""

import re
from unittest import mock

from django.db import connection
from django.test import Client, SimpleTestCase, override_settings
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.records import current, journal, stamps
from hypotaxis.records.models import Job
from hypotaxis.records.studio import studio_for
from hypotaxis.steps.registry import STEPS
from tests.rooms import small_room
from tests.web.base import DemoTest


class SafetyTest(DemoTest):
    def test_every_step_has_a_strict_policy_and_no_inline_script_or_style(self):
        for step in STEPS:
            answer = self.client.get(reverse(step.url))
            policy = answer["Content-Security-Policy"]
            self.assertIn("default-src 'none'", policy)
            self.assertNotIn("unsafe", policy)
            self.assertNotRegex(
                answer.content.decode(), r"<script(?![^>]*src=)|\sstyle=|\son[a-z]+=\"|https?://(?!www.w3)"
            )

    def test_other_hosts_are_refused(self):
        self.assertEqual(self.client.get("/rig/", headers={"host": "evil.example"}).status_code, 400)
        self.assertEqual(self.client.get("/rig/", headers={"host": "127.0.0.1:8000"}).status_code, 200)

    def test_a_post_from_elsewhere_is_refused_and_says_what_to_do(self):
        strict = Client(enforce_csrf_checks=True)
        answer = strict.post(reverse("rig:undo"))
        self.assertContains(answer, "reload it, and send it again", status_code=403)

    def test_what_breaks_says_so_without_a_traceback(self):
        client = Client(raise_request_exception=False)
        stamps._answers.clear()
        with (
            mock.patch("hypotaxis.steps.rig.views.sheet.draw_sheet", side_effect=RuntimeError("secret detail")),
            self.assertLogs("django.request", "ERROR"),
        ):
            answer = client.get(reverse("rig:home"))
        self.assertContains(answer, "Nothing that was saved is lost", status_code=500)
        self.assertNotContains(answer, "secret detail", status_code=500)
        with mock.patch("hypotaxis.steps.rig.views.sheet.draw_sheet", side_effect=StudioTrouble("The port is taken.")):
            self.assertContains(client.get(reverse("rig:home")), "The port is taken.", status_code=409)
        self.assertContains(client.get("/nowhere/"), "There is nothing under this address", status_code=404)

    def test_undo_leads_nowhere_outside(self):
        answer = self.client.post(reverse("rig:undo"), {"next": "https://elsewhere.example/"})
        self.assertEqual(answer["Location"], reverse("rig:home"))


class WorkLineTest(DemoTest):
    def facts(self) -> dict:
        frame = self.client.get(reverse("rig:home")).context["frame"]
        return {line.step.title: (line.told, line.wrong) for line in frame.steps}

    def test_each_step_has_its_live_fact(self):
        before = self.facts()
        self.assertEqual(before["Rig"], ("7 boxes, 1 loose end", 1))
        self.assertEqual(before["Instruments"][0], "7, 1 not ready")
        self.assertEqual(before["Session"][0], "Tide Tables, no takes")
        self.plug_sluice()
        self.record("Bittern")
        after = self.facts()
        self.assertEqual(after["Rig"], ("7 boxes", 0))
        self.assertEqual(after["Timing"][0], "1 of 7 measured")
        self.assertEqual(after["Session"][0], "Tide Tables, 1 take")
        self.assertEqual(after["Handover"][0], "1 placed take")
        Job.objects.update(state=Job.RUNNING)
        self.assertEqual(self.facts()["Session"][0], "pass 1 is recording")

    def test_timing_shows_the_measured_needle_on_a_common_scale(self):
        self.record("Alder kit")
        page = self.page("timing:home")
        # Once on its ribbon, once where all play together.
        self.assertEqual(page.count('class="needle"'), 2)
        self.assertIn("take 1 of Tide Tables", page)


class StudioTest(SimpleTestCase):
    def test_only_the_worker_talks_to_the_studio(self):
        with (
            override_settings(HUEY={"immediate": False}),
            mock.patch("hypotaxis.records.studio._owner", False),
            self.assertRaisesRegex(StudioTrouble, "Only the worker"),
            studio_for(small_room()),
        ):
            pass


class CostTest(DemoTest):
    def test_a_poll_and_a_fragment_work_out_nothing_of_the_frame(self):
        run = self.record("Alder kit")
        polled = (reverse("session:running", args=[run.uid]), reverse("session:measuring", args=[run.uid]))
        with mock.patch.object(current, "check_all", side_effect=AssertionError("the rules were asked")):
            stamps._answers.clear()
            for address in (*polled, reverse("session:glass"), reverse("timing:running")):
                self.assertEqual(self.client.get(address).status_code, 200)
        for address in polled:
            with CaptureQueriesContext(connection) as asked:
                self.client.get(address)
            self.assertLessEqual(len(asked), 6)

    def test_the_rules_are_asked_once_while_the_rig_stays_as_it_is(self):
        stamps._answers.clear()
        with mock.patch.object(current, "check_all", wraps=current.check_all) as asked:
            for name in ("rig:home", "session:home", "instruments:home", "rig:home"):
                self.page(name)
            self.assertEqual(asked.call_count, 1)
            self.plug_sluice()
            self.page("rig:home")
            self.assertEqual(asked.call_count, 2)

    def test_a_page_tells_the_steps_around_it_without_reading_what_they_hold(self):
        self.plug_sluice()
        title = journal.last_done(self.rig).title
        with CaptureQueriesContext(connection) as asked:
            page = self.page("session:home")
        self.assertIn(f"Undo: {title}", page)
        self.assertIn("Nothing to redo", page)
        read = [one["sql"] for one in asked if "records_change" in one["sql"]]
        self.assertTrue(read)
        self.assertFalse([sql for sql in read if '"records_change"."edits"' in sql])
        with CaptureQueriesContext(connection) as asked:
            self.page("session:home")
        self.assertFalse([one for one in asked if "records_change" in one["sql"]])
        self.client.post(reverse("rig:undo"))
        self.assertIn(f"Redo: {title}", self.page("session:home"))
        self.client.post(reverse("rig:redo"))
        self.assertIn(f"Undo: {title}", self.page("session:home"))

    def test_the_work_line_is_the_registry(self):
        page = self.page("rig:home")
        shown = re.findall(r'step-number">(\d)</span> (\w+)', page)
        self.assertEqual(shown, [(str(step.number), step.title) for step in STEPS])
