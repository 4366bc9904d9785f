"""Generators by value: which note comes at which step, how long, how loud."""

from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.arrange import Part, printed
from hypotaxis.core.session.generators import (
    AS_PLAYED,
    BY_CHANCE,
    CHORDS,
    DOWN,
    FIXED,
    ORDERS,
    PRESSURE,
    REPEAT,
    UP,
    UP_DOWN,
    Generator,
    generated,
)
from hypotaxis.core.session.score import CONTROL, NOTE, no_controls
from hypotaxis.core.session.tempo import TempoMap

TEMPO = TempoMap(480)
END = TEMPO.bar_tick(5)
CHORD = np.array([(0, 1920, 64, 90), (1, 1919, 60, 70), (2, 1918, 67, 80)], dtype=NOTE)
"""E, C, G held for a bar, struck in this order."""


def made(notes: np.ndarray = CHORD, controls: np.ndarray | None = None, **how) -> np.ndarray:
    return generated(notes, no_controls() if controls is None else controls, TEMPO, END, Generator(**how))


def pitches(**how) -> list[int]:
    return made(**{"division": "1/8"} | how)["note"].tolist()


class ArpeggioTest(SimpleTestCase):
    def test_orders(self):
        self.assertEqual(pitches(order=UP), [60, 64, 67, 60, 64, 67, 60, 64])
        self.assertEqual(pitches(order=DOWN), [67, 64, 60, 67, 64, 60, 67, 64])
        self.assertEqual(pitches(order=UP_DOWN), [60, 64, 67, 64, 60, 64, 67, 64])
        self.assertEqual(pitches(order=AS_PLAYED), [64, 60, 67, 64, 60, 67, 64, 60])
        self.assertEqual(pitches(order=UP, octaves=2), [60, 64, 67, 72, 76, 79, 60, 64])
        self.assertEqual(pitches(order=UP_DOWN, octaves=2), [60, 64, 67, 72, 76, 79, 76, 72])

    def test_chance_is_of_what_is_held_and_always_the_same(self):
        drawn = [tuple(pitches(order=BY_CHANCE, division="1/32", seed=seed)) for seed in (1, 1, 2)]
        self.assertEqual(drawn[0], drawn[1])
        self.assertNotEqual(drawn[0], drawn[2])
        self.assertEqual(set(drawn[0]), {60, 64, 67})

    def test_it_stands_on_the_division_with_swing_and_gate(self):
        found = made(division="1/16", swing=75, gate=0.25)
        self.assertEqual(found["tick"][:4].tolist(), [0, 180, 240, 420])
        self.assertEqual(set(found["duration"].tolist()), {30})
        thirds = made(division="1/8 triplet")
        self.assertEqual(thirds["tick"][:4].tolist(), [0, 160, 320, 480])

    def test_what_is_played_a_little_late_begins_in_time_and_ends_with_the_key(self):
        late = np.array([(55, 425, 60, 90), (1015, 10, 62, 90)], dtype=NOTE)
        found = made(late, division="1/16")
        self.assertEqual(found[["tick", "note"]].tolist(), [(0, 60), (120, 60), (240, 60), (360, 60), (960, 62)])

    def test_a_gap_begins_the_order_anew_and_a_change_goes_on_with_it(self):
        held = [(0, 480, 60, 90), (0, 480, 64, 90), (960, 480, 60, 90), (960, 480, 64, 90)]
        self.assertEqual(pitches(notes=np.array(held, dtype=NOTE), division="1/8 triplet"), [60, 64, 60] * 2)


class OthersTest(SimpleTestCase):
    def test_repeat_strikes_all_that_is_held(self):
        found = made(kind=REPEAT, division="1/4")
        self.assertEqual(found["tick"].tolist(), [0, 0, 0, 480, 480, 480, 960, 960, 960, 1440, 1440, 1440])

    def test_velocity_from_keys_pressure_or_always_the_same(self):
        pressed = np.array([(0, 0xD0, 0, 0), (480, 0xD0, 33, 0), (960, 0xA0, 60, 99)], dtype=CONTROL)
        one = np.array([(0, 1920, 60, 70)], dtype=NOTE)
        loud = made(one, pressed, kind=REPEAT, division="1/4", velocity=PRESSURE)["velocity"].tolist()
        self.assertEqual(loud, [70, 33, 99, 99])
        self.assertEqual(set(made(kind=REPEAT, velocity=FIXED, fixed=12)["velocity"].tolist()), {12})

    def test_chords_stay_in_the_scale(self):
        tune = np.array([(0, 100, 60, 90), (480, 100, 62, 90), (960, 100, 126, 90)], dtype=NOTE)
        found = made(tune, kind=CHORDS, stack="seventh")
        # Of C major: C E G B; D F A C; above 127 there is nothing.
        self.assertEqual(found["note"].tolist(), [60, 64, 67, 71, 62, 65, 69, 72, 126])
        minor = made(tune[:1], kind=CHORDS, scale="minor", root=9)
        self.assertEqual(minor["note"].tolist(), [60, 64, 67], "A minor has the notes of C major")

    def test_printing_switches_it_off_and_nothing_doubles(self):
        part = Part(CHORD, no_controls(), generator=Generator(division="1/8"))
        after = printed(part, TEMPO, END)
        self.assertEqual(after.notes["note"].tolist(), pitches())
        self.assertEqual(after.sounding(TEMPO, END).tolist(), after.notes.tolist())
        self.assertFalse(after.generator.on)
        off = replace(part, generator=replace(part.generator, on=False))
        self.assertEqual(off.sounding(TEMPO, END).tolist(), CHORD.tolist())

    def test_nothing_and_notes_of_no_length_make_nothing_wrong(self):
        for kind in (REPEAT, "arpeggio", CHORDS):
            for order in ORDERS:
                self.assertEqual(len(made(CHORD[:0], kind=kind, order=order)), 0)
                found = made(np.array([(7, 0, 60, 90)], dtype=NOTE), kind=kind, order=order)
                self.assertEqual(set(found["tick"].tolist()) - {0, 7}, set())

    def test_what_there_is_not_is_refused_by_name(self):
        for how, told in (
            ({"kind": "echo"}, "“echo” is no generator: repeat, arpeggio, chords are."),
            ({"division": "1/3"}, "“1/3” is no division"),
            ({"octaves": 5}, "The range in octaves goes from 1 to 4; 5 does not."),
        ):
            with self.subTest(told), self.assertRaisesRegex(BadBars, told):
                Generator(**how)
