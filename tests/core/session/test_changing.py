"""Notes of some bars changed together, by value."""

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.changing import NoteChange, changed
from hypotaxis.core.session.score import NOTE
from hypotaxis.core.session.tempo import TempoMap

NOTES = np.array([(0, 9, 60, 100), (1920, 9, 120, 3), (3840, 9, 62, 90)], dtype=NOTE)


class ChangingTest(SimpleTestCase):
    def test_only_the_notes_of_the_bars(self):
        found, count = changed(NOTES, TempoMap(), NoteChange(first_bar=1, last_bar=2, semitones=-12, loudness=0.1))
        self.assertEqual((found[["note", "velocity"]].tolist(), count), ([(48, 10), (108, 1), (62, 90)], 2))
        left, gone = changed(NOTES, TempoMap(), NoteChange(first_bar=3, last_bar=3, remove=True))
        self.assertEqual((len(left), gone), (2, 1))

    def test_what_cannot_be_is_refused_whole(self):
        for how, told in (
            ({"semitones": 12}, "1 of its notes would leave the notes there are, 0 to 127."),
            ({"semitones": 60}, "60 semitones are too far"),
            ({"loudness": 0}, "Loudness is more than 0"),
            ({"last_bar": 0}, "Bars 1 to 0 are none"),
        ):
            with self.subTest(told), self.assertRaisesMessage(BadBars, told):
                changed(NOTES, TempoMap(), NoteChange(**{"first_bar": 1, "last_bar": 3} | how))

    @given(st.integers(-7, 7))
    def test_up_and_down_again_is_as_before(self, semitones):
        there, _ = changed(NOTES, TempoMap(), NoteChange(first_bar=1, last_bar=3, semitones=semitones))
        back, _ = changed(there, TempoMap(), NoteChange(first_bar=1, last_bar=3, semitones=-semitones))
        self.assertEqual(back.tolist(), NOTES.tolist())
