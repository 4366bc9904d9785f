"""A session from nothing, its bars, tempo and pace, each a step that can be undone."""

from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from hypotaxis.records import journal
from hypotaxis.records.models import Pass, Session
from hypotaxis.records.plan import last_bar_of, notes_of
from tests.web.base import DemoTest


class NewSessionTest(DemoTest):
    def begin(self, **typed):
        form = {"name": "Low Water", "bpm": "88", "beats": "3", "unit": "4", "bars": "12", "tracks": "on"}
        return self.client.post(reverse("session:new"), form | typed, follow=True)

    def test_it_has_its_bars_and_a_track_for_each_part(self):
        told = self.told(self.begin())
        self.assertIn("Low Water has 12 bars and no notes yet.", told)
        made = Session.objects.get(name="Low Water")
        self.assertEqual((made.tempo_map.told, made.tempo_map.meters, last_bar_of(made)), ("88", ((0, 3, 4),), 12))
        seats = [seat for one in self.plan.instruments for seat in one.seats]
        self.assertEqual([track.file_channel for track in made.tracks.all()], [seat.channel for seat in seats])
        self.assertIn("Low Water", self.page("session:home"))

    def test_what_makes_no_sense_is_told_and_kept_in_its_field(self):
        page = self.begin(bpm="900").content.decode()
        self.assertIn("900 BPM is no tempo that can be played here: 10 to 400 are.", page)
        self.assertIn('value="900"', page)
        self.assertFalse(Session.objects.filter(name="Low Water").exists())

    def test_a_session_without_any_instrument_can_be_begun(self):
        self.rig.instruments.all().delete()
        self.begin()
        page = self.page("session:home")
        self.assertIn("Arm a track to record", page)
        answer = self.client.post(reverse("session:new-track"), {"seat": "gone"}, follow=True)
        self.assertIn("That instrument is gone", self.told(answer))


class BarsTest(DemoTest):
    def change(self, to: str, bar: int = 1, **typed):
        return self.client.post(reverse("session:bars"), {"to": to, "bar": bar, **typed}, follow=True)

    def test_tempo_meter_and_sections_are_set_shown_and_taken_away(self):
        self.change("tempo", 5, bpm="100", beat="3")
        self.change("section", 9, name="Bridge")
        self.assertEqual(self.session.tempo_map.tempos, ((0, 625_000), (4 * 1920 + 960, 600_000)))
        page = self.page("session:bars", bar=9)
        for told in ("bar 5, beat 3", "100 BPM", "Bridge", "Take away section Bridge in bar 9"):
            self.assertIn(told, page)
        self.change("remove", 5, beat="3", of="tempo")
        self.assertEqual(self.session.tempo_map.told, "96")
        self.change("meter", 9, beats="3", unit="4")
        self.assertEqual(self.session.tempo_map.meters, ((0, 4, 4), (8 * 1920, 3, 4)))
        self.assertContains(self.change("meter", 1, beats="", unit="4"), "Type a number first.")
        self.assertContains(self.change("remove", 1, of="tempo"), "Bar 1 needs a tempo")
        self.assertContains(self.change("tempo", 99, bpm="90"), "There is no bar 99: the session has ")

    def test_shorter_says_what_it_cuts_and_undo_brings_it_back(self):
        before = {track.name: bytes(track.notes) for track in self.session.tracks.all()}
        told = self.told(self.change("length", bars="4"))
        self.assertRegex(told, r"4 bars long, \d+ notes cut")
        self.assertEqual(last_bar_of(self.session), 4)
        self.assertTrue(all((notes_of(one)["tick"] < 4 * 1920).all() for one in self.session.tracks.all()))
        journal.undo(self.rig, self.session)
        self.assertEqual({track.name: bytes(track.notes) for track in self.session.tracks.all()}, before)
        self.assertEqual(last_bar_of(self.session), 16)

    def test_twice_as_long_and_other_time(self):
        notes = {track.name: notes_of(track) for track in self.session.tracks.all()}
        self.change("doubled")
        self.assertEqual(last_bar_of(self.session), 32)
        self.assertEqual(len(notes_of(self.track("Bittern"))), 2 * len(notes["Bittern"]))
        journal.undo(self.rig, self.session)
        self.change("half time")
        self.assertEqual(last_bar_of(self.session), 32)
        self.assertEqual(notes_of(self.track("Bittern"))["tick"].tolist(), (2 * notes["Bittern"]["tick"]).tolist())
        self.change("double time")
        self.assertEqual(notes_of(self.track("Bittern"))["tick"].tolist(), notes["Bittern"]["tick"].tolist())

    def test_what_was_recorded_before_keeps_its_tempo_and_its_place(self):
        take = self.record("Bittern").takes.get()
        first = (take.placement, take.start)
        self.change("tempo", bpm="120")
        take = type(take).objects.get(uid=take.uid)
        self.assertEqual((take.placement, take.start, take.run.apart), (*first, "96"))
        self.assertIn("Played at 96 BPM, the session goes at 120", self.page("session:home"))
        # What is recorded now keeps the new one, also when the change is taken back.
        now = self.record("Bittern")
        journal.undo(self.rig, self.session)
        self.assertEqual(Pass.objects.get(uid=now.uid).apart, "120")
        self.assertEqual(Pass.objects.get(uid=take.run_id).apart, "")

    def test_takes_ask_no_queries_of_their_own(self):
        def asked() -> int:
            with CaptureQueriesContext(connection) as queries:
                self.page("session:home")
            return len(queries)

        self.record("Bittern")
        self.page("session:home")
        few = asked()
        for _ in range(3):
            self.record("Bittern", bars=(1, 1))
        self.page("session:home")
        self.assertEqual(asked(), few)
