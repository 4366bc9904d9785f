"""The start-up list and the panel settings follow the plan."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.rig.panels import panel_settings
from hypotaxis.core.rig.startup import startup_list
from tests.rooms import add_boxes, change, empty_plan, plug, small_room


class StartupTest(SimpleTestCase):
    def test_the_order_is_cables_power_computer_host(self):
        titles = [stage.title for stage in startup_list(small_room())]
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
        plugged = [step.text for step in startup_list(small_room())[0].steps]
        self.assertIn(
            "Sedge is plugged: MIDI in, L, R to Quayside 18 MIDI out, line in 1–2; thru to Bittern MIDI in.", plugged
        )

    def test_interfaces_come_before_boxes(self):
        on = [step.text for step in startup_list(small_room())[1].steps]
        self.assertEqual(on[0], "Quayside 18 is on.")
        self.assertEqual(len(on), 5)

    def test_what_changes_has_to_be_ticked_anew_and_what_does_not_stays(self):
        plan = small_room()
        keys = {step.key for stage in startup_list(plan) for step in stage.steps}
        more = {step.key for stage in startup_list(add_boxes(plan, ("effect", "Eelgrass"))) for step in stage.steps}
        self.assertEqual(len(more - keys), 1)
        slower = replace(plan, rig=replace(plan.rig, buffer=512))
        other = {step.key for stage in startup_list(slower) for step in stage.steps}
        self.assertEqual(other - keys, {"host-48000-512"})

    def test_an_empty_rig_has_no_list(self):
        self.assertEqual(startup_list(empty_plan()), ())


class PanelsTest(SimpleTestCase):
    def told(self, plan, name):
        return next([step.text for step in one.settings] for one in panel_settings(plan) if one.box.name == name)

    def test_each_box_is_told_its_channels_and_what_else_it_needs(self):
        sedge = self.told(small_room(), "Sedge")
        self.assertEqual(sedge[:2], [
            "Part 1 receives on channel 1, for Sedge upper.", "Part 2 receives on channel 2, for Sedge lower.",
        ])  # fmt: skip
        self.assertIn("Omni is off, so that it answers on its own channel only.", sedge)
        self.assertEqual(self.told(small_room(), "Bittern")[0], "Receives on channel 3, for Bittern.")
        self.assertEqual([one.box.name for one in panel_settings(empty_plan())], [])

    def test_a_separate_out_is_told_when_it_is_plugged(self):
        plugged = plug(small_room(), "Alder", "kick", "Quayside 18", "line in 7")
        self.assertIn("The kick leaves by kick alone.", self.told(plugged, "Alder"))
        self.assertNotIn("The kick leaves by kick alone.", self.told(small_room(), "Alder"))

    def test_a_tick_holds_only_for_the_same_value(self):
        keys = [{s.key for one in panel_settings(plan) for s in one.settings} for plan in (
            small_room(), change(small_room(), "Bittern", channel=4),
        )]  # fmt: skip
        (gone,) = keys[0] - keys[1]
        self.assertTrue(gone.endswith("channel-1-3"))
