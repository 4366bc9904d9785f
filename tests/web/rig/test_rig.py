"""Every change to the rig is one step that can be taken back; what does not fit is said and changes nothing."""

import re
from dataclasses import replace
from datetime import date
from unittest import mock

from django.urls import reverse
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.django import TestCase as HypothesisTest

from hypotaxis.core.errors import DoesNotFit, NothingToUndo, SocketTaken
from hypotaxis.core.rig.shapes import ADDABLE
from hypotaxis.demo.compose import in_step, saltmarsh_room
from hypotaxis.records import journal
from hypotaxis.records.import_rig import import_rig
from hypotaxis.records.models import Cable, Change
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.rig import services
from tests.rooms import box_named
from tests.web.base import DemoTest


class JournalTest(DemoTest):
    def test_each_change_is_taken_back_and_repeated_exactly(self):
        before = self.plan
        changes = [
            lambda: services.add_box(self.rig, self.plan, shape="effect", name="Eelgrass", colour="#6FA8A2"),
            lambda: self.plug_sluice(),
            lambda: services.move_box(self.rig, self.plan, box_named(self.plan, "Alder"), up=True),
            lambda: services.edit_box(
                self.rig, self.plan, box_named(self.plan, "Sedge"), name="Sedge 2", note="", colour=""
            ),
            lambda: services.unplug(self.rig, self.plan, self.plan.rig.cable_at(self.socket("Alder", "L"))),
            lambda: services.remove_box(self.rig, self.plan, box_named(self.plan, "Alder")),
        ]
        states = [before]
        for change in changes:
            change()
            states.append(self.plan)
        for state in reversed(states[:-1]):
            journal.undo(self.rig)
            self.assertEqual(self.plan, state)
        with self.assertRaisesRegex(NothingToUndo, "nothing to undo"):
            journal.undo(self.rig)
        for state in states[1:]:
            journal.redo(self.rig)
            self.assertEqual(self.plan, state)

    def test_a_new_change_drops_what_was_taken_back(self):
        self.plug_sluice()
        journal.undo(self.rig)
        services.add_box(self.rig, self.plan, shape="effect", name="Eelgrass")
        with self.assertRaises(NothingToUndo):
            journal.redo(self.rig)

    def test_a_change_that_changes_nothing_is_no_step(self):
        sedge = box_named(self.plan, "Sedge")
        services.edit_box(self.rig, self.plan, sedge, name=sedge.name, note=sedge.note, colour=sedge.colour)
        self.assertFalse(Change.objects.exists())

    def test_the_plan_of_the_rows_is_the_plan_of_the_file(self):
        file = in_step(saltmarsh_room())
        self.assertEqual(self.plan.rig, file.rig)
        unnamed = [replace(one, patch_list="", note_map="", middle_c=4) for one in self.plan.instruments]
        self.assertEqual(unnamed, list(file.instruments))


class AnyChangesTest(HypothesisTest):
    @settings(max_examples=12)
    @given(st.lists(st.tuples(st.sampled_from(ADDABLE), st.integers(0, 60), st.integers(0, 60)), max_size=5))
    def test_undo_of_everything_is_the_beginning(self, wishes):
        rig = import_rig(saltmarsh_room())
        beginning = load_plan(rig)
        for shape, one, other in wishes:
            services.add_box(rig, load_plan(rig), shape=shape, name=f"Box {one}")
            plan = load_plan(rig)
            sockets = [socket.uid for _, socket in plan.rig.each_socket()]
            try:
                services.connect(rig, plan, sockets[one % len(sockets)], sockets[-1 - other % len(sockets)])
            except DoesNotFit:
                services.remove_box(rig, plan, plan.rig.boxes[other % len(plan.rig.boxes)])
        while journal.last_done(rig):
            journal.undo(rig)
        self.assertEqual(load_plan(rig), beginning)


class PagesTest(DemoTest):
    def test_the_sheet_names_what_is_wrong_and_leads_to_it(self):
        page = self.page("rig:home")
        self.assertIn("Withy has no way home", page)
        self.assertIn(f"?at={self.socket('Quayside 18', 'line in 4')}", page)

    def test_every_finding_leads_somewhere(self):
        services.add_box(self.rig, self.plan, shape="effect", name="Sedge")
        services.unplug(self.rig, self.plan, self.plan.rig.cable_at(self.socket("Quayside 18", "USB")))
        services.set_up(self.rig, self.plan, box_named(self.plan, "Reedbed"), omni=True, clock="external")
        self.rig.instruments.filter(name="Alder kit").update(home_trim_db=20)
        answer = self.client.get(reverse("rig:home"))
        self.assertIn("Rig", [line.step.title for line in answer.context["frame"].steps if line.wrong == 2])
        shown = re.search(r'id="findings".*?</section>', answer.content.decode(), re.S).group(0)
        items = shown.split("set aside as meant")[0].split('class="side-item"')[1:]
        self.assertGreater(len(items), 6)
        for item in items:
            links = re.findall(r'class="small-button" href="([^"]+)"', item)
            self.assertGreaterEqual(len(links), 2, item)
            for link in links:
                self.assertEqual(self.client.get(link).status_code, 200, link)

    def test_a_selected_trip_is_a_sentence(self):
        page = self.page("rig:home", trip=self.instrument("Bittern").uid)
        self.assertIn("go straight on by", page)
        self.assertIn("Bittern out</b> and comes home on", page)

    def test_adding_a_box_needs_a_name_and_keeps_what_was_typed(self):
        answer = self.client.post(reverse("rig:add"), {"shape": "effect", "name": "", "note": "a spring"})
        self.assertContains(answer, "This field is required.")
        self.assertContains(answer, 'value="a spring"')
        self.client.post(reverse("rig:add"), {"shape": "effect", "name": "Eelgrass", "colour": ""})
        self.assertEqual(box_named(self.plan, "Eelgrass").socket("in").kind, "audio")

    def test_a_port_gets_the_owners_name_everywhere(self):
        uid = self.socket("Junction 6", "out 2")
        services.name_ports(self.rig, self.plan, {uid: {"port_name": "To the left rack"}})
        self.assertIn("To the left rack", self.page("instruments:home"))

    def test_what_does_not_fit_is_said_at_the_form_and_nothing_changes(self):
        taken, free = self.socket("Sedge", "L"), self.socket("Quayside 18", "line in 4")
        with self.assertRaisesRegex(SocketTaken, "Sedge L already has a cable, to Quayside 18 line in 1"):
            services.connect(self.rig, self.plan, taken, free)
        answer = self.client.post(
            reverse("rig:connect"),
            {"source": self.socket("Alder", "snare"), "target": self.socket("Alder", "thru"), "count": 1},
        )
        self.assertContains(answer, "A cable joins two sockets of one kind")
        answer = self.client.post(reverse("rig:connect"), {"source": taken, "target": free, "count": 1})
        self.assertContains(answer, "This socket is gone or already has its cable")
        self.assertEqual(Cable.objects.count(), len(saltmarsh_room().rig.cables))

    def test_a_removed_box_leaves_its_instruments_as_loose_ends(self):
        answer = self.client.post(reverse("rig:remove", args=[box_named(self.plan, "Sedge").uid]), follow=True)
        self.assertIn("Undo brings them back", self.told(answer))
        self.assertIn("a box that is gone", self.page("instruments:home"))
        self.client.post(reverse("rig:undo"))
        self.assertNotIn("a box that is gone", self.page("instruments:home"))

    def test_both_sides_of_a_pair_are_one_step(self):
        for label in ("L", "R"):
            services.unplug(self.rig, self.plan, self.plan.rig.cable_at(self.socket("Alder", label)))
        before = self.plan
        ends = {"source": self.socket("Alder", "L"), "target": self.socket("Quayside 18", "line in 7")}
        self.client.post(reverse("rig:connect"), ends | {"count": 2})
        right = self.plan.rig.cable_at(self.socket("Alder", "R"))
        self.assertEqual(right.target, self.socket("Quayside 18", "line in 8"))
        journal.undo(self.rig)
        self.assertEqual(self.plan, before)
        self.client.post(reverse("rig:connect"), ends | {"count": 1})
        self.assertIsNone(self.plan.rig.cable_at(self.socket("Alder", "R")))
        self.assertIn("Plug the other side too", self.page("rig:home", at=ends["target"]))

    def test_a_box_is_copied_with_its_sockets_and_without_cables(self):
        alder = box_named(self.plan, "Alder")
        self.client.post(reverse("rig:copy", args=[alder.uid]))
        self.client.post(reverse("rig:copy", args=[alder.uid]))
        for name in ("Alder 2", "Alder 3"):
            copy = box_named(self.plan, name)
            self.assertEqual([s.label for s in copy.sockets], [s.label for s in alder.sockets])
            self.assertFalse(any(self.plan.rig.cable_at(s.uid) for s in copy.sockets))
        journal.undo(self.rig)
        self.assertNotIn("Alder 3", [box.name for box in self.plan.rig.boxes])

    def test_the_start_up_list_is_ticked_for_the_day(self):
        quayside = box_named(self.plan, "Quayside 18")
        done = [f"on-{quayside.uid}", "host-on", "not-on-the-list"]
        answer = self.client.post(reverse("rig:startup"), {"done": done}, follow=True)
        self.assertContains(answer, "2 of")
        self.assertEqual(answer.content.decode().count(" checked"), 2)
        with mock.patch("hypotaxis.steps.rig.views.lists.timezone.localdate", return_value=date(2036, 1, 2)):
            self.assertIn("0 of", self.page("rig:startup"))
        self.client.post(reverse("rig:startup"), {"done": ["host-on"]})
        self.assertEqual(list(self.rig.ticks.values_list("key", flat=True)), ["host-on"])

    def test_panel_settings_keep_the_day_and_go_when_the_plan_changes(self):
        bittern = box_named(self.plan, "Bittern")
        keys = [f"panel-{bittern.uid}-channel-1-3", f"panel-{bittern.uid}-omni-off"]
        with mock.patch("hypotaxis.steps.rig.views.lists.timezone.localdate", return_value=date(2036, 1, 2)):
            self.client.post(reverse("rig:panels"), {"done": keys[:1]})
        self.client.post(reverse("rig:panels"), {"done": keys})
        self.client.post(reverse("rig:startup"), {"done": []})
        self.assertEqual(self.rig.ticks.get(key=keys[0]).day, date(2036, 1, 2))
        self.assertIn("2 Jan 2036", self.page("rig:panels"))
        self.rig.instruments.filter(name="Bittern").update(channel=4)
        page = self.page("rig:panels")
        self.assertNotIn("2 Jan 2036", page)
        self.assertIn("1 of", page)

    def test_what_is_sought_is_drawn_strong(self):
        page = self.page("rig:home", find="bittern midi")
        self.assertIn("with “bittern midi” in their names", page)
        self.assertIn("unit-strong", page)
        self.assertIn("0 things on the sheet with “zither”", self.page("rig:home", find="zither"))

    def test_the_computer_cannot_be_opened_or_removed(self):
        host = next(box for box in self.plan.rig.boxes if box.shape == "host")
        self.assertEqual(self.client.get(reverse("rig:box", args=[host.uid])).status_code, 404)
        self.assertEqual(self.client.post(reverse("rig:remove", args=[host.uid])).status_code, 404)


class EmptyDeskTest(HypothesisTest):
    def test_an_empty_desk_says_how_to_begin_on_every_step(self):
        hints = {
            "rig:home": "Add your interface",
            "instruments:home": "No instrument yet",
            "sync:home": "Import a session to see its bars",
            "timing:home": "How late is your hardware?",
            "session:home": "No session yet",
            "handover:home": "Nothing to hand over yet",
        }
        for name, hint in hints.items():
            self.assertContains(self.client.get(reverse(name)), hint)
