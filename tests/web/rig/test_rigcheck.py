"""`manage.py rigcheck` as it is called, and the published schema of the rig file."""

import io
import json
import tempfile
from pathlib import Path

import jsonschema
from django.core.management import CommandError, call_command
from django.test import SimpleTestCase

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.findings.rules import RULES, name_of
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from tests.rooms import small_room

ROOT = Path(__file__).parents[3]


class RigcheckTest(SimpleTestCase):
    def run_it(self, *words: str) -> tuple[int, str, str]:
        """(exit code, standard output, standard error)."""
        out, err = io.StringIO(), io.StringIO()
        try:
            call_command("rigcheck", *words, stdout=out, stderr=err)
        except SystemExit as ended:
            return ended.code, out.getvalue(), err.getvalue()
        return 0, out.getvalue(), err.getvalue()

    def file(self, text: str) -> str:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        path = Path(holder.name) / "rig.json"
        path.write_text(text, encoding="utf-8")
        return str(path)

    def test_the_demo_has_one_thing_wrong(self):
        code, out, err = self.run_it(str(ROOT / "hypotaxis/demo/saltmarsh-room.json"), "--json")
        self.assertEqual((code, err), (1, ""))
        first = json.loads(out)["findings"][0]
        self.assertEqual((first["rule"], first["severity"], first["about"]), ("return-not-cabled", "wrong", "Withy"))
        self.assertIn("no cable ends there", first["message"])
        self.assertIn("Cable Sluice out to Quayside 18 line in 4", first["remedy"])

    def test_the_commented_example_is_read_and_holds_to_the_schema(self):
        example = ROOT / "docs/formats/rig.example.jsonc"
        code, out, _ = self.run_it(str(example), "--json")
        self.assertEqual([row["about"] for row in json.loads(out)["findings"]], ["Eddy"])
        self.assertEqual(code, 1)
        bare = "".join(line for line in example.open(encoding="utf-8") if not line.lstrip().startswith("//"))
        jsonschema.validate(json.loads(bare), SchemaTest.schema)

    def test_a_sound_rig_ends_with_0(self):
        code, out, _ = self.run_it(self.file(write_rig_file(small_room())))
        self.assertEqual(code, 0)
        self.assertIn("worth knowing: Sedge upper and Sedge lower share line in 1–2.", out)

    def test_a_file_that_cannot_be_read_ends_with_2_and_says_where(self):
        bad = json.loads(write_rig_file(small_room()))
        bad["boxes"][1]["sockets"][0]["kind"] = "steam"
        cases = {
            "boxes[1].sockets[0].kind should be one of": json.dumps(bad),
            "line 2 column": '{"format":\n nonsense}',
            "This is not a rig file": "[]",
        }
        for reason, text in cases.items():
            code, out, err = self.run_it(self.file(text), "--json")
            self.assertEqual(code, 2)
            self.assertIn(reason, err)
            self.assertIn(reason, json.loads(out)["error"])
        self.assertIn("No such file", self.run_it("nowhere.json")[2])
        with self.assertRaisesMessage(CommandError, "Name a rig file to check"):
            self.run_it()

    def test_the_rules_are_listed_with_what_they_look_for(self):
        _, out, _ = self.run_it("--rules", "--json")
        listed = json.loads(out)["rules"]
        self.assertEqual(list(listed), [name_of(rule) for rule in RULES])
        self.assertIn("return-not-cabled: A return at which no cable ends.", self.run_it("--rules")[1])


class SchemaTest(SimpleTestCase):
    """jsonschema, an independent validator, and our reader agree on what a rig file is."""

    schema = json.loads((ROOT / "docs/formats/rig.schema.json").read_text(encoding="utf-8"))

    def test_the_demo_is_valid(self):
        jsonschema.Draft202012Validator.check_schema(self.schema)
        jsonschema.validate(json.loads(write_rig_file(small_room())), self.schema)

    def test_both_refuse_the_same_faults(self):
        faults = {
            "sample_rate": lambda d: d.update(sample_rate=100),
            "shape": lambda d: d["boxes"][0].pop("shape"),
            "direction": lambda d: d["boxes"][1]["sockets"][0].update(direction="up"),
            "unknown": lambda d: d["cables"][0].update(wishes=1),
            "uid": lambda d: d["cables"][0].update(source="not-a-uid"),
            "channel": lambda d: d["instruments"][0].update(channel=17),
            "returns": lambda d: d["instruments"][0].update(returns=["x"] * 3),
            "trim": lambda d: d["instruments"][0].update(home_trim_db="loud"),
        }
        for name, spoil in faults.items():
            with self.subTest(name):
                document = json.loads(write_rig_file(small_room()))
                spoil(document)
                with self.assertRaises(jsonschema.ValidationError):
                    jsonschema.validate(document, self.schema)
                with self.assertRaises(UnreadableFile):
                    read_rig_file(json.dumps(document))
