"""Standing: changed files for a while, each reader in turn. FUZZ_S says for how long (`make fuzz`: ten minutes),
FUZZ_FROM with which number it begins."""

import cProfile
import json
import os
import struct
import time
import unittest
from functools import partial

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.namedoc import write_name_document
from hypotaxis.core.formats.patchfile import read_patch_file
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.formats.smf import read_smf
from hypotaxis.core.patches.general_midi import general_midi
from tests.core.formats.fuzzing import attacks
from tests.rooms import small_room

SECONDS, FIRST = float(os.environ.get("FUZZ_S", "15")), int(os.environ.get("FUZZ_FROM", "0"))


class FuzzTest(unittest.TestCase):
    def test_every_reader_answers_or_refuses_by_name(self):
        until, failed, count = time.monotonic() + SECONDS, [], 0
        for _, told in attacks(FIRST):
            count += 1
            failed += [told] if told else []
            if time.monotonic() > until or len(failed) > 20:
                break
        self.assertEqual(failed, [], f"of {count}")


class NamedTest(unittest.TestCase):
    """What readers have stumbled over once."""

    def refused(self, read, data, told: str) -> None:
        with self.assertRaisesRegex(UnreadableFile, told):
            read(data)

    def test_a_wait_of_ten_bytes_in_a_score(self):
        track = b"\xff" * 9 + b"\x7f\x90\x3c\x40" + b"\x00\xff\x2f\x00"
        head = b"MThd" + struct.pack(">IHHH", 6, 0, 1, 480)
        data = head + b"MTrk" + struct.pack(">I", len(track)) + track
        self.refused(read_smf, data, "which no such file can: at most 268,435,455")

    def test_numbers_of_thousands_of_digits(self):
        table = f"number,name,program\n1,Reed,1\n2,Tide,{'9' * 5000}\n".encode()
        self.refused(read_patch_file, table, "line 3: program “9+” is no number")
        names = write_name_document(general_midi())
        self.assertIn('Number="35"', names)
        _, found = read_patch_file(names.replace('Number="35"', f'Number="{"9" * 5000}"').encode())
        self.assertIn("should be 0 to 127; left out", " ".join(one.reason for one in found.doubts))

    def test_half_a_character_in_json(self):
        rig = write_rig_file(small_room())
        broken = json.dumps(json.loads(rig) | {"name": "\ud800"})
        self.refused(read_rig_file, broken, "The rig file holds half a character")
        whole = json.dumps(json.loads(rig) | {"name": "\U0001f30a"})
        self.assertEqual(read_rig_file(whole).rig.name, "\U0001f30a")

    def test_a_head_with_banks_and_no_number_is_no_table(self):
        _, found = read_patch_file(b"MSB LSB \\ Name Category\n1 Gull lead\n2 Tern lead\n3 Knot pad\n", pasted=True)
        self.assertEqual([one.name for one in found.patches.patches][:1], ["Gull lead"])


class LinearTest(unittest.TestCase):
    """Twice as much costs twice as much: calls are counted, which no busy machine changes."""

    def calls(self, read, data: bytes) -> int:
        profile = cProfile.Profile(builtins=False)
        profile.runcall(read, data)
        return sum(one.callcount for one in profile.getstats())

    def test_lists_of_thousands_of_banks_cost_what_they_hold(self):
        def table(n):
            return (
                "number,name,msb,lsb,program\n" + "".join(f"{i},N{i},{i % 128},{i // 128},1\n" for i in range(n))
            ).encode()

        def programs(n):
            rows = [{"title": f"N{i}", "bankPC": [i % 128, i // 128 % 128, 1]} for i in range(n)]
            return json.dumps(rows).encode()

        def pasted(n):
            return "".join(f"Bank {i} (MSB {i % 128}, LSB {i // 128})\n1 Reed {i}\n2 Tide\n" for i in range(n)).encode()

        for made, how in ((table, {}), (programs, {}), (pasted, {"pasted": True})):
            with self.subTest(made=made.__name__):
                once, twice = (self.calls(partial(read_patch_file, **how), made(n)) for n in (400, 800))
                self.assertLess(twice / once, 2.3)

    def test_a_score_of_unending_notes_costs_what_it_holds(self):
        def score(n):
            track = b"\x00\x90\x3c\x40" * n + b"\x00\xff\x2f\x00"
            head = b"MThd" + struct.pack(">IHHH", 6, 0, 1, 480)
            return head + b"MTrk" + struct.pack(">I", len(track)) + track

        self.assertLess(self.calls(read_smf, score(4000)) / self.calls(read_smf, score(2000)), 2.3)
