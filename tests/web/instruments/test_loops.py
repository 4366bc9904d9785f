"""Effect loops: the same kind of line, sent audio."""

from dataclasses import replace

from django.urls import reverse

from hypotaxis.core.findings.rules import check
from hypotaxis.core.rig.build import with_new_uids
from hypotaxis.core.rig.change import keep_loop, without_cable
from hypotaxis.core.rig.loops import loop_sentence
from hypotaxis.core.rig.sentence import plain
from hypotaxis.records import journal
from tests.web.base import DemoTest


class LoopsTest(DemoTest):
    def test_the_demo_loop_reads_out_and_back(self):
        page = self.page("instruments:home")
        self.assertIn("Eelgrass delay", page)
        (loop,) = self.plan.loops
        self.assertEqual(
            plain(loop_sentence(self.plan.rig, loop)),
            "Audio leaves by line out 3, enters Eelgrass in; the sound leaves by Eelgrass out and comes home on mic 2.",
        )

    def test_a_loop_is_proposed_as_it_is_cabled_kept_and_taken_back(self):
        before = self.plan
        self.client.post(reverse("instruments:remove-loop", args=[before.loops[0].uid]))
        self.assertEqual(self.plan.loops, ())
        known = self.client.get(reverse("instruments:new-loop")).context["form"].initial
        self.assertEqual((known["name"], known["send_left"]), ("Eelgrass", before.loops[0].sends[0]))
        fields = {name: value for name, value in known.items() if value not in (None, False)}
        self.client.post(reverse("instruments:new-loop"), fields | {"inverted": "on", "home_trim_db": "-3"})
        (loop,) = self.plan.loops
        self.assertEqual((loop.returns, loop.inverted, loop.home_trim_db), (before.loops[0].returns, True, -3.0))
        self.client.post(
            reverse("instruments:loop", args=[loop.uid]), fields | {"name": "Long tail", "home_trim_db": "-3"}
        )
        self.assertEqual(self.plan.loops[0].name, "Long tail")
        for _ in range(3):
            journal.undo(self.rig)
        self.assertEqual(self.plan, before)

    def test_swapped_and_missing_sides_are_refused_at_their_fields(self):
        form = {"name": "x", "box": self.plan.loops[0].box, "home_trim_db": "0"}
        out = self.plan.loops[0].sends[0]
        address = reverse("instruments:new-loop")
        answer = self.client.post(address, form | {"send_right": out})
        self.assertContains(answer, "Choose the left output, or make it mono.")
        answer = self.client.post(address, form | {"send_left": out, "send_right": out})
        self.assertContains(answer, "Left and right are the same output.")
        self.assertEqual(len(self.plan.loops), 1)

    def test_each_rule_on_a_loop_that_breaks_it_with_a_remedy_that_mends_it(self):
        plan = self.plan
        (loop,) = plan.loops
        elsewhere = replace(loop, sends=(self.socket("Quayside 18", "line out 5"),))
        deaf = replace(loop, returns=(self.socket("Quayside 18", "line in 3"),))
        for rule, broken in {"loop-out-open": elsewhere, "loop-home-open": deaf}.items():
            with self.subTest(rule):
                found = {finding.rule: finding for finding in check(keep_loop(plan, broken))}
                self.assertIn(rule, found)
                self.assertEqual(found[rule].fix.apply(keep_loop(plan, broken)).loops, (loop,))
        self.assertIn("loop-home-shared", {finding.rule for finding in check(keep_loop(plan, deaf))})
        unplugged = without_cable(plan, plan.rig.cable_at(loop.sends[0]).uid)
        (found,) = [finding for finding in check(unplugged) if finding.rule == "loop-out-open"]
        self.assertIsNone(found.fix)
        self.assertFalse([finding for finding in check(plan) if finding.rule.startswith("loop")])

    def test_a_copied_rig_has_loops_of_its_own(self):
        copy = with_new_uids(self.plan, "Second room")
        self.assertNotEqual(copy.loops[0].uid, self.plan.loops[0].uid)
        told = [plain(loop_sentence(one.rig, one.loops[0])) for one in (self.plan, copy)]
        self.assertEqual(told[0], told[1])
