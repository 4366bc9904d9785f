"""Notes played in on the stand-in: its player strikes on the click as he hears it."""

from dataclasses import replace
from unittest import mock

import numpy as np
from django.urls import reverse

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import from_json
from hypotaxis.core.playing.played_in import PlaySetup
from hypotaxis.core.rig.change import set_box, set_sockets
from hypotaxis.core.rig.values import Delays
from hypotaxis.core.studio import Message
from hypotaxis.records import jobs, journal
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import FrontPanel, Job, PlayedChunk, PlayIn
from hypotaxis.records.plan import notes_of
from hypotaxis.records.studio import studio_for
from hypotaxis.standin import run as standin_run
from hypotaxis.standin.desk import interface_nature
from hypotaxis.standin.player import UNSTEADY_S, Player
from hypotaxis.steps.session.services import free_playing, playing_in
from tests.rooms import box_named
from tests.web.base import DemoTest


class PlayInTest(DemoTest):
    def setUp(self):
        super().setUp()
        self.players: list[Player] = []
        self.enterContext(mock.patch.object(standin_run, "Player", side_effect=self._player))
        duty = {self.socket("Heron 61", "keys"): {"duty": "played from"}}
        change_plan(self.rig, "duty", self.plan, set_sockets(self.plan, duty))
        heron = box_named(self.plan, "Heron 61").uid
        FrontPanel.objects.update_or_create(box_uid=heron, defaults={"settings": {"to_the_click": True}})

    def _player(self, *args) -> Player:
        self.players.append(Player(*args))
        return self.players[-1]

    def play(self, track: str = "Sedge lower", **chosen) -> PlayIn:
        wish = {
            "first_bar": 1,
            "last_bar": 4,
            "count_in": 1,
            "output": self.socket("Quayside 18", "line out 1"),
            "level_db": -12.0,
            "anew": True,
            "take_off": True,
            "fast": True,
        }
        row = playing_in.start_playing(self.session, self.plan, self.track(track), **wish | chosen)
        row.refresh_from_db()
        row.job.refresh_from_db()
        return row

    def test_what_was_aimed_at_the_beat_stands_on_it(self):
        # What the owner has measured of his interface: then only the keys' way in is guessed.
        nature = standin_nature(self)
        delays = Delays(converter_samples=nature.converter_samples, driver_samples=nature.driver_samples)
        quayside = box_named(self.plan, "Quayside 18").uid
        change_plan(self.rig, "typed", self.plan, set_box(self.plan, quayside, delays=delays))
        row = self.play(last_bar=8)
        self.assertEqual((row.job.state, row.job.message), (Job.DONE, ""))
        notes, beat = self.notes(), self.session.tempo_map.ticks_per_quarter
        # It had notes behind the eighth bar, and they are still there.
        notes = notes[notes["tick"] < 32 * beat]
        self.assertEqual(len(notes), 32, "a note on each beat of the eight bars")
        off_ms = (notes["tick"] - np.arange(32) * beat) * 625.0 / beat
        # His hands are unsteady; what is left of the mean is less than half a millisecond beyond that.
        self.assertLess(abs(off_ms.mean()), 0.5 + 2 * UNSTEADY_S * 1000 / np.sqrt(32))
        self.assertLess(off_ms.std(), 2 * UNSTEADY_S * 1000)
        self.assertIn("32 notes played in to Sedge lower, bars 1 to 8, 7.", row.told)
        # Each as it left the keyboard: what the driver stamped, less what was taken off.
        struck = [at for chunk in row.chunks.all() for at, _, data in chunk.messages if data.startswith("9")]
        setup = from_json(PlaySetup, row.wish)
        meant_us = (np.array(struck[:32]) - setup.zero_ns) / 1000 - setup.off_ms * 1000
        stands_us = self.session.tempo_map.us_at(notes["tick"])
        self.assertLess(np.abs(meant_us - stands_us)[1:].max(), 1000)

    def test_without_it_notes_stand_as_they_arrived(self):
        row = self.play(take_off=False)
        self.assertIn("as they arrived", row.told)
        with_it = self.notes()["tick"].mean()
        self.play()
        self.assertLess(self.notes()["tick"].mean(), with_it)

    def test_into_the_bars_of_a_part_anew_or_beside_what_is_there(self):
        before = self.notes("Bittern")
        first, end = 2 * 1920, 4 * 1920
        self.play("Bittern", first_bar=3, last_bar=4)
        pace = self.session.ticks_per_quarter // 480
        now = self.notes("Bittern")
        outside = now[(now["tick"] < first * pace) | (now["tick"] >= end * pace)]
        kept = before[(before["tick"] < first) | (before["tick"] >= end)]
        self.assertEqual(outside["tick"].tolist(), (kept["tick"] * pace).tolist())
        self.assertEqual(len(now) - len(outside), 8)
        journal.undo(self.rig, self.session)
        self.assertEqual(self.notes("Bittern").tolist(), before.tolist())
        self.play("Bittern", first_bar=3, last_bar=4, anew=False)
        self.assertEqual(len(self.notes("Bittern")), len(before) + 8)

    def test_each_time_round_adds_or_begins_anew_and_what_was_played_goes_round(self):
        sent: list[Message] = []
        add = playing_in._Playing.add

        def kept(source, messages):
            sent.extend(messages)
            add(source, messages)

        self.session.tracks.filter(name="Bittern").update(notes=b"")
        with mock.patch.object(playing_in._Playing, "add", kept):
            self.play("Bittern", last_bar=2, times=3, anew=False)
        notes = self.notes("Bittern")
        self.assertEqual(len(notes), 24)
        self.assertLess(int(notes["tick"].max()), 2 * 1920 * 2)
        # The second time the eight of the first are heard again, the third time sixteen.
        self.assertEqual(sum(one.data[0] & 0xF0 == 0x90 for one in sent), 8 + 16)
        self.play("Bittern", last_bar=2, times=3, anew=True)
        self.assertEqual(len(self.notes("Bittern")), 8)

    def test_lines_go_to_their_own_tracks_all_in_one_step(self):
        keys = self.socket("Heron 61", "keys")
        lines = {"Sedge lower": ((keys, 2),), "Reedbed": ((keys, 3),)}
        plan = self.plan
        after = replace(
            plan,
            instruments=tuple(replace(one, standing=lines.get(one.name, one.standing)) for one in plan.instruments),
        )
        change_plan(self.rig, "lines", plan, after)
        self.session.tracks.filter(name="Reedbed oboe").delete()
        with mock.patch.object(playing_in, "lay_in"):
            row = self.play("Bittern")
        # A tablet that sequences three channels beside the keys: one of them a box's sixteenths.
        setup = from_json(PlaySetup, row.wish)
        port, rows = setup.ports[0], []
        for number in range(32):
            at = round(setup.zero_ns + number * 156.25e6)
            for channel in (1, 2) if number % 4 == 0 else (1,):
                rows += [[at, port, f"9{channel:x}3c50"], [at + 50_000_000, port, f"8{channel:x}3c00"]]
        PlayedChunk.objects.create(play_in=row, messages=rows)
        playing_in.lay_in(row)
        lower, reedbed = (
            self.track("Sedge lower"),
            self.session.tracks.get(instrument_uid=self.instrument("Reedbed").uid),
        )
        self.assertEqual(len(notes_of(reedbed)), 8)
        self.assertIn("8 notes played in to Reedbed", row.told)
        self.assertIn("32 notes played in to Sedge lower, bars 1 to 4", row.told)
        self.assertIn("It was a box that generated them, every 1/16, within 0.", row.told)
        self.assertTrue(lower.generated.startswith("Generated at a box: every 1/16"))
        self.assertEqual(self.track("Bittern").generated, "", "hands")
        page = self.client.get(reverse("session:part", args=[lower.uid]))
        self.assertContains(page, "It cannot be taken apart afterwards.")
        self.assertIn("Heron 61 keys, channel 2, always plays Sedge lower", self.page("session:play-in"))
        journal.undo(self.rig, self.session)
        self.assertEqual(self.track("Sedge lower").generated, "")
        self.assertFalse(self.session.tracks.filter(instrument_uid=self.instrument("Reedbed").uid).exists())

    def test_what_steps_by_itself_on_the_stand_in_goes_to_its_tracks_and_is_known_as_a_box(self):
        heron, keys = box_named(self.plan, "Heron 61").uid, self.socket("Heron 61", "keys")
        FrontPanel.objects.filter(box_uid=heron).update(settings={"sequences": True})
        plan = self.plan
        lines = {"Sedge lower": ((keys, 2),)}
        instruments = tuple(replace(one, standing=lines.get(one.name, one.standing)) for one in plan.instruments)
        change_plan(self.rig, "lines", plan, replace(plan, instruments=instruments))
        self.session.tracks.filter(name__in=("Bittern", "Sedge lower")).update(notes=b"")
        row = self.play("Bittern")
        self.assertEqual((len(self.notes("Bittern")), len(self.notes("Sedge lower"))), (64, 16))
        self.assertIn("every 1/16, within 0.", self.track("Bittern").generated)
        self.assertEqual(
            self.track("Sedge lower").generated, "Generated at a box: every 1/4, within 0.2 ms of the clock"
        )
        self.assertIn("64 notes played in to Bittern", row.told)

    def test_repeated_what_was_played_goes_first(self):
        row = self.play("Bittern")
        once = len(self.notes("Bittern"))
        again = playing_in.repeat(row)
        again.refresh_from_db()
        self.assertEqual(len(self.notes("Bittern")), once)
        self.assertEqual(self.rig.changes.filter(title__startswith="Played in", undone=False).count(), 1)

    def test_what_had_arrived_when_the_worker_died_is_laid_in_at_its_next_start(self):
        with mock.patch.object(playing_in, "lay_in"):
            row = self.play("Sedge lower")
        self.assertFalse(row.laid)
        playing_in.lay_in_rescued()
        row.refresh_from_db()
        self.assertTrue(row.laid)
        self.assertEqual(len([one for one in self.notes() if one["tick"] < 4 * 1920 * 2]), 16)
        playing_in.lay_in_rescued()
        self.assertEqual(self.rig.changes.filter(title__startswith="Played in").count(), 1, "done once")

    def test_nobody_plays_and_nothing_can_be_heard(self):
        FrontPanel.objects.all().delete()
        before = self.notes("Bittern").tolist()
        self.assertIn("Nothing was played to Bittern in bars 1 to 4.", self.play("Bittern").told)
        self.assertEqual(self.notes("Bittern").tolist(), before, "and nothing was taken away")
        self.session.tracks.filter(name="Bittern").update(instrument_uid="")
        with self.assertRaisesMessage(CannotSchedule, "Bittern has no instrument"):
            self.play("Bittern")
        duty = {self.socket("Heron 61", "keys"): {"duty": "spare"}}
        change_plan(self.rig, "duty", self.plan, set_sockets(self.plan, duty))
        with self.assertRaisesMessage(CannotSchedule, "No port is played from."):
            self.play("Sedge lower")

    def test_its_pages_ask_show_and_offer_what_comes_next(self):
        self.arm("Bittern")
        page = self.page("session:play-in")
        self.assertIn("until the click is heard, 1.0 for the keys.", page)
        form = {"first_bar": 1, "last_bar": 2, "count_in": 1, "level_db": -12, "take_off": "on", "fast": "on"}
        form |= {"track": str(self.track("Bittern").uid), "output": self.socket("Quayside 18", "line out 1")}
        wrong = self.client.post(reverse("session:play-in"), form | {"last_bar": 0, "first_bar": 2, "token": "a"})
        self.assertContains(wrong, "greater than or equal to 1")
        before = len(self.notes("Bittern"))
        page = self.client.post(reverse("session:play-in"), form | {"token": "b"}, follow=True)
        self.assertContains(page, "8 notes played in to Bittern")
        row = PlayIn.objects.get()
        state = self.client.get(reverse("session:playing", args=[row.uid]))
        self.assertEqual(state["X-Finished"], "1")
        self.client.post(reverse("session:after-playing", args=[row.uid]), {"to": "repeat", "token": "c"})
        self.assertEqual(len(self.notes("Bittern")), before + 8)
        self.client.post(reverse("session:after-playing", args=[PlayIn.objects.last().uid]), {"to": "accept"})
        self.assertNotIn("played in to Bittern", self.page("session:home"))

    def test_what_was_played_without_recording_is_fetched_back(self):
        self.play_freely("heard too early", from_s=0.0)
        self.play_freely("fetched", from_s=10.0)
        self.session.tracks.filter(name="Bittern").update(notes=b"")
        sent = {"to": "fetch", "track": str(self.track("Bittern").uid), "bar": 3}
        told = self.told(self.client.post(reverse("session:play-freely"), sent, follow=True))
        self.assertIn("3 notes fetched back to Bittern, from bar 3 on.", told)
        pace = self.session.ticks_per_quarter
        # At 96 BPM a second is 1.6 quarters; the phrase begins on its bar.
        first = 2 * 4 * pace
        self.assertEqual(
            self.notes("Bittern")["tick"].tolist(), [first, first + round(0.8 * pace), first + round(1.6 * pace)]
        )
        journal.undo(self.rig, self.session)
        self.assertEqual(len(self.notes("Bittern")), 0)
        PlayIn.objects.filter(free=True).delete()
        self.assertIn(
            "Nothing was played freely", self.told(self.client.post(reverse("session:play-freely"), sent, follow=True))
        )

    def play_freely(self, of: str, *, from_s: float) -> None:
        """Three keys, half a second apart, as they were kept."""
        job = jobs.begin(free_playing.KIND, about=of)
        row = PlayIn.objects.create(session=self.session, track=self.track("Bittern"), job=job, free=True, laid=True)
        keys = []
        for number in range(3):
            at = round((from_s + 0.5 * number) * 1e9)
            keys += [[at, "keys", f"90{60 + number:02x}50"], [at + 200_000_000, "keys", f"80{60 + number:02x}00"]]
        PlayedChunk.objects.create(play_in=row, messages=keys)

    def test_playing_freely_sounds_keeps_what_comes_and_gives_way(self):
        heron = box_named(self.plan, "Heron 61").uid
        FrontPanel.objects.filter(box_uid=heron).update(settings={"demo": True})
        job = jobs.begin(free_playing.KIND, about=str(self.session.uid))
        row = PlayIn.objects.create(session=self.session, track=self.track("Bittern"), job=job, free=True, laid=True)
        with mock.patch.object(free_playing, "is_wanted", return_value=True), studio_for(self.plan) as studio:
            free_playing._pass_on(row, self.plan, studio, jobs.Reporter(job))
        self.assertTrue(row.chunks.exists())
        heard = [hit for hit in studio.played() if hit.box == box_named(self.plan, "Bittern").uid]
        self.assertTrue(heard, "the keys sound on the track's instrument")
        self.assertEqual(len(free_playing.free_now(self.session)), 1)
        self.client.post(reverse("session:play-freely"), {"to": "stop"})
        self.assertEqual(free_playing.free_now(self.session), [])

    def notes(self, track: str = "Sedge lower") -> np.ndarray:
        return notes_of(self.track(track))


def standin_nature(test: DemoTest):
    """What the interface of the stand-in hides."""
    return interface_nature(box_named(test.plan, "Quayside 18").uid)
