"""Before a pass, after it, and when it is done with: what is known without playing, accepted, committed."""

from unittest import mock

from django.urls import reverse

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.rig.change import set_instrument
from hypotaxis.records import audio
from hypotaxis.records.journal import change_plan, undo
from hypotaxis.records.models import Pass, Take, Track
from hypotaxis.records.plan import notes_of
from hypotaxis.steps.session.services import planning
from hypotaxis.steps.session.services.committing import commit
from hypotaxis.steps.session.services.recording import start_pass
from tests.web.base import DemoTest


class CommittedTest(DemoTest):
    def before_all(self):
        self.record("Bittern", bars=(1, 4))

    def setUp(self):
        super().setUp()
        self.bittern = self.track("Bittern")

    def send(self, to: str):
        return self.client.post(reverse("session:takes", args=[self.bittern.uid]), {"to": to}, follow=True)

    def test_its_box_is_free_its_notes_are_frozen_and_one_move_takes_it_back(self):
        said = self.told(self.send("commit"))
        self.assertIn("Bittern, channel 3, is free for the next part: add a track for it, with another sound.", said)
        self.assertIn("12 bars with notes have no take, the first is bar 5.", said)
        row = self.track("Bittern")
        self.assertEqual((row.committed, row.armed), (True, False))
        before = bytes(row.notes)
        for name, fields in (
            ("session:part", {"to": "remove", "first_bar": 1, "last_bar": 2}),
            ("session:notes", {"to": "delete", "places": "[0]"}),
            ("session:grid", {"to": "press", "note": 36, "place": 0}),
        ):
            answer = self.client.post(reverse(name, args=[row.uid]), fields, follow=True)
            self.assertIn("Bittern is committed: its notes are as they were recorded.", self.told(answer), name)
        self.assertEqual(bytes(self.track("Bittern").notes), before)
        # Nobody sends its notes any more, and no plan records it.
        self.assertNotIn(row, self.session.tracks.playing())
        plan = planning.plan_anew(self.session, self.plan, first_bar=1, last_bar=2, gap_s=0.0, fast=True)
        self.assertNotIn(str(row.uid), {uid for column in plan.columns.all() for uid in column.tracks})
        Track.objects.filter(uid=row.uid).update(armed=True)
        with self.assertRaisesRegex(CannotSchedule, "No track is armed."):
            start_pass(self.session, self.plan, first_bar=1, last_bar=1, fast=True, place_takes=True)
        self.assertContains(self.client.get("/session/"), ">committed</a>")
        self.send("take back")
        self.assertFalse(self.track("Bittern").committed)

    def test_the_same_box_plays_another_part_with_another_sound(self):
        commit(self.bittern, self.plan)
        seat = self.bittern.instrument_uid
        self.client.post("/session/track/", {"seat": seat})
        second = self.session.tracks.get(name="Bittern", committed=False)
        Track.objects.filter(uid=second.uid).update(notes=bytes(self.bittern.notes), program=5, name="Second")
        run = self.record("Second", bars=(1, 2))
        self.assertEqual([part.track for part in run.frozen.parts], [str(second.uid)])
        undo(self.rig, self.session)
        self.assertFalse(self.track("Bittern").committed)
        Track.objects.filter(uid=second.uid).update(notes=bytes(self.bittern.notes))
        self.assertIn("Bittern is still played by Second.", commit(self.bittern, self.plan))

    def test_nothing_is_committed_that_would_be_silent(self):
        Take.objects.update(placement=None)
        self.assertIn("No placed take stands for Bittern yet", self.told(self.send("commit")))
        self.assertTrue(len(notes_of(self.bittern)))


class BeforeTest(DemoTest):
    def ready(self) -> str:
        return self.page("session:home")

    def test_what_it_takes_and_what_is_amiss_is_told_before_it_is_played(self):
        self.assertNotIn("Ready:", self.ready())
        self.arm("Bittern")
        self.assertIn("Ready: 1 input, 0:42.0, 14 MB.", self.ready())
        self.arm("Sedge upper", "Sedge lower")
        self.assertIn("both come home on line in 1–2", self.ready())
        plan = self.plan
        change_plan(self.rig, "gone", plan, set_instrument(plan, self.instrument("Bittern").uid, returns=()))
        self.arm("Bittern")
        self.assertIn("Bittern has no return", self.ready())

    def test_a_stale_lateness_and_a_full_disk_are_told(self):
        self.record("Bittern", bars=(1, 4))
        self.arm("Bittern")
        rig = self.rig
        rig.buffer = 512
        rig.save()
        self.assertIn("The lateness of Bittern is stale: buffer 256, now 512.", self.ready())
        with mock.patch.object(audio, "free_bytes", lambda: 1e6):
            self.assertIn("The disk has room for 1 MB, and this pass needs 14. Free some first.", self.ready())


class AfterTest(DemoTest):
    def test_a_verdict_with_the_next_move_is_accepted_or_repeated(self):
        run = self.record("Bittern", bars=(1, 4))
        page = self.page("session:home")
        self.assertIn("Listen to it beside the others, then arm the next part.", page)
        self.client.post(reverse("session:repeat", args=[run.uid]))
        self.assertEqual(Pass.objects.count(), 2)
        Take.objects.filter(number=2).update(
            doubts=[{"what": "It does not follow its own notes.", "cause": ""}], placement=None
        )
        self.assertIn("Repeat it, or accept it as it is.", self.page("session:home"))
        again = Pass.objects.get(number=2)
        self.client.post(reverse("session:accept", args=[again.uid]))
        take = Take.objects.get(number=2)
        self.assertEqual((take.accepted, take.placement is not None), (True, True))
        self.assertNotIn("Pass 2: 1 take", self.page("session:home"))
