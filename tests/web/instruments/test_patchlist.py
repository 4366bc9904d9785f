"""`manage.py patchlist` as it is called."""

import io
import json
import tempfile
from pathlib import Path

from django.core.management import call_command
from django.test import SimpleTestCase

from hypotaxis.core.formats.patchcsv import write_patch_table
from hypotaxis.core.patches.general_midi import general_midi


class PatchlistTest(SimpleTestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def run_it(self, data: bytes, *options: str) -> tuple[int, str, str]:
        """(exit code, standard output, standard error)."""
        path = self.folder / "list"
        path.write_bytes(data)
        out, err = io.StringIO(), io.StringIO()
        try:
            call_command("patchlist", str(path), *options, stdout=out, stderr=err)
        except SystemExit as ended:
            return ended.code, out.getvalue(), err.getvalue()
        return 0, out.getvalue(), err.getvalue()

    def test_a_summary_names_banks_patches_and_doubtful_lines(self):
        text = b"Bank A (MSB 81, LSB 3)\n1 Salt Pan\n2 Mud\n4 Eel\n"
        code, out, _ = self.run_it(text, "--pasted")
        told = json.loads(out)
        self.assertEqual(code, 0)
        self.assertEqual(told["banks"], [{"name": "Bank A", "msb": 81, "lsb": 3, "patches": 3}])
        first = {"number": "1", "msb": 81, "lsb": 3, "program": 0, "name": "Salt Pan", "bank": "Bank A", "category": ""}
        self.assertEqual(told["patches"][0], first)
        self.assertEqual([row["reason"] for row in told["doubtful"]], ["Missing between others of Bank A: 3."])

    def test_from_each_format_to_each_other_and_back(self):
        table = write_patch_table(general_midi()).encode()
        for between in ("xml", "json", "csv"):
            _, text, _ = self.run_it(table, "--to", between)
            code, again, _ = self.run_it(text.encode())
            self.assertEqual(code, 0)
            names = [(row["name"], row["program"]) for row in json.loads(again)["patches"]]
            self.assertEqual(names, [(patch.name, patch.program) for patch in general_midi().patches], between)

    def test_it_is_written_to_a_file_that_is_named(self):
        goal = self.folder / "out.csv"
        code, out, _ = self.run_it(b"1 Pan\n2 Mud\n", "--pasted", "--to", "csv", "--out", str(goal))
        self.assertEqual((code, out), (0, ""))
        self.assertIn("Pan", goal.read_text())

    def test_what_cannot_be_read_ends_with_2_and_a_line(self):
        code, out, err = self.run_it(b"msb,program,name\n0,1,Pan\n300,2,Mud\n")
        self.assertEqual(code, 2)
        self.assertIn("line 3: msb “300” should be 0 to 127", err)
        self.assertEqual(json.loads(out)["error"], err.strip())
        self.assertEqual(self.run_it(b"", "--to", "xml")[:2], (2, ""))
