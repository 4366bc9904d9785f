"""`manage.py wire` as it is called: what it prints, and how it refuses. No database is opened."""

import io
import json
import tempfile
from pathlib import Path

from django.core.management import call_command
from django.test import SimpleTestCase

from tests.core.formats.test_smf import END, smf


class WireCommandTest(SimpleTestCase):
    def wire(self, data: bytes, *options: str) -> tuple[int, str, str]:
        """(exit code, standard output, standard error)."""
        out, err = io.StringIO(), io.StringIO()
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "score.mid"
            path.write_bytes(data)
            try:
                call_command("wire", "--score", str(path), *options, stdout=out, stderr=err)
            except SystemExit as ended:
                return ended.code, out.getvalue(), err.getvalue()
        return 0, out.getvalue(), err.getvalue()

    def test_ten_notes_at_once_on_two_channels(self):
        # 320 µs a byte (MIDI 1.0 Detailed Specification): ten notes of three bytes, the last byte 9.60 ms behind.
        track = b"".join(bytes([0, 0x90 + n % 2, 60 + n, 100]) for n in range(10)) + END
        code, out, err = self.wire(smf(track), "--json")
        told = json.loads(out)
        self.assertEqual((code, err), (0, ""))
        self.assertEqual((told["messages"], told["bytes"], told["clock_max_wait_ms"]), (10, 30, None))
        self.assertEqual((told["duration_ms"], told["max_arrival_ms"], told["max_wait_ms"]), (9.6, 9.6, 8.64))
        self.assertEqual((told["p95_wait_ms"], told["utilisation_peak"]), (8.64, 0.0096))
        self.assertEqual([told["channels"][name]["max_wait_ms"] for name in "12"], [7.68, 8.64])
        running = json.loads(self.wire(smf(track), "--json", "--running-status", "--clock")[1])
        self.assertEqual((running["bytes"], running["clocks"]), (31, 1))
        self.assertIn("channel 2: 5 messages, longest wait 8.64 ms", self.wire(smf(track))[1])

    def test_a_file_that_cannot_be_read_ends_with_2_and_the_reason(self):
        code, out, err = self.wire(b"not a score", "--json")
        self.assertEqual((code, json.loads(out)["error"]), (2, err.strip()))
        self.assertIn("not a Standard MIDI File", err)
        with self.assertRaises(SystemExit) as ended:
            call_command("wire", "--score", "/nowhere/at-all.mid", stdout=io.StringIO(), stderr=io.StringIO())
        self.assertEqual(ended.exception.code, 2)
