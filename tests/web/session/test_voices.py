"""A drum machine's voices in tracks of their own: planned by its outs, recorded alone, taken back."""

from uuid import uuid4

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.plan import Return, Voice
from hypotaxis.core.rig.change import set_instrument
from hypotaxis.core.session.score import NOTE
from hypotaxis.records.journal import change_plan, redo, undo
from hypotaxis.records.models import Take, Track
from hypotaxis.records.plan import notes_of
from hypotaxis.steps.handover.notes import score_of
from hypotaxis.steps.session.services import planning, recording
from hypotaxis.steps.session.services.arranging import arrange, piece_of
from hypotaxis.steps.session.services.house import copy_session
from hypotaxis.steps.session.services.voices import VoicesApart
from tests.web.base import DemoTest

KICK, SNARE, HAT, OPEN = 36, 38, 42, 46


class VoicesTest(DemoTest):
    """A kit of four sounds, whose kick leaves the box by an out of its own."""

    def setUp(self):
        super().setUp()
        plan, kit = self.plan, self.instrument("Alder kit")
        own = Return(uid=str(uuid4()), name="kick out", inputs=self.instrument("Alder kick").returns)
        names = {KICK: "kick", SNARE: "snare", HAT: "hat", OPEN: "hat"}
        voices = tuple(Voice(note=note, name=name, home=own.uid * (note == KICK)) for note, name in names.items())
        change_plan(self.rig, "voices", plan, set_instrument(plan, kit.uid, further=(own,), voices=voices))
        rows = [(240 * beat, 120, note, 100) for beat in range(64) for note in (KICK, SNARE, HAT, OPEN)[beat % 4 :]]
        self.session.tracks.filter(name="Alder kit").update(notes=np.array(rows, dtype=NOTE).tobytes())
        self.drums = self.track("Alder kit")

    def sent(self, *tracks: Track) -> list:
        """All that a pass of these sends."""
        run = self.record(*(one.name for one in tracks), bars=(1, 8))
        return [(one.time_ns, one.port, one.data) for one in recording._schedule(run, run.frozen).messages]

    def apart(self, **names: str) -> list[Track]:
        """Every voice on a track of its own name, or of the one given by its name."""
        found = VoicesApart(self.drums, self.plan)
        found.take_apart({voice.notes: names.get(voice.name, voice.name) for voice in found.voices})
        return list(self.drums.voices.filter(away=False))

    def test_each_voice_plays_its_notes_and_nothing_is_copied(self):
        rows = self.apart()
        self.assertEqual([row.name for row in rows], ["Alder kit: kick", "Alder kit: snare", "Alder kit: hat"])
        every = np.sort(np.concatenate([notes_of(row)["tick"] for row in rows]))
        self.assertEqual(every.tolist(), np.sort(notes_of(self.drums)["tick"]).tolist())
        self.assertEqual({bytes(row.notes) for row in rows}, {b""})
        self.assertEqual({row.group for row in rows}, {"Alder kit"})
        # What is changed on the track is changed for its voices, and once.
        piece = piece_of(self.session)
        arrange(self.session, "Shorter", piece.__class__(piece.tempo, piece.end_tick, (), piece.parts))
        self.assertEqual({bytes(row.notes) for row in self.drums.voices.all()}, {b""})
        self.assertEqual(len(score_of(self.session, self.plan).parts), self.session.tracks.written().count())

    def test_voices_with_outs_of_their_own_share_a_pass_and_the_rest_need_one_each(self):
        rows = self.apart()
        self.session.tracks.exclude(uid=self.drums.uid).update(notes=b"")
        row = planning.plan_anew(self.session, self.plan, first_bar=1, last_bar=2, gap_s=0.0, fast=True)
        named = {str(one.uid): one.name.removeprefix("Alder kit: ") for one in rows}
        columns = [[named[uid] for uid in column.tracks] for column in row.columns.all()]
        self.assertEqual(columns, [["kick", "snare"], ["hat"]], "and the whole kit is not recorded as well")

    def test_a_voice_is_recorded_alone_by_its_own_return(self):
        kick, snare, _ = self.apart()
        sent = self.sent(kick, snare)
        self.assertEqual(len(sent), len(set(sent)), "what both say of their channel leaves once")
        for row, by in ((kick, "kick out"), (snare, "")):
            take = row.takes.get()
            self.assertEqual((take.beside, take.return_name, take.title), (False, by, row.name))
            self.assertEqual(take.measured.looked_for, len(notes_of(row)))

    def test_several_voices_by_one_name_are_one_take(self):
        rows = self.apart(snare="rest", hat="rest")
        self.assertEqual([row.voice_notes for row in rows], [[KICK], [SNARE, HAT, OPEN]])

    def test_undo_puts_them_away_with_what_was_recorded_and_redo_brings_it_back(self):
        kick = self.apart()[0]
        self.record(kick.name, bars=(1, 1))
        undo(self.rig, self.session)
        self.assertFalse(self.session.tracks.shown().filter(voice_of=self.drums).exists())
        self.assertTrue(Take.objects.filter(track=kick).exists(), "what was recorded outlives it")
        redo(self.rig, self.session)
        self.assertTrue(self.session.tracks.shown().filter(uid=kick.uid).exists())
        VoicesApart(self.drums, self.plan).together_again()
        self.assertFalse(self.session.tracks.shown().filter(voice_of=self.drums).exists())
        self.assertEqual(self.apart()[0].uid, kick.uid, "the track with its takes comes back")

    def test_they_follow_their_track(self):
        rows = self.apart()
        fields = {f"{self.drums.uid}-instrument_uid": self.drums.instrument_uid, f"{self.drums.uid}-program": "5"}
        self.client.post("/session/tracks/", fields)
        self.assertEqual({row.program for row in self.drums.voices.all()}, {5})
        made = copy_session(self.session)
        copies = made.tracks.exclude(voice_of=None)
        self.assertEqual(len(copies), len(rows))
        self.assertEqual({row.voice_of.session for row in copies}, {made})

    def test_what_cannot_be_is_said(self):
        found = VoicesApart(self.drums, self.plan)
        with self.assertRaisesRegex(BadBars, "No voice has a track"):
            found.take_apart({voice.notes: " " for voice in found.voices})
        gone = set_instrument(
            self.plan, found.instrument.uid, returns=(), further=(), voices=(Voice(note=1, name="a"),)
        )
        change_plan(self.rig, "no returns", self.plan, gone)
        with self.assertRaisesRegex(BadBars, "Alder kit has no return"):
            VoicesApart(self.drums, self.plan).take_apart({(KICK,): "kick"})
        self.session.tracks.filter(name="Alder kit").update(instrument_uid="")
        answer = self.client.get(f"/session/voices/{self.drums.uid}/", follow=True)
        self.assertContains(answer, "Alder kit has no instrument, so it has no voices.")

    def test_its_sheet_says_where_each_comes_home(self):
        answer = self.client.get(f"/session/voices/{self.drums.uid}/?back=plan")
        self.assertContains(answer, "its own out")
        self.assertContains(answer, "a separate out leaves the box before its effects")
        fields = {f"voice-{voice.notes[0]}": voice.name for voice in VoicesApart(self.drums, self.plan).voices}
        answer = self.client.post(f"/session/voices/{self.drums.uid}/?back=plan", fields, follow=True)
        self.assertContains(answer, "tracks of single voices now, in the group Alder kit.")
        self.assertContains(answer, "apart, ")
