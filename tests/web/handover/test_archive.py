"""The archive: what was chosen goes in, as it was chosen; what is not ready says so and leads to its mending."""

import csv
import io
import tempfile
from pathlib import Path
from unittest import mock

import mido
import numpy as np
import pretty_midi
import soundfile
import wavinfo
from django.urls import reverse

from hypotaxis.core.errors import CannotHandOver
from hypotaxis.core.formats.filenames import USUAL
from hypotaxis.core.formats.patchfile import read_patch_file
from hypotaxis.core.formats.sound import FLAC, WAVE, WAVE_FLOAT
from hypotaxis.core.formats.timeline import read_inside, read_timeline
from hypotaxis.core.session.handover import (
    AUDIO,
    FILLED,
    GROUPS,
    ITEMS,
    NAMES,
    NOTES,
    STANDING,
    TABLE,
    TAKES,
    TIMELINE,
    Wish,
)
from hypotaxis.records import audio
from hypotaxis.records.models import Job, Take
from hypotaxis.steps.handover import archive
from hypotaxis.steps.session.services.placing import unplace
from tests.web.base import DemoTest

BAR = 4 * 30_000
"""Samples of a bar at 96 BPM and 48 kHz."""


class SoundsTest(DemoTest):
    def before_all(self):
        self.record("Alder kit", "Bittern", bars=(1, 4))

    def setUp(self):
        super().setUp()
        self.kit, self.bass = self.session.takes.order_by("track__order")

    def sounds(self, **wish) -> dict[str, tuple[np.ndarray, int]]:
        """(samples, rate) of each sound of an archive, by its name."""
        self.bundle = self.handed_over(items=(AUDIO,), **wish)
        found = {}
        for name in self.bundle.namelist():
            if name.startswith("audio/"):
                found[name[6:]] = soundfile.read(io.BytesIO(self.bundle.read(name)), always_2d=True)
        return found

    def test_in_each_form_and_rate_the_sound_stands_at_its_place(self):
        kept = audio.read_frames(self.bass.file, 0, self.bass.frames)
        for form in (WAVE_FLOAT, FLAC):
            sound, rate = self.sounds(form=form)[f"Tide Tables Bittern take 2.{'flac' if form == FLAC else 'wav'}"]
            np.testing.assert_array_equal(sound.astype(np.float32), kept)
        slow = self.sounds(rate=44_100, tracks=(str(self.bass.track.uid),))
        ((name, (sound, rate)),) = slow.items()
        self.assertEqual((rate, len(sound)), (44_100, round(self.bass.frames * 0.91875)))
        path = self.bundle.extract(f"audio/{name}", audio.folder("test"))
        read = wavinfo.WavInfoReader(path)
        place = BAR + self.bass.first_sample + self.bass.placement
        self.assertEqual(read.bext.time_reference, round(place * 0.91875))
        self.assertIn(f"bar 1 is sample {round(BAR * 0.91875)} of this", read.bext.description)
        self.assertEqual([track.name for track in read.ixml.track_list], ["Bittern"])
        # The loudest place is the same to half a sample of the slower rate; of one note, since several are as loud.
        loudest = [np.abs(one[: round(1.5 * rate)]).argmax() / rate for one, rate in ((sound, 44_100), (kept, 48_000))]
        self.assertAlmostEqual(*loudest, delta=1 / 44_100)

    def test_filled_ones_begin_at_the_files_zero(self):
        bundle = self.handed_over(items=(AUDIO, FILLED, TABLE), tracks=(str(self.kit.track.uid),))
        plain, filled = (soundfile.read(bundle.open(name))[0] for name in bundle.namelist()[:2])
        silence = BAR + self.kit.start
        self.assertEqual(len(filled), len(plain) + silence)
        self.assertFalse(filled[:silence].any())
        np.testing.assert_array_equal(filled[silence:], plain)
        rows = list(csv.DictReader(io.StringIO(bundle.read("what begins where.csv").decode("utf-8-sig"))))
        self.assertEqual([row["begins at sample"] for row in rows], [str(silence), "0"])
        self.assertEqual(rows[0]["file"], bundle.namelist()[0])

    def test_what_is_set_is_applied_unless_it_is_wanted_as_recorded(self):
        Take.objects.update(gain_db=6.0, inverted=True)
        kept = audio.read_frames(self.bass.file, 0, self.bass.frames)
        (sound, _) = self.sounds()["Tide Tables Bittern take 2.wav"]
        np.testing.assert_allclose(sound, -kept * 10 ** (6 / 20), atol=2e-7)
        (plain, _) = self.sounds(as_set=False)["Tide Tables Bittern take 2.wav"]
        np.testing.assert_array_equal(plain.astype(np.float32), kept)
        Take.objects.update(gain_db=30.0)
        self.sounds()
        self.assertIn("turn it down, or hand it over as float", self.bundle.read("read-me.txt").decode())

    def test_trimmed_takes_leave_as_they_are_left_or_whole(self):
        self.bass.trimmed = [2, 3]
        self.bass.save()
        name = "Tide Tables Bittern take 2.wav"
        whole, left = (self.sounds(sounds=TAKES, whole=whole)[name][0] for whole in (True, False))
        self.assertEqual(len(whole), self.bass.frames)
        # Half a second before bar 2, and not beyond the line of bar 4.
        self.assertEqual(len(left), 2 * BAR + 24_000)
        self.assertEqual((np.abs(left[:24_000]).max(), abs(left[-1, 0]) < 1e-3), (0, True))
        kept = audio.read_frames(self.bass.file, BAR - self.bass.start, 3 * BAR - self.bass.start - 480)
        np.testing.assert_array_equal(left[24_000:-480].astype(np.float32), kept)

    def test_a_group_is_the_sum_of_its_tracks(self):
        self.session.tracks.filter(name__in=("Alder kit", "Bittern")).update(group="Rhythm / Ä")
        ((name, (sound, _)),) = self.sounds(sounds=GROUPS, pattern="{group}-{session}").items()
        self.assertEqual(name, "Rhythm - Ä-Tide Tables.wav")
        # It begins half a second before bar 1.
        kit, bass = (
            audio.read_frames(take.file, -24_000 - take.start, len(sound) - 24_000 - take.start)
            for take in (self.kit, self.bass)
        )
        # A mono sound lies in the middle, 3 dB down at each side.
        np.testing.assert_allclose(sound, kit + bass / np.sqrt(2), atol=1e-6)

    def test_a_silent_side_makes_it_mono_and_is_told(self):
        sound = audio.read_frames(self.kit.file, 0, self.kit.frames)
        sound[:, 1] = 0
        form = {"rate": 48_000, "channels": 2, "frames": len(sound), "first_sample": self.kit.first_sample}
        Take.objects.filter(uid=self.kit.uid).update(file=audio.keep_take([sound], **form))
        (mono, _) = self.sounds()["Tide Tables Alder kit take 1.wav"]
        np.testing.assert_array_equal(mono[:, 0].astype(np.float32), sound[:, 0])
        self.assertIn("mono: its right side is silent", self.bundle.read("read-me.txt").decode())
        self.assertEqual(self.sounds(fold=False)["Tide Tables Alder kit take 1.wav"][0].shape[1], 2)


class TextsTest(DemoTest):
    def test_notes_leave_with_sections_and_sounds_and_each_part_alone(self):
        self.session.tracks.filter(name="Bittern").update(program=2, msb=1)
        session = self.session
        session.sections = [[0, "Ebb"], [4 * 480 * 4, "Flüt"]]
        session.save()
        bundle = self.handed_over(items=(NOTES,))
        data = bundle.read("notes/Tide Tables.mid")
        # mido and pretty_midi, both independent of the reader.
        file = mido.MidiFile(file=io.BytesIO(data), charset="utf-8")
        markers = [message.text for message in file.tracks[0] if message.type == "marker"]
        self.assertEqual(markers, ["Ebb", "Flüt"])
        part = next(track for track in file.tracks if track.name == "Bittern")
        kinds = [(message.type, message.time) for message in part if not message.is_meta]
        self.assertEqual([kind for kind, _ in kinds[:3]], ["control_change", "program_change", "note_on"])
        # The sound is called up more than its gap ahead: the files begin a bar earlier for it.
        self.assertGreaterEqual(kinds[2][1], 1920)
        bass = next(one for one in pretty_midi.PrettyMIDI(io.BytesIO(data)).instruments if one.name == "Bittern")
        self.assertEqual((bass.program, bass.notes[0].start), (2, 2.5))
        alone = mido.MidiFile(file=io.BytesIO(bundle.read("notes/each part/Bittern.mid")))
        self.assertEqual(len(alone.tracks), 2)
        clean = mido.MidiFile(file=io.BytesIO(bundle.read("notes/each part, without its sound/Bittern.mid")))
        self.assertNotIn("program_change", {message.type for message in clean.tracks[1]})
        self.assertEqual(len(clean.tracks[1]), len(part) - 2)
        self.client.post(reverse("session:import"), {"score": io.BytesIO(data), "name": "Again"})
        self.assertEqual([name for _, name in self.rig.sessions.get(name="Again").sections], ["Ebb", "Flüt"])

    def test_the_names_are_read_again_as_they_were(self):
        bundle = self.handed_over(items=(NAMES,))
        names = [name for name in bundle.namelist() if name.startswith("names/")]
        self.assertGreater(len(names), 3)
        for name in names:
            kind, read = read_patch_file(bundle.read(name))
            self.assertTrue(read.patches.patches or read.patches.note_maps, (name, kind))


class WorkTest(DemoTest):
    def form(self, **changed) -> dict:
        tracks = [str(uid) for uid in self.session.tracks.values_list("uid", flat=True)]
        usual = {
            "items": list(ITEMS),
            "tracks": tracks,
            "sounds": STANDING,
            "form": WAVE,
            "rate": "0",
        }
        return usual | {"pattern": USUAL, "as_set": "on", "fold": "on", "to": "keep"} | changed

    def send(self, **changed):
        return self.client.post(reverse("handover:home"), self.form(**changed), follow=True)

    def test_it_is_chosen_kept_made_and_taken(self):
        self.record("Bittern")
        self.send(items=[AUDIO, TABLE], form=FLAC, rate="44100")
        self.session.refresh_from_db()
        kept = self.session.handed_over
        self.assertEqual((kept.items, kept.form, kept.rate, kept.tracks), ((AUDIO, TABLE), FLAC, 44_100, ()))
        self.assertContains(self.client.get(reverse("handover:home")), "1 file, FLAC, 24 bit, 44100 Hz")
        answer = self.send(items=[AUDIO], to="make")
        self.assertContains(answer, "Take the archive")
        answer = self.client.get(reverse("handover:file"))
        self.assertIn("Tide Tables handover.zip", answer["Content-Disposition"])
        self.assertEqual(b"".join(answer.streaming_content)[:2], b"PK")
        for _ in range(archive.KEPT + 1):
            self.send(items=[TABLE], to="make")
        self.assertEqual(len(list(audio.folder("archives").iterdir())), archive.KEPT)
        soft = self.client.post(reverse("handover:home"), self.form(items=[]), headers={"X-Soft": "1"})
        self.assertContains(soft, 'data-part="sum"')
        self.assertNotContains(soft, "<html")

    def test_what_cannot_be_is_told_and_nothing_is_made(self):
        self.assertContains(self.send(pattern="{song}"), "“{song}” stands for nothing")
        self.assertContains(self.send(pattern="x" * 121), "at most 120 characters")
        self.assertEqual(self.session.handover, {})
        self.assertContains(self.send(items=[], to="make"), "Nothing is chosen")
        self.assertContains(self.send(items=[AUDIO], to="make"), "No take is placed yet")
        self.assertContains(self.send(form="mp3"), "mp3 is not one of the available choices")
        self.record("Bittern")
        with (
            mock.patch.object(audio, "free_bytes", lambda: 1000),
            self.assertRaisesRegex(CannotHandOver, "room for 0"),
        ):
            archive.start(self.session, self.plan, Wish())
        self.assertFalse(Job.objects.filter(kind=archive.KIND).exists())
        self.assertEqual(self.client.get(reverse("handover:file")).status_code, 404)

    def test_a_full_disk_ends_it_in_words_and_leaves_nothing(self):
        self.record("Bittern")
        before = set(audio.folder("archives").iterdir())
        with mock.patch.object(archive, "deliver", side_effect=OSError(28, "No space left")):
            job = archive.start(self.session, self.plan, Wish())
        job.refresh_from_db()
        self.assertEqual(job.state, Job.FAILED)
        self.assertIn("The disk is full", job.message)
        self.assertLessEqual(set(audio.folder("archives").iterdir()), before)

    def test_what_is_not_ready_says_why_and_leads_to_its_mending(self):
        self.record("Bittern", bars=(3, 4))
        page = self.page("handover:home")
        self.assertIn("missing", page)
        self.assertIn("no take yet", page)
        track = self.session.tracks.get(name="Bittern")
        asked = {"to": "record", "track": str(track.uid), "first_bar": "1", "last_bar": "2"}
        answer = self.client.post(reverse("handover:home"), asked)
        self.assertEqual(answer["Location"], f"{reverse('session:home')}?first_bar=1&last_bar=2")
        self.assertEqual([one.name for one in self.session.tracks.filter(armed=True)], ["Bittern"])
        unplace(Take.objects.get())
        self.assertIn("recorded, not placed (1)", self.page("handover:home"))


class TimelineTest(DemoTest):
    def test_the_time_line_holds_and_names_what_is_delivered(self):
        self.record("Bittern", "Sedge upper", bars=(1, 2))
        bundle = self.handed_over(items=(AUDIO, TABLE, TIMELINE))
        names = {name.rpartition("sounds ")[2]: name for name in bundle.namelist() if name.endswith(".aaf")}
        self.assertEqual(set(names), {"beside.aaf", "inside.aaf"})
        rows = list(csv.DictReader(io.StringIO(bundle.read("what begins where.csv").decode("utf-8-sig"))))
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        beside, inside = (Path(bundle.extract(names[name], folder)) for name in ("beside.aaf", "inside.aaf"))
        self.assertEqual(
            [(one.file, one.begins, one.frames, one.rate) for one in read_timeline(beside)],
            [(row["file"], int(row["begins at sample"]), int(row["frames"]), int(row["sample rate"])) for row in rows],
        )
        at = 0
        for row in rows:
            sound, _ = soundfile.read(io.BytesIO(bundle.read(row["file"])), always_2d=True)
            for side in range(int(row["channels"])):
                self.assertEqual(read_timeline(inside)[at].begins, int(row["begins at sample"]))
                np.testing.assert_array_equal(read_inside(inside, at), sound[:, side])
                at += 1
        self.assertEqual(at, len(read_timeline(inside)))

    def test_of_flac_it_holds_the_sounds_and_names_none_and_a_huge_one_says_so(self):
        self.record("Bittern")
        names = self.handed_over(items=(AUDIO, TIMELINE), form=FLAC).namelist()
        self.assertEqual([name.rpartition("sounds ")[2] for name in names if name.endswith("aaf")], ["inside.aaf"])
        with mock.patch.object(archive, "MOST_INSIDE", 1000):
            bundle = self.handed_over(items=(AUDIO, TIMELINE))
        aaf = [name for name in bundle.namelist() if name.endswith("aaf")]
        self.assertEqual([name.rpartition("sounds ")[2] for name in aaf], ["beside.aaf"])
        self.assertIn("The time line holds no sounds", bundle.read("read-me.txt").decode())
