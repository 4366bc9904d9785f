"""Notes that a box cannot play as they stand: told, and which they are."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.midi.shaping import Shaping
from hypotaxis.core.session.playable import unplayable
from hypotaxis.core.session.score import NOTE
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.demo.compose import saltmarsh_room
from tests.rooms import instrument_named

PLAN = saltmarsh_room()


def amiss(name: str, *rows: tuple[int, int], voices=None, **changed) -> list[tuple[str, tuple[int, ...]]]:
    """rows: (tick, note)."""
    notes = np.array([(tick, 100, note, 90) for tick, note in rows], dtype=NOTE)
    instrument = replace(instrument_named(PLAN, name), **changed)
    return [(one.told, one.places) for one in unplayable(notes, TempoMap(), PLAN, instrument, voices=voices or {})]


class UnplayableTest(SimpleTestCase):
    def test_a_mono_box_plays_no_chords_but_legato(self):
        self.assertEqual(
            amiss("Bittern", (0, 48), (5, 55), (90, 60)),
            [("1 note in chords: Bittern plays one note at a time, and cuts the others off.", (1,))],
        )
        self.assertEqual(amiss("Sedge upper", (0, 48), (5, 55)), [])

    def test_notes_that_no_voice_plays_and_out_of_its_range(self):
        (found,) = amiss("Alder kit", (0, 36), (10, 37), (20, 37), voices={36: "Kick", 38: "Snare"})
        self.assertEqual(found[1], (1, 2))
        self.assertIn("2 notes without a voice on Alder kit: ", found[0])
        self.assertEqual(amiss("Alder kit", (0, 36), (10, 99)), [], "nothing is known of its voices")
        low = Shaping(low=48, high=72)
        self.assertEqual(
            amiss("Sedge upper", (0, 47), (9, 60), shaping=low), [("1 note outside of its range, C3 to C5.", (0,))]
        )
        self.assertEqual(amiss("Bittern"), [])
