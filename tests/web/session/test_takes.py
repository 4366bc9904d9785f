"""Takes of a track side by side: figures, what stands by bars, heard from any place, compared, handed over joined."""

import io

import numpy as np
import soundfile
from django.urls import reverse

from hypotaxis.core.mixing import sameness
from hypotaxis.core.mixing.joined import Joined
from hypotaxis.records import audio, journal
from hypotaxis.records.models import Job, Take, Track
from hypotaxis.records.track_sound import TrackSound
from hypotaxis.steps.session.services.comparing import how_they_differ
from hypotaxis.steps.session.services.placing import unplace
from hypotaxis.steps.session.services.recording import start_pass
from hypotaxis.steps.session.services.takes_page import TakesPage
from tests.web.base import DemoTest


class TakesTest(DemoTest):
    def before_all(self):
        self.arm("Bittern")
        for last in (8, 4):
            bars = {"first_bar": 1, "last_bar": last}
            start_pass(self.session, self.plan, **bars, fast=True, place_takes=True)

    def setUp(self):
        super().setUp()
        self.old, self.new = Take.objects.order_by("number")

    @property
    def bittern(self) -> Track:
        return Track.objects.select_related("session__rig").get(name="Bittern")

    @property
    def sound(self) -> TrackSound:
        return TrackSound(self.bittern, list(Take.objects.select_related("run__session", "track")))

    def page_of(self, query: str = ""):
        return self.client.get(reverse("session:takes", args=[self.bittern.uid]) + query)

    def stand(self, take: Take, first: int, last: int):
        asked = {"to": "stand", "take": str(take.uid), "first_bar": first, "last_bar": last}
        return self.client.post(reverse("session:takes", args=[self.bittern.uid]), asked, follow=True)

    def stretches(self) -> list[tuple[int, int, int]]:
        numbers = {str(take.uid): take.number for take in (self.old, self.new)}
        return [(numbers[one.uid], one.first_bar, one.last_bar) for one in self.sound.stretches]

    def test_what_stands_is_chosen_by_bars_and_taken_back(self):
        self.assertEqual(self.stretches(), [(2, 1, 4), (1, 5, 8)])
        self.assertIn("Take 1 stands in bars 2 to 3.", self.told(self.stand(self.old, 2, 3)))
        self.assertEqual(self.stretches(), [(2, 1, 1), (1, 2, 3), (2, 4, 4), (1, 5, 8)])
        self.assertIn("Take 2 has bars 1 to 4", self.told(self.stand(self.new, 3, 6)))
        journal.undo(self.rig, self.session)
        self.assertEqual(self.stretches(), [(2, 1, 4), (1, 5, 8)])
        self.stand(self.old, 1, 8)
        self.assertEqual(self.stretches(), [(1, 1, 8)])
        self.client.post(reverse("session:takes", args=[self.bittern.uid]), {"to": "newest"})
        self.assertEqual(self.stretches(), [(2, 1, 4), (1, 5, 8)])

    def test_seams_cross_beside_the_notes(self):
        (joint,) = self.sound.joints()
        self.assertEqual((joint.bar, joint.seam.clean), (5, True))
        # A note stands on the bar: the fade ends before it.
        self.assertTrue(8.0 <= abs(joint.offset_ms) <= 10.0, joint.offset_ms)
        self.assertContains(self.page_of(), "over no onset")

    def test_figures_are_told_and_a_clip_leads_to_its_bar(self):
        figures = audio.figures_kept(self.old.file)
        self.assertAlmostEqual(figures.peak_db, self.old.peak_db, delta=0.05)
        sound, rate = soundfile.read(audio.take_path(self.old.file), always_2d=True)
        at = round(3.3 * rate)
        sound[at : at + 5] = 1.0
        self.old.file = audio.keep_take(
            [sound], rate=rate, channels=sound.shape[1], frames=len(sound), first_sample=self.old.first_sample
        )
        self.old.save()
        page = self.page_of()
        # 3.3 s of the file less half a second of lead-in and its lateness, at 96 BPM: a little behind beat 4.4.
        self.assertContains(page, "bar 2, beat 1")
        self.assertContains(page, "Clipped 1 time")

    def test_they_are_heard_alike_from_any_place(self):
        quiet, rate = soundfile.read(audio.take_path(self.new.file), always_2d=True)
        self.new.file = audio.keep_take(
            [quiet * 0.25], rate=rate, channels=quiet.shape[1], frames=len(quiet), first_sample=self.new.first_sample
        )
        self.new.save()
        heard = {}
        for take in (self.old, self.new):
            answer = self.client.get(reverse("session:takes-hear", args=[self.bittern.uid, take.uid]))
            heard[take.number] = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)))[0]
        self.assertEqual(len(heard[1]), len(heard[2]), "on one time line, so that changing goes on at the same place")
        first = slice(rate, 9 * rate)
        loud = [20 * np.log10(np.sqrt((sound[first] ** 2).mean())) for sound in heard.values()]
        self.assertAlmostEqual(*loud, delta=0.5)
        address = reverse("session:takes-hear", args=[self.bittern.uid, self.old.uid])
        part = self.client.get(address, headers={"Range": "bytes=100-199"})
        self.assertEqual((part.status_code, len(b"".join(part.streaming_content))), (206, 100))
        self.assertTrue(part["Content-Range"].startswith("bytes 100-199/"))
        self.assertEqual(self.client.get(address, headers={"Range": "bytes=999999999-"}).status_code, 416)
        last = self.client.get(address, headers={"Range": "bytes=-10"})
        self.assertEqual(len(b"".join(last.streaming_content)), 10)

    def test_what_stands_is_heard_and_handed_over_joined(self):
        answer = self.client.get(reverse("session:takes-stand", args=[self.bittern.uid]))
        made, rate = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)), always_2d=True)
        sound = self.sound
        first, _ = sound.span
        (joint,) = sound.joints()
        for take, at in ((self.new, joint.seam.place - rate), (self.old, joint.seam.place + rate)):
            alone = sound.read(sound.takes[str(take.uid)], 1.0)(at, at + 4800)
            np.testing.assert_allclose(made[at - first : at - first + 4800], alone, atol=2e-4)
        self.assertContains(self.client.get(reverse("handover:home")), "bars 1 to 4 take 2, bars 5 to 8 take 1")
        file = self.client.get(reverse("handover:standing", args=[self.bittern.uid]))
        whole, _ = soundfile.read(io.BytesIO(b"".join(file.streaming_content)), always_2d=True)
        self.assertAlmostEqual(float(np.abs(whole).max()), float(np.abs(made).max()), delta=1e-3)
        other = self.session.tracks.exclude(uid=self.bittern.uid).first()
        self.assertEqual(self.client.get(reverse("handover:standing", args=[other.uid])).status_code, 404)

    def test_a_chorus_is_laid_along_the_song(self):
        here = reverse("session:takes", args=[self.bittern.uid])
        lay = {"to": "lay", "take": self.new.uid, "first_bar": 1, "last_bar": 2, "at_bar": 9, "times": 2}
        said = self.told(self.client.post(here, lay, follow=True))
        self.assertIn(f"Bars 1 to 2 of take {self.new.number} stand from bar 9 to 12.", said)
        sound = TrackSound(self.bittern, list(self.bittern.takes.order_by("number")))
        laid = [(one.first_bar, one.last_bar, one.moved) for one in sound.stretches if one.moved]
        self.assertEqual(laid, [(9, 10, 8), (11, 12, 10)])
        whole = Joined(sound.pieces(), sound.rate)
        bar = 120_000
        inside = slice(2_000, bar - 2_000)
        played, again = whole.read(0, bar)[inside], whole.read(8 * bar, 9 * bar)[inside]
        np.testing.assert_allclose(again, played, atol=1e-9)
        self.assertIn("bars 9 to 10 take", " ".join(sound.told))
        for wrong, told in (
            ({"at_bar": 16, "times": 2}, "2 times 2 bars from bar 16 on end behind bar 16"),
            ({"first_bar": 3, "last_bar": 99}, "some of these can be laid along"),
        ):
            self.assertIn(told, self.told(self.client.post(here, lay | wrong, follow=True)))
        row = self.session
        row.tempos = [*row.tempos, [8 * 1920, 500_000]]
        row.save()
        self.assertIn("From bar 9 on meter or tempo are others", self.told(self.client.post(here, lay, follow=True)))
        journal.undo(self.rig, self.session)
        self.assertEqual(self.bittern.chosen, [])

    def test_gain_polarity_and_trim_hold_where_it_is_heard_and_handed_over(self):
        here = reverse("session:takes", args=[self.bittern.uid])
        before = Joined(TrackSound(self.bittern, [self.new]).pieces(), 48_000).read(0, 480_000)
        bars = {"first_bar": 2, "last_bar": 3}
        fields = {"to": "set", "take": self.new.uid, "gain_db": "-6", "inverted": "on", **bars}
        self.assertIn(
            "gain −6.0 dB, bars 2 to 3, polarity turned", self.told(self.client.post(here, fields, follow=True))
        )
        take = Take.objects.select_related("run__session", "track").get(uid=self.new.uid)
        sound = TrackSound(self.bittern, [take])
        self.assertEqual([(one.first_bar, one.last_bar) for one in sound.stretches], [(2, 3)])
        now = Joined(sound.pieces(), 48_000).read(0, 480_000)
        self.assertEqual(float(np.abs(now[:119_000]).max()), 0.0)
        np.testing.assert_allclose(now[130_000:340_000], -before[130_000:340_000] * 10 ** (-6 / 20), atol=1e-7)
        for wrong, told in (({"gain_db": "40"}, "out of reach"), ({"last_bar": 9}, "it cannot be trimmed to 2 to 9")):
            self.assertIn(told, self.told(self.client.post(here, fields | wrong, follow=True)))

    def test_what_stands_nowhere_can_go_and_nothing_else(self):
        here = reverse("session:takes", args=[self.bittern.uid])
        self.client.post(here, {"to": "stand", "take": self.new.uid, "first_bar": 1, "last_bar": 4})
        kept = {take.uid for take in Take.objects.kept()}
        standing = {one.uid for one in TakesPage(self.bittern, self.plan).sound.stretches}
        said = self.told(self.client.post(here, {"to": "clear"}, follow=True))
        self.assertIn("put away", said)
        left = {str(take.uid) for take in Take.objects.kept()}
        self.assertEqual(left, standing & {str(uid) for uid in kept})

    def test_two_takes_are_compared(self):
        page = TakesPage(self.bittern, self.plan)
        found = how_they_differ(page.sound, *(page.take(str(take.uid)) for take in (self.new, self.old)))
        self.assertEqual((found.kind, [bar.bar for bar in found.bars]), (sameness.SAME, [1, 2, 3, 4]))
        self.assertLess(max(abs(bar.worst_db) for bar in found.bars), 2.0)
        # Another program on the box: another sound.
        self.session.tracks.filter(name="Bittern").update(program=5)
        start_pass(self.session, self.plan, first_bar=1, last_bar=4, fast=True, place_takes=True)
        wrong = Take.objects.order_by("number").last()
        here = reverse("session:takes", args=[self.bittern.uid])
        pair = {"to": "compare", "one": wrong.uid, "other": self.old.uid}
        page = self.client.post(here, pair, follow=True)
        self.assertContains(page, "Another sound all along: the first is")
        self.client.post(here, pair)
        self.assertEqual(Job.objects.filter(kind="comparing").count(), 1, "what is known is not read again")
        unplace(wrong)
        self.assertNotContains(self.page_of(f"?one={wrong.uid}&other={self.old.uid}"), "Another sound all along")
        said = self.client.post(here, pair | {"other": wrong.uid}, follow=True)
        self.assertIn("Choose two takes to compare.", self.told(said))
        self.assertContains(page, "Called up before it: program 5 on the wire")

    def test_lost_and_silent_takes_and_strange_questions_break_nothing(self):
        path = audio.take_path(self.old.file)
        self.addCleanup(path.write_bytes, path.read_bytes())
        path.unlink()
        self.assertContains(self.page_of(), "Its sound is lost: its file is missing")
        self.assertEqual(self.client.get(reverse("session:takes-stand", args=[self.bittern.uid])).status_code, 200)
        gone = reverse("session:takes-hear", args=[self.bittern.uid, self.old.uid])
        self.assertEqual(self.client.get(gone).status_code, 404)
        self.assertEqual(self.page_of(f"?one=x&other={self.new.uid}").status_code, 200)
        here = reverse("session:takes", args=[self.bittern.uid])
        self.assertIn("Choose a take first.", self.told(self.client.post(here, {"to": "stand"}, follow=True)))
        empty = self.session.tracks.exclude(uid=self.bittern.uid).first()
        self.assertContains(self.client.get(reverse("session:takes", args=[empty.uid])), "No takes yet")
