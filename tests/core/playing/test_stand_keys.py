"""Keys that press buttons: what presses, what belongs to them, and that nothing of them is played."""

import unittest

from hypotaxis.core.midi.messages import CONTROL_CHANGE, NOTE_ON, PROGRAM_CHANGE, control_change, note_off, note_on
from hypotaxis.core.playing.keys import Echo
from hypotaxis.core.playing.stand_keys import Presses, StandKey, key_of, without
from hypotaxis.core.studio import EchoRule, KeptOut, Message

PAD, PEDAL = KeptOut("Heron", NOTE_ON, 10, 36), KeptOut("Heron", CONTROL_CHANGE, 1, 66)


def came(data: bytes, port: str = "Heron") -> Message:
    return Message(0, port, data)


class StandKeysTest(unittest.TestCase):
    def test_a_press_is_a_struck_note_a_switch_that_goes_on_or_a_program_change(self):
        for data, key in (
            (note_on(10, 36, 1), PAD),
            (control_change(1, 66, 64), PEDAL),
            (b"\xc4\x07", KeptOut("Heron", PROGRAM_CHANGE, 5, 7)),
            (note_on(10, 36, 0), None),
            (note_off(10, 36), None),
            (control_change(1, 66, 63), None),
            (b"\xf8", None),
            (b"\xf0\x7e\x7f\x06\x01\xf7", None),
            (b"\x90", None),
        ):
            with self.subTest(data=data.hex()):
                self.assertEqual(key_of(came(data)), key)

    def test_a_pedal_presses_once_until_it_has_come_up(self):
        presses = Presses([StandKey("record", PEDAL), StandKey("panic", PAD)])
        values = (70, 90, 127, 64, 20, 64)
        moves = [came(control_change(1, 66, value)) for value in values]
        self.assertEqual(list(presses.pressed(moves)), ["record", "record"])
        struck = [came(note_on(10, 36, 90)), came(note_off(10, 36)), came(note_on(10, 36, 80))]
        self.assertEqual(list(presses.pressed(struck)), ["panic", "panic"])

    def test_another_port_channel_or_number_is_another_key(self):
        presses = Presses([StandKey("record", PAD)])
        others = [came(note_on(10, 36, 90), "Causeway"), came(note_on(9, 36, 90)), came(note_on(10, 37, 90))]
        self.assertEqual(list(presses.pressed(others)), [])
        self.assertEqual(without([PAD], others), tuple(others))

    def test_nothing_of_a_key_is_echoed_and_the_others_sound(self):
        rule = EchoRule("Heron", tuple(range(1, 17)), "Junction", 3)
        echo = Echo([rule], [PAD])
        for data in (note_on(10, 36, 9), bytes([0xA9, 36, 50]), note_off(10, 36)):
            self.assertEqual(echo(came(data)), [])
        self.assertEqual([one.data for one in echo(came(note_on(10, 37, 90)))], [note_on(3, 37, 90)])
