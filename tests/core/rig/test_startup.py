"""The start-up list follows the rig."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.rig.startup import startup_list
from tests.rooms import add_boxes, demo_plan, empty_plan


class StartupTest(SimpleTestCase):
    def test_the_order_is_cables_power_computer_host(self):
        titles = [stage.title for stage in startup_list(demo_plan())]
        self.assertEqual(
            titles,
            [
                "With the power off",
                "Switch on",
                "On the computer",
                "Then the host",
                "If the host does not see something",
            ],
        )

    def test_cables_are_told_box_by_box_and_pairs_together(self):
        plugged = [step.text for step in startup_list(demo_plan())[0].steps]
        self.assertIn(
            "Sedge is plugged: MIDI in, L, R to Quayside 18 MIDI out, line in 1–2; thru to Bittern MIDI in.", plugged
        )

    def test_interfaces_come_before_boxes(self):
        on = [step.text for step in startup_list(demo_plan())[1].steps]
        self.assertEqual(on[0], "Quayside 18 is on.")
        self.assertEqual(len(on), 5)

    def test_what_changes_has_to_be_ticked_anew_and_what_does_not_stays(self):
        plan = demo_plan()
        keys = {step.key for stage in startup_list(plan) for step in stage.steps}
        more = {step.key for stage in startup_list(add_boxes(plan, ("effect", "Eelgrass"))) for step in stage.steps}
        self.assertEqual(len(more - keys), 1)
        slower = replace(plan, rig=replace(plan.rig, buffer=512))
        other = {step.key for stage in startup_list(slower) for step in stage.steps}
        self.assertEqual(other - keys, {"host-48000-512"})

    def test_an_empty_rig_has_no_list(self):
        self.assertEqual(startup_list(empty_plan()), ())
