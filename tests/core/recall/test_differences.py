"""Planted changes are found, each and nothing else, and put back; what lies elsewhere on the desk is not told."""

import random
from collections.abc import Callable

from django.test import SimpleTestCase

from hypotaxis.core.plan import Part, Plan
from hypotaxis.core.recall.again import routing_calls, to_do
from hypotaxis.core.recall.differences import BOX, CABLE, DEFINITION, INTERFACE, SETTING, SOCKET, differences, put_back
from hypotaxis.core.rig.build import box_from_shape
from hypotaxis.core.rig.change import (
    add_box,
    connect,
    remove_box,
    remove_socket,
    set_box,
    set_cable,
    set_instrument,
    set_rig,
    set_up,
    without_cable,
    without_instrument,
)
from tests.rooms import box_named, instrument_named, small_room, uid_of

ROOM = small_room()


def at(box: str, label: str) -> str:
    return uid_of(ROOM, box, label)


def unplugged(box: str, label: str) -> Callable[[Plan], Plan]:
    return lambda plan: without_cable(plan, plan.rig.cable_at(at(box, label)).uid)


def box_uid(name: str) -> str:
    return box_named(ROOM, name).uid


def set_on(name: str, **fields) -> Callable[[Plan], Plan]:
    return lambda plan: set_up(plan, box_uid(name), **fields)


def defined(name: str, /, **fields) -> Callable[[Plan], Plan]:
    return lambda plan: set_instrument(plan, instrument_named(ROOM, name).uid, **fields)


def without_the_kit(plan: Plan) -> Plan:
    return without_instrument(plan, instrument_named(ROOM, "Alder kit").uid)


PLANTED: dict[str, tuple[Callable[[Plan], Plan], str, str]] = {
    "a cable is out": (unplugged("Bittern", "out"), CABLE, "The cable Bittern out to Quayside 18 line in 3"),
    "the chain is open": (unplugged("Bittern", "MIDI in"), CABLE, "The cable Sedge thru to Bittern MIDI in"),
    "omni": (set_on("Bittern", omni=True), SETTING, "Bittern, omni"),
    "local control": (set_on("Sedge", local="off"), SETTING, "Sedge, local control"),
    "channel": (defined("Bittern", channel=7), DEFINITION, "Bittern, channel"),
    "trim": (defined("Sedge upper", home_trim_db=-6.0), DEFINITION, "Sedge upper, home trim in dB"),
    "a part": (
        defined("Sedge lower", parts=(Part(uid="p", name="Far", channel=5),)), DEFINITION, "Sedge lower, parts",
    ),
    "buffer": (lambda plan: set_rig(plan, buffer=64), INTERFACE, "Buffer in samples"),
    "rate": (lambda plan: set_rig(plan, sample_rate=44_100), INTERFACE, "Sample rate in hz"),
    "undefined": (without_the_kit, DEFINITION, "Alder kit"),
}  # fmt: skip
ELSEWHERE: list[Callable[[Plan], Plan]] = [
    unplugged("Heron 61", "USB"),
    lambda plan: set_rig(plan, name="Another name", echo=False),
    lambda plan: add_box(plan, shape="poly-synth", name="Newcomer")[0],
    lambda plan: set_box(plan, box_uid("Sedge"), name="Sedge II", order=9, note="moved"),
    lambda plan: set_cable(plan, plan.rig.cable_at(at("Sedge", "L")).uid, label="S L", colour="#AA0000"),
    defined("Bittern", name="Bittern, low", colour="#123456", given_ms=3.0),
]


def found(now: Plan) -> dict[str, tuple[str, str]]:
    """What differs of all that the room plays, by key."""
    every = (one for owner in ROOM.instruments for one in differences(ROOM, now, owner.uid))
    return {one.key: (one.kind, one.about) for one in every}


def all_of(now: Plan) -> list:
    return list({one.key: one for owner in ROOM.instruments for one in differences(ROOM, now, owner.uid)}.values())


class PlantedTest(SimpleTestCase):
    def test_each_is_found_alone_and_put_back(self):
        self.assertEqual(found(ROOM), {})
        for name, (change, kind, about) in PLANTED.items():
            with self.subTest(name):
                now = change(ROOM)
                self.assertEqual(list(found(now).values()), [(kind, about)])
                after = put_back(now, all_of(now))
                self.assertEqual(found(after), {})
                if name != "undefined":
                    self.assertEqual(after, ROOM)

    def test_several_at_once_among_changes_elsewhere(self):
        draw = random.Random(7)
        for _ in range(60):
            names = draw.sample(sorted(PLANTED), draw.randint(2, 5))
            changes = [PLANTED[name][0] for name in names] + draw.sample(ELSEWHERE, 2)
            # What is defined no more cannot be changed any more.
            draw.shuffle(changes)
            now = ROOM
            for change in changes:
                now = change(now)
            with self.subTest(names):
                self.assertEqual(sorted(found(now).values()), sorted(PLANTED[name][1:] for name in names))
                self.assertEqual(found(put_back(now, all_of(now))), {})

    def test_nothing_is_told_of_what_lies_elsewhere(self):
        for change in ELSEWHERE:
            self.assertEqual(found(change(ROOM)), {})

    def test_swapped_sides_are_two_cables_and_one_put_back_unplugs_the_other(self):
        now = unplugged("Sedge", "L")(unplugged("Sedge", "R")(ROOM))
        now, _ = connect(now, at("Sedge", "L"), at("Quayside 18", "line in 2"))
        now, _ = connect(now, at("Sedge", "R"), at("Quayside 18", "line in 1"))
        two = all_of(now)
        self.assertEqual([one.kind for one in two], [CABLE, CABLE])
        self.assertIn("Sedge L goes to Quayside 18 line in 2, and Quayside 18 line in 1 is fed by Sedge R", two[0].told)
        self.assertEqual(put_back(now, two), ROOM)
        self.assertEqual(len(found(put_back(now, two[:1]))), 1)

    def test_a_missing_box_comes_back_with_its_cables(self):
        now = remove_box(ROOM, box_uid("Bittern"))
        lost = all_of(now)
        # Its cables are told with it.
        self.assertEqual([(one.kind, one.about) for one in lost], [(BOX, "Bittern")])
        self.assertIn("with its 3 cables", lost[0].fix.words)
        after = put_back(now, lost)
        self.assertEqual(found(after), {})
        self.assertEqual({one.uid for one in after.rig.boxes}, {one.uid for one in ROOM.rig.boxes})

    def test_a_missing_socket_comes_back_at_its_row(self):
        now = remove_socket(ROOM, at("Quayside 18", "line in 3"))
        lost = all_of(now)
        self.assertEqual([(one.kind, one.about) for one in lost], [(SOCKET, "Quayside 18 line in 3")])
        self.assertEqual(put_back(now, lost), ROOM)

    def test_unknown_owner_differs_in_nothing(self):
        self.assertEqual(differences(ROOM, ROOM, "none"), ())


class ToDoTest(SimpleTestCase):
    def test_what_makes_one_instrument_sound(self):
        bittern = instrument_named(ROOM, "Bittern")
        todo = to_do(ROOM, [bittern])
        self.assertEqual(
            [(one.row.source, one.row.target) for one in todo.plugs],
            [
                ("Quayside 18 MIDI out", "Sedge MIDI in"),
                ("Sedge thru", "Bittern MIDI in"),
                ("Bittern out", "Quayside 18 line in 3"),
            ],
        )
        self.assertIn("Bittern", [one.box.name for one in todo.settings])
        self.assertNotIn("Alder", [one.box.name for one in todo.settings])
        moved, _ = connect(unplugged("Bittern", "out")(ROOM), at("Bittern", "out"), at("Quayside 18", "line in 7"))
        moved = defined("Bittern", returns=(at("Quayside 18", "line in 7"),))(moved)
        new = to_do(moved, [instrument_named(moved, "Bittern")]).keys
        self.assertEqual(len(new & todo.keys), 2, "a tick holds for the ends it was made at")

    def test_a_router_is_called_by_the_port_that_reaches_it(self):
        router = box_from_shape("midi-router", "Junction", order=20)
        plan = set_rig(ROOM, boxes=(*ROOM.rig.boxes, router))
        way_in = next(one for one in router.sockets if one.kind == "midi" and one.direction == "in")
        plan = set_up(plan, router.uid, routing=4, routing_by=way_in.label, routing_channel=16)
        (call,) = routing_calls(plan)
        self.assertIn("No port of the host reaches Junction", call.why)
        plan, _ = connect(plan, at("Alder", "thru"), way_in.uid)
        (call,) = routing_calls(plan)
        self.assertEqual((call.number, call.message.hex(" "), call.why), (5, "cf 04", ""))
        self.assertEqual(call.port, plan.rig.find(at("Quayside 18", "MIDI out"))[1].system_name)
        (call,) = routing_calls(set_up(plan, router.uid, routing_by="elsewhere"))
        self.assertIn("no socket elsewhere", call.why)
