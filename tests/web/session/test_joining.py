"""A file brought into a session: looked at first, its channels given to tracks, one step that can be undone."""

import io

import numpy as np
from django.urls import reverse

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.records import journal
from hypotaxis.records.plan import last_bar_of, notes_of
from tests.web.base import DemoTest


def upload(*channels: int, bpm: float = 120, bars: int = 2, name: str = "more.mid"):
    """A file with a note on each beat of bar 1, a part a channel."""
    rows = np.array([(480 * beat, 240, 60, 90) for beat in range(4)], dtype=NOTE)
    parts = tuple(ScorePart(f"Channel {one}", one, rows, no_controls(), program=5) for one in channels)
    file = io.BytesIO(write_smf(Score(TempoMap(480, ((0, round(60e6 / bpm)),)), parts, bars * 1920)))
    file.name = name
    return file


class JoiningTest(DemoTest):
    def hold(self, *channels: int, **made):
        return self.client.post(reverse("session:join"), {"score": upload(*channels, **made)})

    def test_its_channels_land_on_the_parts_of_one_module_in_one_move(self):
        address = self.hold(1, 2)["Location"]
        sedge = self.instrument("Sedge upper")
        page = self.client.get(address).content.decode()
        self.assertIn("Channel 1, channel 1, 4 notes", page)
        form = self.client.get(address, {"module": sedge.uid}).context["form"]
        initial = {f"to_{one.number}": form.fields[f"to_{one.number}"].initial for one in form.coming}
        before = {track.name: notes_of(track) for track in self.session.tracks.all()}
        told = self.told(self.client.post(address, initial | {"bar": 16, "rules": "session"}, follow=True))
        self.assertIn(
            "brought in from bar 16. The file goes at 120 BPM by itself; here it goes at the session’s 96.", told
        )
        self.assertEqual(last_bar_of(self.session), 17)
        grown = [one.name for one in self.session.tracks.all() if len(notes_of(one)) != len(before[one.name])]
        self.assertTrue(grown)
        journal.undo(self.rig, self.session)
        self.assertEqual(last_bar_of(self.session), 16)
        for track in self.session.tracks.all():
            self.assertEqual(notes_of(track).tolist(), before[track.name].tolist())

    def test_a_new_track_comes_and_goes_with_its_step(self):
        address = self.hold(3)["Location"]
        reedbed = self.instrument("Reedbed")
        sent = {"to_0": f"new/{reedbed.uid}", "bar": 1, "rules": "file"}
        self.client.post(address, sent)
        track = self.session.tracks.last()
        self.assertEqual((track.name, track.program, len(notes_of(track))), ("Reedbed", 5, 4))
        self.assertEqual(self.session.tempo_map.tempos[0][1], 500_000)
        self.assertContains(self.client.get(address, follow=True), "The file is not kept any more.")
        journal.undo(self.rig, self.session)
        self.assertFalse(self.session.tracks.filter(name="Reedbed").exists())
        journal.redo(self.rig, self.session)
        self.assertEqual(len(notes_of(self.session.tracks.get(name="Reedbed"))), 4)

    def test_what_cannot_be_brought_in_says_why(self):
        address = self.hold(1)["Location"]
        self.assertContains(
            self.client.post(address, {"to_0": "", "bar": 1, "rules": "session"}), "Every part is left out"
        )
        self.assertContains(
            self.client.post(address, {"to_0": "", "bar": 0, "rules": "session"}), "greater than or equal"
        )
        broken = io.BytesIO(b"no music")
        broken.name = "broken.mid"
        self.assertContains(self.client.post(reverse("session:join"), {"score": broken}), "broken.mid was not read.")
        self.assertContains(self.client.post(reverse("session:join"), {}), "Choose a file first.")
