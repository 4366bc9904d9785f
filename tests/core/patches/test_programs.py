"""Bank forms byte by byte, display numbers, and the General MIDI tables beside an independent library's.

Bytes and times: MIDI 1.0 Detailed Specification (bank select is controllers 0 and 32, taking effect at the next program
change; 320 µs a byte).
"""

import re

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st
from pretty_midi.constants import DRUM_MAP, INSTRUMENT_CLASSES, INSTRUMENT_MAP

from hypotaxis.core.midi.programs import BANK_FORMS, Program, change_messages, hexed, wire_bytes, wire_ms
from hypotaxis.core.patches.general_midi import FAMILIES, FIRST_DRUM, general_midi
from hypotaxis.core.patches.numbers import FORMS, shown


class BankFormsTest(SimpleTestCase):
    def test_every_form_byte_by_byte(self):
        wanted = Program(41, 81, 2)
        bank_msb, bank_lsb, program = "B2 00 51", "B2 20 02", "C2 29"
        cases = {
            "none": [program],
            "msb": [bank_msb, program],
            "lsb": [bank_lsb, program],
            "both": [bank_msb, bank_lsb, program],
            "always": [bank_msb, bank_lsb, program],
        }
        self.assertEqual(set(cases), set(BANK_FORMS))
        for form, messages in cases.items():
            self.assertEqual(hexed(change_messages(3, wanted, form)), " · ".join(messages), form)

    def test_a_bank_that_is_called_up_is_sent_again_only_where_it_has_to_be(self):
        now, wanted = Program(1, 81, 2), Program(2, 81, 2)
        self.assertEqual(hexed(change_messages(1, wanted, "both", current=now)), "C0 02")
        self.assertEqual(len(change_messages(1, wanted, "always", current=now)), 3)
        self.assertEqual(len(change_messages(1, Program(2, 81, 3), "both", current=now)), 3)

    def test_numbers_a_list_does_not_name_are_left_out(self):
        self.assertEqual(hexed(change_messages(16, Program(127, None, 5), "both")), "BF 20 05 · CF 7F")

    def test_time_on_the_wire(self):
        # 8 bytes, 2.56 ms; with running status between the two controllers 7 bytes, 2.24 ms.
        messages = change_messages(1, Program(0, 0, 0))
        self.assertEqual((len(wire_bytes(messages)), wire_ms(messages)), (8, 2.56))
        self.assertEqual(wire_ms(messages, running_status=True), 2.24)
        # 16,384 banks of 128: 2,097,152 programs.
        self.assertEqual(128 * 128 * 128, 2_097_152)


class NumbersTest(SimpleTestCase):
    def test_what_each_form_shows(self):
        # Handbook practice: first, ninth, tenth, sixty-fifth and last place of a bank.
        table = {
            "1": ("1", "9", "10", "65", "128"),
            "0": ("0", "8", "9", "64", "127"),
            "001": ("001", "009", "010", "065", "128"),
            "000": ("000", "008", "009", "064", "127"),
            "A1": ("A1", "B1", "B2", "I1", "P8"),
            "A11": ("A11", "A21", "A22", "B11", "B88"),
            "A01/64": ("A01", "A09", "A10", "B01", "B64"),
            "A01/32": ("A01", "A09", "A10", "C01", "D32"),
            "A001": ("A001", "A009", "A010", "A065", "A128"),
            "1-01": ("1-01", "1-09", "1-10", "1-65", "1-128"),
        }
        for form, texts in table.items():
            self.assertEqual(tuple(shown(form, place) for place in (0, 8, 9, 64, 127)), texts, form)
        self.assertEqual([shown("11", place) for place in (0, 7, 8, 63)], ["11", "18", "21", "88"])

    @given(st.sampled_from(sorted(set(FORMS) - {"11"})), st.integers(0, 127))
    def test_what_is_shown_is_read_back(self, key, place):
        form = FORMS[key]
        self.assertTrue(re.fullmatch(form.pattern, form.show(place)))
        self.assertEqual(form.read(form.show(place)), place)

    def test_what_a_form_does_not_have_is_not_read(self):
        for key, texts in {"A1": ("A9", "Q1", "A"), "A11": ("A19", "A01"), "11": ("19", "90"), "1": ("0", "x")}.items():
            for text in texts:
                self.assertIsNone(FORMS[key].read(text), (key, text))


OTHERWISE = {
    8: ("Clavi", "Clavinet", "the library has a maker's name; the published table does not"),
    32: ("Guitar harmonics", "Guitar Harmonics", "small letter in the published table"),
    51: ("SynthStrings 1", "Synth Strings 1", "one word in the published table"),
    52: ("SynthStrings 2", "Synth Strings 2", "one word in the published table"),
    55: ("Synth Voice", "Synth Choir", "the library has the wording of common use"),
    63: ("SynthBrass 1", "Synth Brass 1", "one word in the published table"),
    64: ("SynthBrass 2", "Synth Brass 2", "one word in the published table"),
    77: ("Blown Bottle", "Blown bottle", "capital letter in the published table"),
    84: ("Lead 4 (chiff)", "Lead 4 chiff", "the library leaves the brackets out"),
    110: ("Bag pipe", "Bagpipe", "two words in the published table"),
}
"""Program (from 1): the published wording, from memory; the library's; why they differ."""
DRUMS_OTHERWISE = {
    44: ("Pedal Hi-Hat", "Pedal Hi Hat", "a hyphen in the published table"),
    46: ("Open Hi-Hat", "Open Hi Hat", "a hyphen in the published table"),
    48: ("Hi Mid Tom", "Hi-Mid Tom", "no hyphen in the published table"),
}


class GeneralMidiTest(SimpleTestCase):
    """Beside pretty_midi's tables, which were typed by others: the same but for what is listed above."""

    def differing(self, ours, theirs, first: int) -> dict:
        return {
            number: (one, other)
            for number, (one, other) in enumerate(zip(ours, theirs, strict=True), start=first)
            if one != other
        }

    def test_the_sound_set_and_its_families(self):
        names = [patch.name for patch in general_midi().patches]
        self.assertEqual(self.differing(names, INSTRUMENT_MAP, 1), {n: one[:2] for n, one in OTHERWISE.items()})
        self.assertEqual([family for family, _ in FAMILIES], list(INSTRUMENT_CLASSES))
        self.assertEqual({len(names) for _, names in FAMILIES}, {8})

    def test_the_percussion_map(self):
        notes = general_midi().note_maps[0].notes
        self.assertEqual((notes[0].note, notes[-1].note), (35, 81))
        names = [one.name for one in notes]
        self.assertEqual(
            self.differing(names, DRUM_MAP, FIRST_DRUM), {n: one[:2] for n, one in DRUMS_OTHERWISE.items()}
        )
