"""A part opened: straightened from how it was played, brought back, freed of doubled notes; each a step."""

import numpy as np
from django.urls import reverse

from hypotaxis.core.formats.smf import read_smf
from hypotaxis.core.grid.values import Grid, Pattern, Row, Step
from hypotaxis.core.session.score import NOTE
from hypotaxis.records import journal
from hypotaxis.records.plan import notes_of
from hypotaxis.steps.session.services.grids import change_grid
from tests.web.base import DemoTest

PLAYED = [(7, 100, 60, 90), (118, 100, 62, 90), (251, 100, 64, 90)]


class PartTest(DemoTest):
    def setUp(self):
        super().setUp()
        self.session.tracks.filter(name="Bittern").update(notes=np.array(PLAYED, dtype=NOTE).tobytes())

    def act(self, to: str, **typed):
        address = reverse("session:part", args=[self.track("Bittern").uid])
        return self.client.post(address, {"to": to, **typed}, follow=True)

    def straighten(self, **typed):
        return self.act("straighten", **{"division": "1/16", "strength": 100, "swing": 50, "window": 100} | typed)

    def ticks(self) -> list[int]:
        return notes_of(self.track("Bittern"))["tick"].tolist()

    def test_it_is_straightened_always_from_how_it_was_played_and_brought_back(self):
        told = self.told(self.straighten())
        self.assertIn("3 notes of Bittern straightened to 1/16, 100%.", told)
        self.assertEqual(self.ticks(), [0, 120, 240])
        self.assertIn("swing 58 %", self.told(self.straighten(swing=58, strength=50)))
        self.assertEqual(self.ticks(), [3, 129, 245])
        self.act("played")
        self.assertEqual(self.ticks(), [7, 118, 251])
        self.assertIn("stands as it was played", self.told(self.act("played")))
        journal.undo(self.rig, self.session)
        self.assertEqual(self.ticks(), [3, 129, 245])
        self.act("played")
        self.assertEqual(self.ticks(), [7, 118, 251], "what was played came back with the step")

    def test_the_played_notes_go_along_with_finer_ticks_and_are_let_go_where_notes_change_otherwise(self):
        self.straighten()
        bars = reverse("session:bars")
        self.client.post(bars, {"to": "double time", "bar": 1})
        self.assertEqual(self.session.ticks_per_quarter, 960)
        self.act("played")
        self.assertEqual(self.ticks(), [7, 118, 251], "half of 14, 236 and 502 finer ticks")
        self.straighten()
        self.client.post(bars, {"to": "doubled", "bar": 1})
        self.assertIn("was changed otherwise", self.told(self.act("played")))

    def test_doubled_notes_are_told_with_their_cause_and_removed_in_one_move(self):
        page = self.page("session:part", self.track("Bittern").uid)
        self.assertIn("3 notes, C4 to E4.", page)
        self.assertNotIn("twice", page)
        twice = sorted([*PLAYED, *((tick + 5, *rest) for tick, *rest in PLAYED)])
        self.session.tracks.filter(name="Bittern").update(notes=np.array(twice, dtype=NOTE).tobytes())
        page = self.page("session:part", self.track("Bittern").uid)
        self.assertIn("3 of them stand twice.", page)
        self.assertIn("always some 6.5 ms behind the first: two routes led to the port", page)
        self.assertIn("3 doubled notes of Bittern removed.", self.told(self.act("undouble")))
        self.assertEqual(self.ticks(), [7, 118, 251])
        self.assertIn("No note of Bittern stands twice.", self.told(self.act("undouble")))

    def test_some_bars_are_moved_made_softer_and_removed(self):
        told = self.told(self.act("change", first_bar=1, last_bar=1, semitones=-12, loudness=50))
        self.assertIn("3 notes of Bittern changed, bars 1 to 1.", told)
        self.assertEqual(notes_of(self.track("Bittern"))[["note", "velocity"]].tolist(), [(48, 45), (50, 45), (52, 45)])
        self.act("change", first_bar=1, last_bar=1, semitones=-48)
        told = self.told(self.act("change", first_bar=1, last_bar=1, semitones=-1))
        self.assertIn("1 of its notes would leave the notes there are", told)
        self.act("remove", first_bar=1, last_bar=2)
        self.assertEqual(self.ticks(), [])
        journal.undo(self.rig, self.session)
        self.assertEqual(len(self.ticks()), 3)

    def test_a_part_alone_leaves_as_a_file_and_reads_back_exactly(self):
        answer = self.client.get(reverse("session:part-file", args=[self.track("Bittern").uid]))
        self.assertIn("tide-tables-bittern.mid", answer["Content-Disposition"])
        score = read_smf(answer.content)
        self.assertEqual(score.tempo, self.session.tempo_map)
        self.assertEqual(score.parts[0].notes.tolist(), PLAYED)

    def test_bad_input_is_told_and_an_empty_part_says_what_to_do(self):
        self.assertContains(self.straighten(swing=90), "less than or equal to 75")
        self.assertContains(self.straighten(division="1/5"), "1/5 is not one of the available choices")
        self.session.tracks.filter(name="Bittern").update(notes=b"")
        self.assertIn("It has no notes yet.", self.page("session:part", self.track("Bittern").uid))

    def test_the_groove_of_another_track_is_taken_over(self):
        late = [(place * 120 + 30 * (place % 2), 10, 40, 90) for place in range(16)]
        self.session.tracks.filter(name="Sedge lower").update(notes=np.array(late, dtype=NOTE).tobytes())
        self.straighten(groove=f"track/{self.track('Sedge lower').uid}")
        self.assertEqual(self.ticks(), [0, 150, 240])
        empty = self.session.tracks.exclude(name="Bittern").first()
        self.session.tracks.filter(uid=empty.uid).update(notes=b"")
        told = self.told(self.straighten(groove=f"track/{empty.uid}"))
        self.assertIn("A groove is measured from 4 notes at least; there are 0.", told)
        self.assertContains(self.straighten(groove="track/nothing"), "nothing is not one of the available choices")

    def test_patterns_that_play_what_is_written_are_switched_off(self):
        track = self.track("Bittern")
        row = Row(60, steps=(Step(0),))
        self.session.tracks.filter(name="Bittern").update(notes=np.array([(0, 60, 60, 90)], dtype=NOTE).tobytes())
        change_grid(track, "p", lambda _: Grid((Pattern("A", (row,)),), ("A",)))
        self.assertIn("Patterns that are on play what is written too.", self.page("session:part", track.uid))
        told = self.told(self.act("undouble"))
        self.assertIn("The patterns of Bittern are off, so 1 note sounds once.", told)
        self.assertNotIn("twice", self.page("session:part", track.uid))
