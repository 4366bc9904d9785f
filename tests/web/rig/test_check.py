"""The line check's page: what was heard, what is not as planned, one move in the plan, again and stopped."""

import re
from dataclasses import replace
from unittest import mock

from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.linecheck.hearing import InputHeard, LineHeard
from hypotaxis.core.linecheck.verdicts import AS_PLANNED, AWAY, CHANNEL, ELSEWHERE, SILENT
from hypotaxis.core.rig.change import set_box
from hypotaxis.records.jobs import Reporter, newest
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import FrontPanel, Job
from hypotaxis.steps.rig import checking
from hypotaxis.steps.rig.checking import LineCheck
from hypotaxis.web import studio_startup
from tests.rooms import box_named
from tests.web.base import DemoTest


class LineCheckTest(DemoTest):
    def check(self, **asked):
        return self.client.post(reverse("rig:check"), {"to": "all", "fast": "on"} | asked, follow=True)

    def kinds(self) -> dict[str, str]:
        return {one.line.name: one.kind for one in LineCheck(self.rig, self.plan).verdicts.values()}

    def panel(self, name: str, **settings) -> None:
        row, _ = FrontPanel.objects.get_or_create(box_uid=box_named(self.plan, name).uid)
        row.settings = row.settings | settings
        row.save()

    def test_every_line_is_played_and_what_differs_is_told(self):
        self.assertIn("0 of 8", self.page("rig:check"))
        self.check()
        kinds = self.kinds()
        self.assertEqual(len(kinds), 8)
        self.assertEqual((kinds["Sedge upper"], kinds["Bittern"], kinds["Alder kick"]), (AS_PLANNED,) * 3)
        self.assertEqual(kinds["Withy"], SILENT)
        page = self.page("rig:check")
        self.assertIn("On the sheet nothing brings Withy home to line in 4", page)
        self.assertIn("not as planned", page)
        self.assertEqual(self.client.get(reverse("rig:check-rows"))["X-Finished"], "1")

    def test_it_writes_for_a_line_and_not_for_a_block(self):
        with mock.patch.object(Reporter, "due", return_value=False), CaptureQueriesContext(connection) as asked:
            self.check()
        written = [one for one in asked if one["sql"].startswith("UPDATE")]
        self.assertEqual(len(self.kinds()), 8)
        self.assertLess(len(written), 8 * 5)

    def test_what_was_silent_at_inputs_that_are_not_its_own_is_not_kept(self):
        self.check()
        check = LineCheck(self.rig, self.plan)
        for line in check.lines:
            found = check.heard[line.key].heard
            self.assertEqual({one.uid for one in found.inputs}, {*line.inputs, *found.moved}, line.name)

    def test_a_poll_brings_what_has_changed_since_the_last_one_and_nothing_else(self):
        self.check()
        job, whole = newest(checking.KIND, str(self.rig.uid)), LineCheck(self.rig, self.plan).checked

        def heard(count: int, **more) -> None:
            so_far = replace(whole, lines=whole.lines[:count], now=whole.lines[count].key)
            Job.objects.filter(pk=job.pk).update(state=Job.RUNNING, result=to_json(so_far), **more)

        def polled():
            answer = self.client.get(reverse("rig:check-rows"), headers={"X-State": self.state})
            self.state = answer.get("X-State", self.state)
            return answer.status_code, re.findall(r'data-part="([\w-]+)"', answer.content.decode())

        heard(3)
        self.state = re.search(r'data-state="([^"]+)"', self.page("rig:check"))[1]
        self.assertEqual(polled(), (204, []))
        heard(4, progress=0.5)
        self.assertEqual(polled(), (200, ["check-3", "check-4", "check-sum"]))
        with self.assertNumQueries(1):
            self.assertEqual(polled(), (204, []))
        heard(4, message="Something to tell.")
        self.assertEqual(polled(), (200, ["check-sum"]))
        change_plan(self.rig, "moved", self.plan, set_box(self.plan, box_named(self.plan, "Bittern").uid, name="Heath"))
        self.assertEqual(polled()[1][:2], ["check-rows", "check-0"])
        self.state = ""
        self.assertEqual(len(polled()[1]), 1 + len(whole.lines) + 1)

    def test_a_box_on_another_channel_is_found_and_the_plan_follows_in_one_move_shown_first(self):
        self.check()
        self.panel("Bittern", channels=[9])
        key = next(one.key for one in LineCheck(self.rig, self.plan).lines if one.name == "Bittern")
        self.check(only=key)
        self.assertEqual(self.kinds()["Bittern"], CHANNEL)
        self.assertEqual(len(self.kinds()), 8, "the other lines keep what was heard of them")
        page = self.page("rig:check")
        self.assertIn("it answers on channel 9", page)
        self.assertIn("good 20", page, "its last good check stands beside it")
        shown = self.page("rig:check", show=key, cause=0)
        self.assertIn("1 change in the plan", shown)
        self.assertEqual(self.instrument("Bittern").channel, 3)
        self.client.post(reverse("rig:check"), {"to": "fix", "line": key, "cause": "0"})
        self.assertEqual(self.instrument("Bittern").channel, 9)
        self.assertEqual(self.client.post(reverse("rig:check"), {"to": "fix", "line": "none"}).status_code, 404)

    def test_a_cable_plugged_elsewhere_is_told_with_where(self):
        real = studio_startup.Desk

        def plugged_elsewhere(rig, *args, **kwargs):
            target = self.socket("Quayside 18", "mic 2")
            home = self.socket("Quayside 18", "line in 3")
            cables = tuple(
                replace(one, target=target) if one.target == home else one for one in rig.cables if one.target != target
            )
            return real(replace(rig, cables=cables), *args, **kwargs)

        with mock.patch.object(studio_startup, "Desk", plugged_elsewhere):
            self.check()
        self.assertEqual(self.kinds()["Bittern"], ELSEWHERE)
        self.assertIn("Came home on mic 2 instead of line in 3", self.page("rig:check"))

    def test_what_someone_plays_in_between_is_heard_once_and_the_line_is_heard_again(self):
        played, mic = checking.play, self.socket("Quayside 18", "mic 2")
        disturbed = []

        def in_between(*given, **named):
            for slot, heard in played(*given, **named):
                if heard and slot.line.name == "Bittern" and not disturbed:
                    disturbed.append(heard)
                    heard = LineHeard((*heard.inputs, InputHeard(mic, -12.0, -90.0, late_ms=40.0)))
                yield slot, heard

        with mock.patch.object(checking, "play", in_between):
            self.check()
        self.assertTrue(disturbed)
        self.assertEqual(self.kinds()["Bittern"], AS_PLANNED)
        self.assertIn("Heard twice. At first: Eelgrass answered too, on mic 2", self.page("rig:check"))

    def test_a_line_whose_port_is_away_is_left_out_and_said_so_and_the_others_are_played(self):
        port = next(one.port for one in LineCheck(self.rig, self.plan).lines if one.name == "Withy")
        real = studio_startup.Desk.ports
        there = lambda desk: tuple(one for one in real(desk) if one.system_name != port)  # noqa: E731
        with mock.patch.object(studio_startup.Desk, "ports", there):
            self.check()
        self.assertEqual((self.kinds()["Withy"], self.kinds()["Bittern"]), (AWAY, AS_PLANNED))
        self.assertIn(f"Not checked: {port} is not there now.", self.page("rig:check"))

    def test_without_a_line_and_while_a_pass_runs_it_says_so(self):
        with mock.patch.object(checking, "lines_of", lambda *given: ()):
            self.assertIn("No line can be checked", self.told(self.check()))
        run = self.record("Bittern")
        Job.objects.filter(uid=run.job_id).update(state=Job.RUNNING)
        self.assertIn("A pass is still running", self.told(self.check()))
        self.assertIsNone(newest(checking.KIND, str(self.rig.uid)))

    def test_what_the_person_answers_is_kept_and_can_be_asked_anew(self):
        self.check()
        reedbed = next(one for one in LineCheck(self.rig, self.plan).lines if one.name == "Reedbed")
        asked = {"line": reedbed.key, "question": "lamp"}
        self.assertIn("does the lamp of", self.page("rig:check"))
        self.client.post(reverse("rig:check"), asked | {"to": "no"})
        page = self.page("rig:check")
        self.assertIn("By your answers: Nothing leaves by", page)
        self.client.post(reverse("rig:check"), asked | {"to": "ask anew"})
        self.assertIn("does the lamp of", self.page("rig:check"))
        self.assertEqual(self.client.post(reverse("rig:check"), {"to": "yes", "line": "none"}).status_code, 302)

    def test_a_box_that_slept_is_heard_when_the_first_note_has_woken_it(self):
        real, heard = checking.play, []

        def woken(studio, slots, inputs, **how):
            for slot, found in real(studio, slots, inputs, **how):
                first = found is not None and slot.line.name == "Bittern" and not heard
                if first:
                    heard.append(slot)
                    found = LineHeard(())
                yield slot, found

        with mock.patch.object(checking, "play", woken):
            self.check()
        self.assertEqual(self.kinds()["Bittern"], AS_PLANNED)
        self.assertIn("Heard twice. At first: Silent", self.page("rig:check"))

    def test_a_box_that_has_told_before_is_asked_who_it_is(self):
        self.check()
        box = box_named(self.plan, "Bittern")
        change_plan(self.rig, "known", self.plan, set_box(self.plan, box.uid, identity="00 21 7F 01 00 02 00"))
        self.panel("Bittern", off=True)
        self.check()
        self.assertIn("Bittern did not answer who it is", self.page("rig:check"))

    def test_what_was_stopped_goes_on_with_what_was_not_heard(self):
        lines = LineCheck(self.rig, self.plan).lines
        self.check(only=f"{lines[0].key},{lines[2].key}")
        self.assertIn("Go on with the 6 left", self.page("rig:check"))
        left = [line.key for line in lines if line.key not in (lines[0].key, lines[2].key)]
        self.check(only=",".join(left))
        self.assertEqual(len(self.kinds()), 8)
        self.assertNotIn("Go on with", self.page("rig:check"))
