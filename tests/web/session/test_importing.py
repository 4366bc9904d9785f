"""A MIDI file becomes a session with tracks, or a reason and nothing else."""

import importlib
import io

import mido
import numpy as np
from django.apps import apps
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.session.score import CONTROL
from hypotaxis.demo.compose import tide_tables
from hypotaxis.records.audio import folder
from hypotaxis.records.models import Job, Session, Track
from hypotaxis.records.plan import controls_of, notes_of
from hypotaxis.steps.session.services import importing
from tests.core.formats.test_smf import END, smf
from tests.web.base import DemoTest

NOTE = b"\x00\x90\x3c\x64\x60\x80\x3c\x40"


class ImportTest(DemoTest):
    def upload(self, data: bytes, name="harbour.mid", **fields):
        form = {"score": SimpleUploadedFile(name, data), "name": ""} | fields
        return self.client.post(reverse("session:import"), form, follow=True)

    def test_tracks_find_their_instruments_by_name_then_by_channel(self):
        file = mido.MidiFile(type=0)
        track = mido.MidiTrack([mido.Message("note_on", channel=c, note=40, velocity=90) for c in (1, 2, 3, 9)])
        track += [mido.Message("note_off", channel=c, note=40, time=90) for c in (1, 2, 3, 9)]
        file.tracks.append(track)
        stream = io.BytesIO()
        file.save(file=stream)
        answer = self.upload(stream.getvalue())
        self.assertIn("harbour is imported: 4 tracks. 1 of them needs an instrument.", self.told(answer))
        session = Session.objects.get(name="harbour")
        names = [
            next((i.name for i in self.plan.instruments if i.uid == track.instrument_uid), "")
            for track in session.tracks.all()
        ]
        self.assertEqual(names, ["Sedge lower", "Bittern", "Withy", ""])

    def test_what_is_stored_is_what_the_file_says(self):
        self.upload(write_smf(tide_tables()), name="again.mid", name_field="")
        session = Session.objects.get(name="again")
        score = tide_tables()
        self.assertEqual(session.tempo_map, score.tempo)
        for track, part in zip(session.tracks.all(), score.parts, strict=True):
            self.assertEqual(notes_of(track).tolist(), part.notes.tolist())
            self.assertEqual(track.program, part.program)

    def test_a_sound_keeps_its_bank_from_the_file_to_the_box_and_to_the_file_again(self):
        bank = b"\x00\xb2\x00\x03\x00\xb2\x20\x04\x00\xc2\x05"
        self.upload(smf(bank + b"\x00\x92\x3c\x64\x60\x82\x3c\x40" + END))
        self.client.cookies["hypotaxis-session"] = str(Session.objects.get(name="harbour").uid)
        for form, wanted in {"both": ["b20003", "b22004", "c205"], "msb": ["b20003", "c205"]}.items():
            with self.subTest(form):
                self.rig.instruments.filter(name="Bittern").update(bank_form=form)
                self.client.post(reverse("session:sounds"))
                job = Job.objects.filter(kind="sounds").last()
                self.assertEqual([data for _, data in job.request["messages"]], wanted)
                file = mido.MidiFile(file=io.BytesIO(self.client.get(reverse("handover:score")).content))
                written = [m.bin().hex() for m in file.tracks[1] if not m.is_meta]
                self.assertEqual(written[:-2], wanted)

    def test_banks_of_sessions_imported_before_go_to_their_program(self):
        migration = importlib.import_module("hypotaxis.records.migrations.0015_banks")
        controls = [(0, 0xB0, 0, 3), (0, 0xB0, 7, 90), (0, 0xB0, 32, 4), (960, 0xB0, 0, 9)]
        track = self.track("Bittern")
        track.controls = np.array(controls, dtype=CONTROL).tobytes()
        track.save()
        migration.banks_to_their_program(apps, None)
        track.refresh_from_db()
        self.assertEqual((track.program, track.msb, track.lsb), (0, 3, 4))
        self.assertEqual(controls_of(track)["data1"].tolist(), [7, 0])

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

    def test_a_large_file_is_left_to_the_worker(self):
        many = b"".join(
            b"\x05\x90" + bytes([40 + n % 40, 90]) + b"\x05\x80" + bytes([40 + n % 40, 64]) for n in range(20_000)
        )
        answer = self.upload(smf(many + END), name="long.mid")
        self.assertIn("long is imported: 1 track.", self.told(answer))
        self.assertEqual(len(notes_of(Session.objects.get(name="long").tracks.get())), 20_000)
        sessions = Session.objects.count()
        answer = self.upload(smf(many + END)[:-9], name="cut.mid")
        self.assertIn("cut.mid was not imported. The file holds less than it declares", self.told(answer))
        self.assertEqual(Session.objects.count(), sessions)
        (folder("imports") / "left-by-a-dead-worker.mid").write_bytes(b"x")
        importing.forget_interrupted_imports()
        self.assertEqual(list(folder("imports").iterdir()), [])

    def test_a_large_import_can_be_stopped_and_then_keeps_nothing(self):
        sessions = Session.objects.count()
        job = Job.objects.create(kind="import", about=str(self.rig.uid), request={"name": "x", "title": "x.mid"})
        self.assertIn("x.mid waits for its turn", self.page("session:importing", job.uid))
        self.client.post(reverse("session:importing-cancel", args=[job.uid]))
        importing.take_in(str(job.uid))
        answer = self.client.get(reverse("session:importing", args=[job.uid]), follow=True)
        self.assertIn("It was stopped, and nothing was imported", self.told(answer))
        self.assertEqual(Session.objects.count(), sessions)

    def test_without_a_file_the_form_asks_for_one(self):
        answer = self.client.post(reverse("session:import"), {"name": "Low water"})
        self.assertContains(answer, "Choose a file first.")
        self.assertContains(answer, 'value="Low water"')
