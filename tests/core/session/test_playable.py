"""Notes that a box cannot play as they stand: told, and which they are."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.midi.shaping import Shaping
from hypotaxis.core.session.playable import unplayable
from hypotaxis.core.session.score import CONTROL, NOTE
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

    def test_more_notes_than_it_has_voices(self):
        sedge = instrument_named(PLAN, "Sedge upper").box
        box = replace(PLAN.rig.box(sedge), setup=replace(PLAN.rig.box(sedge).setup, polyphony=2))
        plan = replace(PLAN, rig=replace(PLAN.rig, boxes=tuple(box if b.uid == sedge else b for b in PLAN.rig.boxes)))
        held = [(0, 200, 60), (0, 200, 64), (50, 200, 67), (200, 90, 72), (250, 10, 60)]
        notes = np.array([(*row, 90) for row in held], dtype=NOTE)
        how = {"voices": {}, "loop_ticks": 150}
        beyond, long = unplayable(notes, TempoMap(), plan, instrument_named(plan, "Sedge upper"), **how)
        # The third comes while two are held; at 200 two have ended, so that the fourth has room.
        self.assertEqual(beyond.places, (2,))
        self.assertEqual(beyond.told, "1 note beyond the 2 voices of Sedge: others are cut off for them.")
        self.assertEqual((long.told, long.places), ("3 notes longer than the loop.", (0, 1, 2)))

    def test_a_change_of_sound_between_notes_that_are_too_close(self):
        notes = np.array([(0, 10, 60, 90), (480, 10, 62, 90), (500, 10, 64, 90), (960, 10, 65, 90)], dtype=NOTE)
        controls = np.array([(490, 0xC0, 5, 0), (700, 0xC0, 6, 0)], dtype=CONTROL)
        instrument = replace(instrument_named(PLAN, "Sedge upper"), gap_ms=30.0)
        (found,) = unplayable(notes, TempoMap(), PLAN, instrument, voices={}, controls=controls)
        # At 120 BPM 20 ticks are 20.8 ms.
        self.assertEqual(found.places, (2,))
        self.assertIn("1 note too close behind a change of sound: Sedge upper wants 30 ms", found.told)
