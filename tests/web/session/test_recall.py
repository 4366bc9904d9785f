"""Recall on its page: what differs since a take was made, shown and put back as one step; a few bars heard again; an
archive brings the rigs of its passes along."""

from unittest import mock

from django.urls import reverse

from hypotaxis.core.rig.change import remove_box, set_instrument, set_rig, set_up, without_cable
from hypotaxis.core.session.handover import SESSION
from hypotaxis.records.journal import change_plan, undo
from hypotaxis.records.kept_rigs import plan_of
from hypotaxis.records.models import KeptRig, Pass, Rig, Session, Take
from hypotaxis.records.plan import load_kept, load_plan
from hypotaxis.steps.handover import archive
from hypotaxis.steps.handover.opening import Wish, open_archive
from hypotaxis.steps.rig.services import connect
from hypotaxis.steps.session.services import recalling
from hypotaxis.steps.session.services.recalling import RecallPage
from tests.rooms import box_named
from tests.web.base import DemoTest


class RecallTest(DemoTest):
    def change(self, change) -> None:
        change_plan(self.rig, "planted", self.plan, change(self.plan))

    def rows(self, **how) -> list[str]:
        return [row.difference.told for row in RecallPage(self.session, self.plan, **how).rows]

    def unplug(self, box: str, label: str) -> None:
        cable = self.plan.rig.cable_at(self.socket(box, label))
        self.change(lambda plan: without_cable(plan, cable.uid))

    def put_back(self, *slugs: str):
        """Put these back, or all that the page offers."""
        shown = slugs or [row.slug for row in RecallPage(self.session, self.plan).may_go_back]
        return self.client.post(reverse("session:recall"), {"shown": shown, "to": "back"}, follow=True)

    def test_what_was_planted_is_told_shown_put_back_and_undone(self):
        self.record("Bittern", "Alder kit")
        self.assertEqual(self.rows(), [])
        self.assertIn("Nothing has changed since the standing takes", self.page("session:recall"))
        self.unplug("Bittern", "out")
        alder = box_named(self.plan, "Alder").uid
        self.change(lambda plan: set_up(set_rig(plan, buffer=64), alder, omni=True))
        self.session.tracks.filter(name="Bittern").update(program=77, patch_uid="")
        page = self.page("session:recall")
        self.assertIn("4 things have", page)
        for told in (
            "The cable Bittern out to Quayside 18 line in 3", "Alder, omni", "Buffer in samples",
            "The sound of Bittern", "Bittern take", "Alder kit take",
        ):  # fmt: skip
            self.assertIn(told, page)
        self.assertIn("Recall: 4 changed", self.page("session:home"))
        shown = self.page("session:recall", show="all")
        self.assertIn("4 changes in the plan, in one step", shown)
        self.assertIn("Plug Bittern out to Quayside 18 line in 3", shown)
        before = self.plan
        self.assertEqual(len(self.rows()), 4, "what is only shown is not done")
        answer = self.put_back()
        self.assertIn("4 things are as they were", self.told(answer))
        self.assertEqual(self.rows(), [])
        undo(self.rig, self.session)
        self.assertEqual((self.plan, len(self.rows())), (before, 4))

    def test_one_is_put_back_alone_and_asked_twice_changes_nothing(self):
        self.record("Bittern")
        bittern = self.instrument("Bittern").uid
        self.change(lambda plan: set_instrument(set_rig(plan, buffer=64), bittern, channel=9))
        first = RecallPage(self.session, self.plan).rows[0]
        self.assertEqual(first.difference.told, "Bittern, channel: 3; now 9.")
        self.put_back(first.slug)
        self.assertEqual(self.rows(), ["Buffer in samples: 256; now 64."])
        self.assertIn("stood already", self.told(self.put_back(first.slug)))
        self.assertIn(
            "stood already", self.told(self.client.get(f"{reverse('session:recall')}?show=nope", follow=True))
        )

    def test_takes_that_do_not_stand_are_looked_at_when_asked(self):
        self.record("Bittern")
        self.unplug("Bittern", "out")
        self.assertEqual(len(self.rows()), 1)
        connect(self.rig, self.plan, self.socket("Bittern", "out"), self.socket("Quayside 18", "line in 3"))
        self.change(lambda plan: set_rig(plan, buffer=128))
        self.record("Bittern")
        self.assertEqual(self.rows(), [])
        self.assertEqual(self.rows(every=True), ["Buffer in samples: 256; now 128."])

    def test_a_rig_is_kept_once_however_often_it_is_played(self):
        for _ in range(3):
            self.record("Bittern")
        kept = KeptRig.objects.get()
        self.assertEqual(kept.passes.count(), 3)
        self.assertEqual(plan_of(kept.digest).rig, load_kept(self.rig).rig)

    def test_takes_from_before_rigs_were_kept_tell_what_they_can(self):
        self.record("Bittern")
        Pass.objects.update(kept_rig=None)
        self.assertEqual(self.rows(), [])
        self.change(lambda plan: set_rig(plan, buffer=64))
        self.assertEqual(self.rows(), ["Bittern: it was measured otherwise; now buffer 256, now 64."])
        self.assertIn("only the measured trip is known", self.page("session:recall"))

    def test_a_missing_box_comes_back_for_good(self):
        self.record("Bittern")
        boxes, uid = self.plan.rig.boxes, box_named(self.plan, "Bittern").uid
        self.change(lambda plan: remove_box(plan, uid))
        page = self.page("session:recall", show="all")
        self.assertIn("Set Bittern up, and cable it", page)
        self.put_back()
        self.assertEqual({one.uid for one in self.plan.rig.boxes}, {one.uid for one in boxes})
        self.assertEqual(self.rows(), [])

    def test_ticks_of_cables_and_panels_are_kept_beside_those_of_the_other_lists(self):
        self.record("Bittern")
        page = RecallPage(self.session, self.plan)
        cable, setting = page.plugs[0][0].key, page.settings[0][1][0][0].key
        self.client.post(reverse("rig:startup"), {"done": ["x"]})
        self.client.post(reverse("session:recall"), {"to": "tick", "done": [cable, setting, "something else"]})
        self.assertEqual(set(self.rig.ticks.values_list("key", flat=True)), {cable, setting})
        self.client.post(reverse("rig:startup"), {})
        self.client.post(reverse("session:recall"), {"to": "tick", "done": [setting]})
        self.assertEqual(set(self.rig.ticks.values_list("key", flat=True)), {setting})
        self.assertIn(setting, self.page("rig:panels"))

    def test_a_few_bars_are_heard_again_and_stand_for_nothing(self):
        self.record("Bittern", bars=(1, 4))
        take = Take.objects.get()
        check = reverse("session:recall-check", args=[take.uid])
        self.client.post(check, {"fast": "on"})
        (row,) = RecallPage(self.session, self.plan).checks
        self.assertTrue(row.found.alike, row.found.told)
        self.assertEqual(list(Take.objects.filter(kept=True)), [take])
        self.assertIn("The same sound", self.page("session:recall"))
        # Polled while what comes stands in the place of what it is held against, for a moment.
        Take.objects.exclude(uid=take.uid).update(kept=True)
        self.assertEqual(self.client.get(check).status_code, 200)
        Take.objects.exclude(uid=take.uid).update(kept=False)
        self.unplug("Bittern", "out")
        self.client.post(check, {"fast": "on", "token": "again"})
        (row,) = RecallPage(self.session, self.plan).checks
        self.assertFalse(row.found.alike)
        self.assertIn("Nothing came home", row.found.told)
        self.change(lambda plan: set_rig(plan, sample_rate=44_100))
        self.assertIn("Put that back first", self.told(self.client.post(check, {"token": "third"}, follow=True)))

    def test_an_archive_brings_the_rigs_of_its_passes(self):
        self.record("Bittern")
        self.old_rig = self.rig.uid
        self.change(lambda plan: set_rig(plan, buffer=64))
        self.handed_over(items=(SESSION,))
        path = archive.path_of(archive.came_of(archive.newest(self.session)))
        opened = open_archive(path, Wish("", "", own_rig=True))

        def page() -> RecallPage:
            session = Session.objects.get(uid=opened.session)
            return RecallPage(session, load_plan(session.rig))

        self.assertEqual([row.difference.told for row in page().rows], ["Buffer in samples: 256; now 64."])
        page().put_back(page().may_go_back)
        self.assertEqual(page().rows, [])
        self.assertEqual(page().session.rig.buffer, 256)
        self.assertEqual(Rig.objects.get(uid=self.old_rig).buffer, 64, "the rig it came from stays as it is")

    def test_bars_without_notes_are_left_to_the_ear(self):
        self.record("Bittern")
        take = Take.objects.get()
        with mock.patch.object(recalling, "notes_in_bars", lambda *given: []):
            answer = self.client.post(reverse("session:recall-check", args=[take.uid]), follow=True)
        self.assertIn("listen by ear", self.told(answer))
