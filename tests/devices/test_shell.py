"""What the shell says where nothing can be opened, and what is sent to try a line."""

import io
import json
import sys
from unittest import mock

import numpy as np
from django.core.management import call_command
from django.test import SimpleTestCase

from hypotaxis.core.errors import LibraryMissing, PortMissing
from hypotaxis.core.playing.listening import ListenWish, test_signals
from hypotaxis.core.studio import Reported, RunSetup, Written, sound_of
from hypotaxis.devices.jack_engine import jack_library
from hypotaxis.devices.panic import call, listen_at
from hypotaxis.devices.portable_engine import portable_libraries
from hypotaxis.devices.studio import DeviceStudio


def shell(*words: str) -> tuple[str, int]:
    out, code = io.StringIO(), 0
    try:
        call_command(*words, stdout=out, stderr=io.StringIO())
    except SystemExit as ended:
        code = ended.code
    return out.getvalue(), code


class NothingThereTest(SimpleTestCase):
    def test_a_missing_library_is_a_sentence_with_the_command_to_type(self):
        with (
            mock.patch.dict(sys.modules, {"jack": None}),
            self.assertRaisesRegex(LibraryMissing, "Type “make devices”"),
        ):
            jack_library()
        with (
            mock.patch.dict(sys.modules, {"sounddevice": None}),
            self.assertRaisesRegex(LibraryMissing, "system audio and MIDI are not installed. Type “make devices”"),
        ):
            portable_libraries()

    def test_what_can_be_opened_is_listed_with_the_reason_where_not(self):
        told, code = shell("devices", "--server", "hypotaxis-nobody")
        self.assertIn("jack: No JACK server “hypotaxis-nobody” answers.", told)
        self.assertEqual(code, 2)
        listed, code = shell("devices", "--server", "hypotaxis-nobody", "--json")
        rows = [(row["studio"], row["opens"]) for row in json.loads(listed)["studios"]]
        self.assertEqual((rows, code), ([("jack", False), ("portable", False)], 2))
        trip = ("sound", "--studio", "jack", "--server", "hypotaxis-nobody", "--port", "a", "--input", "b", "--json")
        refused, code = shell(*trip)
        self.assertIn("No JACK server", json.loads(refused)["error"])
        self.assertEqual(code, 2)

    def test_an_end_without_a_match_is_refused_before_anything_is_sent(self):
        process = mock.Mock()
        process.look.return_value = Reported(studio="jack", server="", rate=48_000, buffer=256, realtime=None)
        with self.assertRaisesRegex(PortMissing, "matched to nothing that JACK reports"):
            DeviceStudio(process).run(Written(), RunSetup(inputs=("",), frames=10))
        process.tell.assert_not_called()

    def test_silence_where_nobody_listens_is_not_done(self):
        self.assertFalse(call("/nowhere/panic.sock"))
        self.assertIsNone(listen_at("/" + "long" * 40), "a path that is too long for a local socket")


class SignalsTest(SimpleTestCase):
    def test_the_test_note_is_let_go_and_the_tone_is_twenty_below_full_scale(self):
        source = test_signals(ListenWish(note="Junction out 2", tone="line out 1"), 48_000)
        self.assertEqual([one.data.hex(" ") for one in source.messages(10**10)], ["90 3c 64", "80 3c 40"])
        tone = source.sound("line out 1", 0, 48_000 * 2)
        self.assertAlmostEqual(20 * np.log10(np.abs(tone).max()), -20.0, delta=0.01)
        # 440 Hz: 440 rises through zero a second, in the steady second of it.
        steady = tone[24_000:72_000]
        self.assertAlmostEqual(int(np.sum((steady[:-1] < 0) & (steady[1:] >= 0))), 440, delta=1)
        self.assertEqual(np.abs(source.sound("line out 2", 0, 100)).max(), 0.0)

    def test_sound_in_memory_is_read_in_any_pieces(self):
        read = sound_of(np.arange(1.0, 6.0))
        self.assertEqual(read(-2, 4).tolist(), [0, 0, 1, 2])
        self.assertEqual(read(3, 4).tolist(), [4, 5, 0, 0])
        self.assertEqual(read(-9, 3).tolist() + read(9, 2).tolist(), [0] * 5)
        pieces = np.concatenate([read(start, 2) for start in range(-1, 7, 2)])
        self.assertEqual(pieces.tolist(), [0, 1, 2, 3, 4, 5, 0, 0])
