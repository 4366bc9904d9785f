"""The files another host gets: where they begin, what they hold."""

import hashlib
import io

import mido
import numpy as np
import soundfile
import wavinfo
from django.urls import reverse

from hypotaxis.core.formats.smf import read_smf
from hypotaxis.records import audio
from tests.web.base import DemoTest


class HandoverTest(DemoTest):
    def download(self, name: str, *args, **query) -> bytes:
        answer = self.client.get(reverse(name, args=args), query)
        self.assertEqual(answer.status_code, 200)
        return b"".join(answer.streaming_content) if answer.streaming else answer.content

    def saved(self, data: bytes) -> str:
        path = audio.folder("test") / "handed-over.wav"
        path.write_bytes(data)
        return str(path)

    def test_the_placed_take_is_a_broadcast_wave_that_says_where_it_stands(self):
        # wavinfo and libsndfile, both independent of the writer.
        take = self.record("Alder kit").takes.get()
        path = self.saved(self.download("handover:wave", take.uid))
        bext = wavinfo.WavInfoReader(path).bext
        bar = 4 * 30_000  # 96 BPM at 48 kHz: 30,000 samples a quarter
        self.assertEqual(bext.time_reference, bar + take.first_sample + take.placement)
        self.assertIn(f"Alder kit, take 1, placed {take.placement:+d} samples", bext.description)
        self.assertIn(f"bar 1 is sample {bar} of this time line", bext.description)
        self.assertEqual(soundfile.info(path).subtype, "PCM_24")
        kept = audio.read_frames(take.file, 0, take.frames)
        np.testing.assert_array_equal(soundfile.read(path, dtype="float32")[0], kept)

    def test_the_sound_stands_on_its_note_in_the_handed_over_files(self):
        take = self.record("Alder kick").takes.get()
        path = self.saved(self.download("handover:wave", take.uid, **{"from": "zero"}))
        filled, _ = soundfile.read(path, always_2d=True)
        file = mido.MidiFile(file=io.BytesIO(self.download("handover:score")))
        now, first = 0.0, None
        for message in file:
            now += message.time
            if message.type == "note_on" and message.channel == 9 and first is None:
                first = now
        self.assertAlmostEqual(first, 2.5, places=6)
        begins = int(np.argmax(np.abs(filled[:, 0]) > 0.05))
        # The first hit differs from the median of all by its own jitter: at most four standard deviations of it.
        self.assertAlmostEqual(begins, first * 48000, delta=4 * take.measured.jitter_ms * 48 + 5)

    def test_home_trim_is_applied_in_the_file_only(self):
        self.rig.instruments.filter(name="Alder kit").update(home_trim_db=-6.0)
        take = self.record("Alder kit").takes.get()
        handed, _ = soundfile.read(self.saved(self.download("handover:wave", take.uid)))
        kept = audio.read_frames(take.file, 0, take.frames)
        self.assertAlmostEqual(np.abs(handed).max() / np.abs(kept).max(), 10 ** (-6 / 20), places=4)

    def test_notes_go_out_on_their_instruments_channel_with_their_program(self):
        self.rig.instruments.filter(name="Bittern").update(channel=7)
        self.session.tracks.filter(name="Bittern").update(program=2)
        parts = {part.name: part for part in read_smf(self.download("handover:score")).parts}
        self.assertEqual((parts["Bittern"].channel, parts["Bittern"].program), (7, 2))
        # A bar in front leaves the gap between the sound and the first note.
        self.assertEqual(int(parts["Bittern"].notes["tick"][0]), 4 * 480)

    def test_everything_in_one_archive_with_a_word_on_what_is_what(self):
        self.plug_sluice()
        self.record("Alder kit", "Bittern")
        bundle = self.handed_over()
        names = bundle.namelist()
        self.assertEqual([name for name in names if "/" not in name], [
            "what begins where.csv", "Tide Tables settings.pdf", "read-me.txt", "checksums.sha256",
        ])  # fmt: skip
        self.assertEqual([name for name in names if name.startswith("audio")], [
            "audio/Tide Tables Alder kit take 1.wav", "audio/Tide Tables Bittern take 2.wav",
        ])  # fmt: skip
        self.assertIn("notes/Tide Tables.mid", names)
        self.assertIn("notes/each part/Bittern.mid", names)
        self.assertIn("bar 1 of the session is bar 2 of the MIDI files", bundle.read("read-me.txt").decode())
        for line in bundle.read("checksums.sha256").decode().splitlines():
            digest, name = line.split(" *", 1)
            self.assertEqual(hashlib.sha256(bundle.read(name)).hexdigest(), digest, name)
        self.assertEqual(len(bundle.read("checksums.sha256").splitlines()), len(names) - 1)

    def test_what_is_not_placed_is_said_and_not_handed_over(self):
        take = self.record("Alder kit", place=False).takes.get()
        self.assertIn("recorded, not placed (1)", self.page("handover:home"))
        self.assertEqual(self.client.get(reverse("handover:wave", args=[take.uid])).status_code, 404)
