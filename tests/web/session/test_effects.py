"""Effect loops in passes: what stands of a track is sent through, and its return recorded and placed."""

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.session.pass_plan import Wanted, fewest_passes
from hypotaxis.records import audio
from hypotaxis.records.models import Job, Take, Track
from hypotaxis.records.session_mix import SessionMix
from hypotaxis.steps.session.services import arranging, planning
from hypotaxis.steps.session.services.house import copy_session
from hypotaxis.steps.session.services.placing import NOT_MEASURED
from hypotaxis.steps.timing.services import taking
from hypotaxis.steps.timing.services.taking import SoundedTrip
from tests.web.base import DemoTest


class EffectTest(DemoTest):
    def setUp(self):
        super().setUp()
        (self.loop,) = [one for one in self.plan.loops if one.name == "Eelgrass delay"]
        self.client.post("/session/track/", {"seat": f"effect:{self.loop.uid}"})
        self.effect = self.session.tracks.get(loop_uid=self.loop.uid)

    def feed(self, name: str = "Bittern", **fields) -> None:
        Track.objects.filter(uid=self.effect.uid).update(fed_by=self.track(name), **fields)

    def sounded(self) -> float:
        """The loop's lateness in samples, from a sounding."""
        (row,) = taking.start(self.rig, self.plan, [SoundedTrip(loop=self.plan.loop(self.loop.uid))], fast=True)
        row.refresh_from_db()
        return row.measured.lateness_ms * 48

    def test_a_placed_take_goes_through_it_and_its_return_stands_under_it(self):
        self.record("Bittern", bars=(1, 4))
        self.feed()
        late = self.sounded()
        run = self.record(self.effect.name, bars=(1, 4))
        take = self.effect.takes.get()
        self.assertEqual(take.unmeasured, NOT_MEASURED)
        self.assertEqual(take.placement, -round(late))
        self.assertIn("Eelgrass delay, sounding", take.borrowed)
        dry = self.track("Bittern").takes.get()
        first, last = 48_000, 6 * 48_000
        sent = audio.read_frames(dry.sound_file[0], first - dry.start, last - dry.start)[:, 0]
        came = audio.read_frames(take.file, first - take.start, last - take.start)[:, 0]
        cross = np.fft.irfft(np.fft.rfft(came, 2**20) * np.conj(np.fft.rfft(sent, 2**20)))
        lag = int(np.argmax(cross))
        self.assertLessEqual(min(lag, 2**20 - lag), 1, "the dry sound in it stands on the take it was made of")
        # Its repeats, 376 ms behind the dry sound (standin.run.EFFECT_TAPS), are kept behind the last bar.
        self.assertEqual(run.frozen.tail_s, 6.0)
        self.assertGreaterEqual(take.frames, dry.frames + round(4.4 * 48_000))

    def test_what_is_missing_is_said_before_anything_is_played(self):
        with self.assertRaisesRegex(CannotSchedule, "Eelgrass delay is sent nothing. Choose on Session the track"):
            self.record(self.effect.name)
        self.feed()
        with self.assertRaisesRegex(CannotSchedule, "which is only recorded in this pass. Record Bittern first"):
            self.record("Bittern", self.effect.name)
        run = self.record(self.effect.name)
        self.assertIn("Nothing stands of the track that is sent to Eelgrass delay", run.job.message)

    def test_without_a_sounding_it_stays_where_it_arrived_and_says_what_to_do(self):
        self.record("Bittern", bars=(1, 4))
        self.feed()
        self.record(self.effect.name, bars=(1, 4))
        self.assertIsNone(self.effect.takes.get().placement)
        self.assertContains(self.client.get("/session/"), "stands by the lateness of its loop")

    def test_the_plan_sends_it_through_behind_the_pass_of_its_source(self):
        self.feed("Sedge lower")
        row = planning.plan_anew(self.session, self.plan, first_bar=1, last_bar=4, gap_s=0.0, fast=True)
        columns = [set(column.tracks) for column in row.columns.all()]
        source, effect = str(self.track("Sedge lower").uid), str(self.effect.uid)
        self.assertIn(source, columns[1])
        self.assertIn(effect, columns[2])
        with self.assertRaisesRegex(CannotSchedule, "which must be there before. They need a pass each."):
            planning.move(row, self.plan, effect, 1)
        with self.assertRaisesRegex(CannotSchedule, "is sent the take of Sedge lower, so it comes after it."):
            planning.move(row, self.plan, effect, 0)
        self.sounded()
        planning.start(row)
        row.refresh_from_db()
        # Too few notes to be placed by themselves: what waits for it is left, and the row goes on.
        self.assertEqual((row.job.state, row.job.message), (Job.DONE, ""))
        self.assertFalse(self.effect.takes.exists())
        self.assertContains(self.client.get("/session/plan/"), "waits for a placed take of Sedge lower")
        self.track("Sedge lower").takes.update(placement=-700)
        planning.start(row)
        self.assertTrue(self.effect.takes.exists())
        self.assertNotContains(self.client.get("/session/plan/"), "waits for a placed take")

    def test_a_return_that_holds_the_dry_sound_takes_its_place_in_the_mix(self):
        self.record("Bittern", bars=(1, 2))
        self.feed(holds_dry=True)
        self.sounded()
        self.record(self.effect.name, bars=(1, 2))
        told = SessionMix(self.session, rate=48_000).left_out
        self.assertIn("Bittern: an effect's return holds it, too", told)
        Track.objects.filter(uid=self.effect.uid).update(holds_dry=False)
        self.assertNotIn("Bittern: an effect's return holds it, too", SessionMix(self.session, rate=48_000).left_out)
        copied = copy_session(self.session).tracks.get(loop_uid=self.loop.uid)
        self.assertEqual((copied.fed_by.name, copied.fed_by.session_id), ("Bittern", copied.session_id))

    def test_what_is_sent_is_chosen_on_the_session(self):
        page = self.page("session:home")
        self.assertIn("Choose at the left what is sent.", page)
        key = self.effect.uid
        fields = {f"{key}-fed_by": self.track("Bittern").uid, f"{key}-holds_dry": "dry", f"{key}-armed": "on"}
        self.client.post("/session/tracks/", fields)
        self.effect.refresh_from_db()
        self.assertEqual((self.effect.fed_by.name, self.effect.holds_dry, self.effect.armed), ("Bittern", True, True))
        self.assertEqual(arranging.piece_of(self.session).parts[str(key)].notes.size, 0)
        self.assertFalse(Take.objects.exists())


class OrderTest(DemoTest):
    def test_chains_of_effects_come_one_behind_the_other_and_share_what_is_free(self):
        dry, other = Wanted("dry", frozenset("1")), Wanted("other", frozenset("1"))
        wet, twice = Wanted("wet", frozenset("2"), after="dry"), Wanted("twice", frozenset("3"), after="wet")
        found = fewest_passes([twice, wet, dry, other])
        self.assertEqual(found.passes, (("dry",), ("other", "wet"), ("twice",)))
        self.assertTrue(found.fewest)
        self.assertEqual(fewest_passes([Wanted("wet", frozenset("2"), after="stands already")]).passes, (("wet",),))
