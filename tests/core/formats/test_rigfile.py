"""The rig file: exact round trip, and every fault named with its place."""

import json
from dataclasses import replace

from django.test import SimpleTestCase
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.plan import Meant
from hypotaxis.core.rig.values import CLOCK, CONNECTORS, LEVELS, LOCAL, Setup
from hypotaxis.core.studio import Port
from hypotaxis.demo.compose import saltmarsh_room
from tests.rooms import empty_plan, small_room

TEXT = st.text(max_size=40)
CHANNELS = st.lists(st.integers(1, 16), unique=True, max_size=16).map(tuple)
SETUPS = st.builds(
    Setup,
    receives=CHANNELS,
    omni=st.booleans(),
    transmits=CHANNELS,
    local=st.sampled_from(LOCAL),
    clock=st.sampled_from(CLOCK),
    takes_clock=st.booleans(),
    uses=st.lists(TEXT, unique=True, max_size=3).map(tuple),
    parts=st.none() | st.integers(0, 256),
)


class RigFileTest(SimpleTestCase):
    def test_what_was_written_is_read_exactly(self):
        for plan in (small_room(), small_room(whole=False), empty_plan(), saltmarsh_room()):
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

    @given(SETUPS, st.data())
    def test_any_settings_sockets_routes_and_marks_come_back(self, setup, data):
        plan = saltmarsh_room()
        draw = data.draw
        sockets = tuple(
            replace(
                socket,
                connector=draw(st.sampled_from(list(CONNECTORS))),
                level=draw(st.sampled_from(LEVELS)),
                max_dbu=draw(st.none() | st.floats(-60, 60)),
                both_sides=draw(st.booleans()),
            )
            for socket in plan.rig.boxes[8].sockets
        )
        pairs = st.dictionaries(st.integers(1, 16), st.integers(1, 16), max_size=4)
        routes = tuple(
            replace(route, channels=draw(CHANNELS), remap=tuple(draw(pairs).items()), gain_db=draw(st.floats(-80, 80)))
            for route in plan.rig.boxes[8].routes
        )
        box = replace(plan.rig.boxes[8], setup=setup, sockets=sockets, routes=routes, by_hand=draw(st.booleans()))
        boxes = (*plan.rig.boxes[:8], box, *plan.rig.boxes[9:])
        meant = (Meant(rule=draw(TEXT), about=draw(TEXT), cause=draw(TEXT), reason=draw(TEXT)),)
        ports = (Port(draw(TEXT), "in", draw(st.booleans())),)
        ticked, pictures = frozenset(draw(st.sets(TEXT))), (("abc", "QUJD"),)
        plan = replace(
            plan, rig=replace(plan.rig, boxes=boxes), meant=meant, reported=ports, ticked=ticked, pictures=pictures
        )
        self.assertEqual(read_rig_file(write_rig_file(plan)), plan)

    def test_a_file_of_the_first_version_is_read_with_defaults_for_what_it_lacks(self):
        document = json.loads(write_rig_file(small_room()))
        for name in ("echo", "leader", "meant", "ticked"):
            del document[name]
        for box in document["boxes"]:
            for name in ("by_hand", "icon", "picture", "setup", "routes"):
                del box[name]
            for socket in box["sockets"]:
                for name in ("connector", "both_sides", "level", "max_dbu", "carried_by", "clock"):
                    del socket[name]
        plan = read_rig_file(json.dumps(document | {"version": 1}))
        self.assertEqual([box.name for box in plan.rig.boxes], [box.name for box in small_room().rig.boxes])
        self.assertTrue(plan.rig.echo)
        self.assertEqual(plan.rig.boxes[3].setup, Setup())

    def test_lines_of_comment_are_passed_over_and_line_numbers_stay_true(self):
        plan = small_room()
        text = write_rig_file(plan).replace('"cables"', '\n  // what is plugged\n"cables"')
        self.assertEqual(read_rig_file(text), plan)
        with self.assertRaisesRegex(UnreadableFile, "line 3 column"):
            read_rig_file('{\n// a comment\n"format": oops}')

    def test_what_two_cables_share_or_a_route_leaves_is_named(self):
        document = json.loads(write_rig_file(saltmarsh_room()))
        document["cables"][1]["source"] = document["cables"][0]["source"]
        sluice = next(box for box in document["boxes"] if box["name"] == "Sluice")
        sluice["routes"][0]["target"] = document["boxes"][1]["sockets"][0]["uid"]
        with self.assertRaisesRegex(
            UnreadableFile, r"boxes\[8\].routes\[0\] should join two sockets of this box"
        ) as told:
            read_rig_file(json.dumps(document))
        self.assertIn("cables[1].source is taken by cables[0] already", str(told.exception))

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
