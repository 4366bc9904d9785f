"""Chosen notes changed, by value; what they are chosen by follows them."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as some

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.editing import Edited, laid, lengthened, louder, moved, removed, transposed
from hypotaxis.core.session.score import NOTE, in_order
from hypotaxis.core.session.straighten import Straightening, straightened_some
from hypotaxis.core.session.tempo import TempoMap

END = 7680
THREE = np.array([(0, 240, 60, 50), (480, 240, 64, 80), (960, 240, 67, 120)], dtype=NOTE)


def rows(edited: Edited) -> list[tuple[int, ...]]:
    return edited.notes.tolist()


class EditingTest(SimpleTestCase):
    def test_moved_past_others_they_stay_chosen(self):
        edited = moved(THREE, [0], ticks=600, pitches=np.array([72]), end_tick=END)
        self.assertEqual((rows(edited)[1], edited.chosen), ((600, 240, 72, 50), (1,)))
        self.assertEqual(THREE["tick"].tolist(), [0, 480, 960], "what was read stays")

    def test_nothing_leaves_the_session_or_the_notes_there_are(self):
        for change, told in (
            (lambda: moved(THREE, [0], ticks=-1, pitches=None, end_tick=END), "They would leave the session"),
            (lambda: moved(THREE, [2], ticks=END, pitches=None, end_tick=END), "They would leave the session"),
            (lambda: moved(THREE, [2], ticks=0, pitches=np.array([128]), end_tick=END), "1 of them would leave"),
            (lambda: transposed(THREE, [0, 1, 2], steps=64, scale="all notes", root=0), "2 of them would leave"),
            (lambda: laid(THREE, THREE, at_tick=END - 500, end_tick=END), "They would leave the session"),
            (lambda: removed(THREE, [3]), "The notes have changed since this page was shown"),
        ):
            with self.subTest(told), self.assertRaisesRegex(BadBars, told):
                change()

    def test_transposed_in_a_scale(self):
        # C major: C E G two steps up are E G B; beside it, C♯ keeps its semitone above C.
        self.assertEqual(
            transposed(THREE, [0, 1, 2], steps=2, scale="major", root=0).notes["note"].tolist(), [64, 67, 71]
        )
        beside = np.array([(0, 10, 61, 90)], dtype=NOTE)
        self.assertEqual(transposed(beside, [0], steps=-1, scale="major", root=0).notes["note"].tolist(), [60])
        self.assertEqual(transposed(THREE, [0], steps=-12, scale="all notes", root=0).notes["note"][0], 48)

    def test_lengths_and_velocities_are_held_within_what_there_is(self):
        self.assertEqual(lengthened(THREE, [0, 1], ticks=-300, end_tick=END).notes["duration"].tolist(), [1, 1, 240])
        self.assertEqual(lengthened(THREE, [2], ticks=9000, end_tick=END).notes["duration"][2], END - 960)
        self.assertEqual(louder(THREE, [0, 1, 2], by=10).notes["velocity"].tolist(), [60, 90, 127])
        self.assertEqual(louder(THREE, [0, 1, 2], share=0.5).notes["velocity"].tolist(), [25, 40, 60])
        self.assertEqual(louder(THREE, [1], to=7).notes["velocity"].tolist(), [50, 7, 120])

    def test_laid_in_they_are_chosen(self):
        copied = np.array([(0, 240, 60, 50), (120, 99999, 61, 50)], dtype=NOTE)
        edited = laid(THREE, copied, at_tick=400, end_tick=END)
        self.assertEqual(edited.chosen, (1, 3))
        self.assertEqual(rows(edited)[3], (520, END - 520, 61, 50))

    def test_only_the_chosen_are_straightened(self):
        loose = np.array([(10, 5, 60, 90), (130, 5, 61, 90), (355, 5, 62, 90)], dtype=NOTE)
        edited = straightened_some(loose, np.array([0, 2]), TempoMap(480), Straightening(), end_tick=END)
        self.assertEqual((edited.notes["tick"].tolist(), edited.chosen), ([0, 130, 360], (0, 2)))

    @settings(max_examples=80, deadline=None)
    @given(
        some.lists(
            some.tuples(some.integers(0, 900), some.integers(0, 99), some.integers(20, 90), some.integers(1, 127)),
            min_size=1,
        ),
        some.data(),
    )
    def test_there_and_back_is_where_it_was(self, drawn, data):
        notes = in_order(np.array(drawn, dtype=NOTE))
        chosen = data.draw(some.lists(some.integers(0, len(notes) - 1), unique=True))
        away = moved(
            notes, chosen, ticks=1000, pitches=notes["note"][np.unique(np.array(chosen, int))] + 3, end_tick=END
        )
        back = moved(
            away.notes, away.chosen, ticks=-1000, pitches=away.notes["note"][list(away.chosen)] - 3, end_tick=END
        )
        self.assertEqual(sorted(back.notes.tolist()), sorted(notes.tolist()))
        there = away.notes[list(away.chosen)]["tick"]
        self.assertEqual(sorted(there.tolist()), sorted((notes["tick"][chosen] + 1000).tolist()))
