"""Sessions, tracks, takes and rigs are put away, brought back, copied and thrown away with their audio."""

from django.urls import reverse

from hypotaxis.records import audio
from hypotaxis.records.models import Job, Rig, Session, Take, Track
from hypotaxis.steps.rig.services import duplicate
from tests.web.base import DemoTest


class HouseTest(DemoTest):
    def tidy(self, kind: str, row, to: str, **fields):
        with self.captureOnCommitCallbacks(execute=True):
            return self.client.post(reverse("session:tidy", args=[kind, row.uid]), {"to": to} | fields, follow=True)

    def test_a_session_is_renamed_copied_and_put_away(self):
        self.record("Alder kit")
        session = self.session
        self.assertContains(self.tidy("session", session, "rename", name="Neap"), "Neap")
        self.assertContains(self.tidy("session", session, "rename", name="  "), "keeps its name")
        self.tidy("session", session, "copy")
        copy = Session.objects.exclude(uid=session.uid).get()
        self.assertEqual((copy.name, copy.tracks.count(), copy.takes.count()), ("Neap 2", 5, 0))
        self.tidy("session", session, "gone")
        self.assertTrue(Session.objects.filter(uid=session.uid).exists(), "only what is put away can go")
        page = self.tidy("session", session, "away")
        self.assertContains(page, "session, 1 take")
        self.assertEqual([one.name for one in page.context["frame"].sessions], ["Neap 2"])
        self.tidy("session", session, "back")
        page = self.client.get(reverse("session:home"))
        self.assertEqual([one.name for one in page.context["frame"].sessions], ["Neap 2", "Neap"])

    def test_a_session_thrown_away_takes_its_audio_along_and_no_other(self):
        take = self.record("Alder kit").takes.get()
        other = self.record("Bittern").takes.get()
        session = self.session
        self.tidy("session", session, "copy")
        copy = Session.objects.exclude(uid=session.uid).get()
        # The same sound is kept once: another session's take names the same file.
        Take.objects.filter(uid=other.uid).update(session=copy, run=other.run)
        Take.objects.create(
            session=copy, track=copy.tracks.first(), run=other.run, number=9, file=other.file, sample_rate=48000,
            channels=1, frames=other.frames, first_sample=0,
        )  # fmt: skip
        self.tidy("track", Track.objects.get(uid=take.track_id), "away")
        self.tidy("track", Track.objects.get(uid=take.track_id), "gone")
        self.assertFalse(audio.take_path(take.file).exists())
        self.assertTrue(audio.take_path(other.file).exists())

    def test_what_is_recorded_is_not_thrown_away(self):
        run = self.record("Alder kit")
        session = self.session
        self.tidy("session", session, "away")
        Job.objects.filter(uid=run.job_id).update(state=Job.RUNNING)
        self.assertContains(self.tidy("session", session, "gone"), "still running")
        self.assertTrue(Session.objects.filter(uid=session.uid).exists())

    def test_a_track_put_away_is_not_recorded_nor_handed_over(self):
        self.record("Alder kit", "Bittern")
        self.tidy("track", self.track("Alder kit"), "away")
        page = self.client.get(reverse("session:home"))
        self.assertNotIn("Alder kit", [one.row.name for one in page.context["tracks"]])
        self.assertNotIn("Alder kit", [take.row.track.name for take in page.context["takes"]])
        self.assertNotIn("Alder kit,", self.page("handover:home"))

    def test_a_take_put_away_can_go_for_good(self):
        take = self.record("Alder kit").takes.get()
        address = reverse("session:throw-take-away", args=[take.uid])
        self.assertEqual(self.client.post(address).status_code, 404)
        self.client.post(reverse("session:keep", args=[take.uid]), {"to": "away"})
        with self.captureOnCommitCallbacks(execute=True):
            self.client.post(address)
        self.assertFalse(Take.objects.exists() or audio.take_path(take.file).exists())

    def test_a_rig_is_put_away_brought_back_and_goes_with_its_sessions(self):
        copy = duplicate(self.plan, "North room")
        first = Rig.objects.exclude(uid=copy.uid).get()
        address = reverse("rig:tidy-rig", args=[first.uid])
        self.assertContains(self.client.post(address, {"to": "away"}, follow=True), "put away, 0 takes")
        self.client.post(address, {"to": "back"})
        self.client.post(address, {"to": "away"})
        self.client.post(address, {"to": "gone"})
        self.assertEqual((Rig.objects.get(), Session.objects.count()), (copy, 0))
