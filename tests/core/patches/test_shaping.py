"""What becomes of played notes; who sits on which channel along a whole chain; keys and their names; the gain."""

import math

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.drawing.keys import keyboard
from hypotaxis.core.drawing.ruler import channel_cells, layer_told, next_free_channel
from hypotaxis.core.midi.scales import SCALES, note_name
from hypotaxis.core.midi.shaping import CURVES, HARMONIES, Shaping, in_words, shaped
from hypotaxis.core.playing.gain import gain_advice
from hypotaxis.core.rig.change import set_up
from tests.rooms import box_named, change, instrument_named, small_room, uid_of

SHAPINGS = st.builds(
    Shaping,
    low=st.integers(0, 127),
    high=st.integers(0, 127),
    transpose=st.integers(-60, 60),
    curve=st.sampled_from(sorted(CURVES)),
    harmony=st.sampled_from(sorted(HARMONIES)),
    scale=st.sampled_from(sorted(SCALES)),
    root=st.integers(0, 11),
)


class ShapingTest(SimpleTestCase):
    def test_by_value(self):
        # Thirds and fifths of C major: C–E–G, D–F–A, B–D–F; a note beside the scale goes from the one below it.
        third, fifth = Shaping(harmony="third"), Shaping(harmony="fifth")
        self.assertEqual([shaped(note, 90, third)[1][0] for note in (60, 62, 71, 61)], [64, 65, 74, 64])
        self.assertEqual([shaped(note, 90, fifth)[1][0] for note in (60, 62, 71)], [67, 69, 77])
        self.assertEqual(shaped(59, 90, Shaping(low=60)), [])
        self.assertEqual(shaped(60, 90, Shaping(transpose=70)), [])
        self.assertEqual(shaped(120, 90, Shaping(harmony="octave")), [(120, 90)], "what is above 127 falls away")
        self.assertEqual(shaped(60, 1, Shaping(curve="fixed")), [(60, 100)])

    @given(SHAPINGS, st.integers(0, 127), st.integers(1, 127))
    def test_whatever_leaves_is_a_note(self, how, note, velocity):
        for one, force in shaped(note, velocity, how):
            self.assertTrue(0 <= one <= 127 and 1 <= force <= 127)
        self.assertEqual(bool(in_words(how)), how.is_on)

    @given(st.sampled_from(["as played", "softer", "harder"]), st.integers(1, 126))
    def test_velocity_keeps_its_order_and_its_ends(self, curve, velocity):
        force = [shaped(60, v, Shaping(curve=curve))[0][1] for v in (velocity, velocity + 1, 127)]
        self.assertEqual(force, sorted(force))
        self.assertEqual(force[-1], 127)


class RulerTest(SimpleTestCase):
    def test_omni_boxes_span_all_channels_and_others_sit_where_they_are_set(self):
        plan = small_room()
        send = uid_of(plan, "Quayside 18", "MIDI out")
        plan = set_up(plan, box_named(plan, "Alder").uid, omni=True)
        cells = channel_cells(plan, send)
        self.assertEqual(
            [cell.names for cell in cells[:2]], [("Sedge upper", "Alder, omni"), ("Sedge lower", "Alder, omni")]
        )
        self.assertEqual(cells[9].names, ("Alder kit",))
        self.assertEqual(next_free_channel(plan, send), 4)
        plan = set_up(plan, box_named(plan, "Alder").uid, omni=False, receives=(10, 12))
        self.assertEqual(channel_cells(plan, send)[11].names, ("Alder",))

    def test_a_layer_says_what_it_means(self):
        plan = change(small_room(), "Bittern", channel=1)
        uid = instrument_named(plan, "Bittern").uid
        told = layer_told(channel_cells(plan, uid_of(plan, "Quayside 18", "MIDI out"), uid))
        self.assertIn("Sedge upper and Bittern answer on channel 1 together", told)
        self.assertEqual(layer_told(channel_cells(small_room(), uid_of(plan, "Quayside 18", "MIDI out"), uid)), "")


class KeysTest(SimpleTestCase):
    def test_notes_are_written_as_the_box_writes_them(self):
        # Middle C is C4 in scientific pitch notation, C3 by many makers; with C3 = 60 kick and snare are C1 and D1.
        self.assertEqual([note_name(n, 3) for n in (60, 36, 38)], ["C3", "C1", "D1"])
        self.assertEqual([note_name(n) for n in (60, 69, 0, 127)], ["C4", "A4", "C-1", "G9"])

    def test_three_octaves_of_which_the_scale_lets_some_sound(self):
        keys = keyboard(50, middle_c=4, root=9, scale="minor pentatonic")
        self.assertEqual((len(keys), sum(key.raised for key in keys)), (37, 15))
        self.assertEqual(sorted({key.note % 12 for key in keys if key.sounds}), [0, 2, 4, 7, 9])
        self.assertEqual([key.name for key in keys if key.lettered], ["C3", "C4", "C5", "C6"])
        self.assertEqual(max(key.note for key in keyboard(127, middle_c=4)), 127)


class GainTest(SimpleTestCase):
    def test_what_to_turn(self):
        cases = [
            ((-9.0, -80.0, 0), "The gain is right."),
            ((-3.0, -80.0, 0), "3 dB too hot"),
            ((-20.0, -90.0, 0), "8 dB to spare: turn the box all the way up first"),
            ((-9.0, -40.0, 0), "The noise is only 31 dB below"),
            ((0.0, -80.0, 4), "It clips"),
            ((-math.inf, -90.0, 0), "Nothing that could be judged"),
        ]
        for levels, words in cases:
            self.assertIn(words, gain_advice(*levels))
