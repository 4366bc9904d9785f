"""A MIDI file becomes a session with tracks, or a reason and nothing else."""

import io

import mido
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.demo.compose import tide_tables
from hypotaxis.records.models import Session, Track
from hypotaxis.records.plan import notes_of, tempo_of
from tests.core.formats.test_smf import END, smf
from tests.web.base import DemoTest

NOTE = b"\x00\x90\x3c\x64\x60\x80\x3c\x40"


class ImportTest(DemoTest):
    def upload(self, data: bytes, name="harbour.mid", **fields):
        form = {"score": SimpleUploadedFile(name, data), "name": ""} | fields
        return self.client.post(reverse("session:import"), form, follow=True)

    def test_tracks_find_their_instruments_by_name_then_by_channel(self):
        file = mido.MidiFile(type=0)
        track = mido.MidiTrack([mido.Message("note_on", channel=c, note=40, velocity=90) for c in (0, 2, 9, 14)])
        track += [mido.Message("note_off", channel=c, note=40, time=90) for c in (0, 2, 9, 14)]
        file.tracks.append(track)
        stream = io.BytesIO()
        file.save(file=stream)
        answer = self.upload(stream.getvalue())
        self.assertIn("harbour is imported: 4 tracks. 1 of them need an instrument.", self.told(answer))
        session = Session.objects.get(name="harbour")
        names = [
            next((i.name for i in self.plan.instruments if i.uid == track.instrument_uid), "")
            for track in session.tracks.all()
        ]
        self.assertEqual(names, ["Sedge upper", "Bittern", "Alder kit", ""])

    def test_what_is_stored_is_what_the_file_says(self):
        self.upload(write_smf(tide_tables()), name="again.mid", name_field="")
        session = Session.objects.get(name="again")
        score = tide_tables()
        self.assertEqual(tempo_of(session), score.tempo)
        for track, part in zip(session.tracks.all(), score.parts, strict=True):
            self.assertEqual(notes_of(track).tolist(), part.notes.tolist())
            self.assertEqual(track.program, part.program)

    def test_bad_files_are_refused_with_a_reason_and_nothing_is_stored(self):
        good = smf(NOTE + END)
        refused = {
            "does not begin with MThd": b"RIFF....WAVE",
            "The file is empty": b"",
            "type 2 file": smf(NOTE + END, kind=2),
            "SMPTE frames": smf(NOTE + END, division=0xE728),
            "zero ticks a quarter": smf(NOTE + END, division=0),
            "tempo of zero": smf(b"\x00\xff\x51\x03\x00\x00\x00" + NOTE + END),
            "holds less than it declares": good[:-3],
            "The file has no notes": smf(END),
            "lasts": smf(b"\xff\xff\xff\x7f\x90\x3c\x64\xff\xff\xff\x7f\x80\x3c\x40" + END, division=24),
        }
        sessions, tracks = Session.objects.count(), Track.objects.count()
        for reason, data in refused.items():
            with self.subTest(reason):
                answer = self.upload(data)
                self.assertContains(answer, reason)
                self.assertEqual((Session.objects.count(), Track.objects.count()), (sessions, tracks))

    def test_without_a_file_the_form_asks_for_one(self):
        answer = self.client.post(reverse("session:import"), {"name": "Low water"})
        self.assertContains(answer, "Choose a file first.")
        self.assertContains(answer, 'value="Low water"')
