"""The rig file: exact round trip, and every fault named with its place."""

import json
from dataclasses import replace

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from tests.rooms import empty_plan, small_room

TEXT = st.text(max_size=40)


class RigFileTest(SimpleTestCase):
    def test_what_was_written_is_read_exactly(self):
        for plan in (small_room(), small_room(whole=False), empty_plan()):
            self.assertEqual(read_rig_file(write_rig_file(plan)), plan)

    @given(TEXT, TEXT, st.floats(-60, 24), st.one_of(st.none(), st.floats(0, 100)))
    def test_any_names_and_numbers_come_back(self, name, label, trim, length):
        plan = small_room()
        cables = (replace(plan.rig.cables[0], label=label, length_m=length), *plan.rig.cables[1:])
        instruments = (replace(plan.instruments[0], name=name, home_trim_db=trim), *plan.instruments[1:])
        plan = replace(plan, rig=replace(plan.rig, name=name, cables=cables), instruments=instruments)
        text = write_rig_file(plan)
        self.assertEqual(read_rig_file(text), plan)
        self.assertEqual(write_rig_file(read_rig_file(text)), text)

    def test_every_fault_is_named_with_its_place(self):
        document = json.loads(write_rig_file(small_room()))
        document["boxes"][2]["sockets"][1]["kind"] = "steam"
        document["boxes"][3]["order"] = -1
        document["cables"][0]["target"] = "00000000-0000-4000-8000-000000000000"
        del document["instruments"][1]["channel"]
        document["instruments"][2]["wishes"] = []
        document["boxes"][4]["uid"] = document["boxes"][3]["uid"]
        with self.assertRaises(UnreadableFile) as caught:
            read_rig_file(json.dumps(document))
        told = str(caught.exception)
        for part in (
            "boxes[2].sockets[1].kind should be one of midi, audio, cv, usb, network",
            "boxes[3].order should be a whole number from 0 to 100000",
            "cables[0].target names a socket that is not in the file",
            "instruments[1].channel is missing",
            "instruments[2].wishes is not known in version 2",
        ):
            self.assertIn(part, told)

    def test_a_uid_used_twice_is_found(self):
        document = json.loads(write_rig_file(small_room()))
        document["boxes"][4]["uid"] = document["boxes"][3]["uid"]
        with self.assertRaisesRegex(UnreadableFile, r"boxes\[4\].uid is used twice"):
            read_rig_file(json.dumps(document))

    def test_what_is_no_rig_file_is_refused(self):
        cases = [
            ("{", "not JSON"),
            ("[]", 'no "format"'),
            ('{"format": "hypotaxis-rig", "version": 9}', "version 9"),
            ('{"format": "hypotaxis-rig", "version": 1, "boxes": {}}', "boxes should be a list"),
            ('{"format": "hypotaxis-rig", "version": 1, "boxes": [3]}', r"boxes\[0\] should be an object"),
            ("[" * 100_000, "nested too deeply|not JSON"),
        ]
        for text, reason in cases:
            with self.subTest(reason), self.assertRaisesRegex(UnreadableFile, reason):
                read_rig_file(text)
