"""Memories of boxes: messages taken apart (bytes of the MIDI 1.0 Detailed Specification's identity request among them),
broken ones refused with their place, pacing, and the stand-in's boxes on the simulated wire."""

from itertools import pairwise

from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hypotaxis.core.errors import BadDump
from hypotaxis.core.midi.dumps import (
    Pacing,
    check_maker,
    held_against,
    messages_in,
    paced,
    request_of,
    seconds_of,
)
from hypotaxis.core.midi.identity import REQUEST
from hypotaxis.core.rig.change import add_socket, connect
from hypotaxis.core.studio import Message, RunSetup, Written
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.memory import BY_PANEL, DUMPS, HURRIED, WHEN_ASKED, Memory
from hypotaxis.standin.units import FrontPanel
from tests.rooms import box_named, small_room, uid_of

BODY = st.binary(min_size=1, max_size=40).map(lambda data: bytes(byte & 0x7F for byte in data))


class MessagesTest(SimpleTestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(BODY, min_size=1, max_size=6))
    def test_messages_come_apart_as_they_were_put_together(self, bodies):
        messages = tuple(b"\xf0" + one + b"\xf7" for one in bodies)
        self.assertEqual(messages_in(b"".join(messages)), messages)
        # Real-time bytes may stand between any two (MIDI 1.0).
        self.assertEqual(messages_in(b"\xf8".join(messages) + b"\xfe"), messages)

    def test_the_identity_request_is_one(self):
        self.assertEqual(messages_in(REQUEST), (bytes.fromhex("f07e7f0601f7"),))
        self.assertEqual(request_of("f0, 7e 7f 06 01 F7"), REQUEST)

    def test_what_is_broken_is_refused_with_its_place(self):
        for data, told in {
            b"": "is empty",
            b"\x90\x3c": "Byte 1 is 90",
            b"\xf0\x7d\x01": "Message 1 breaks off behind 3 bytes: its F7 is missing",
            b"\xf0\x7d\xf7\xf0\x7d": "Message 2 breaks off",
            b"\xf0\x7d\x90\xf7": "byte 3: 90 stands where data or F7 should",
            b"\xf0\xf7": "Message 1 is empty",
            bytes(5_000_000): "up to 4,194,304 are kept",
        }.items():
            with self.subTest(told), self.assertRaisesRegex(BadDump, told):
                messages_in(data)
        texts = {"F0 7D": "its F7 is missing", "zz": "no row of hexadecimal", "": "is empty"}
        for text, told in (texts | {"F0 " * 600: "Is it a dump"}).items():
            with self.subTest(text[:9]), self.assertRaisesRegex(BadDump, told):
                request_of(text)

    def test_another_makers_dump_is_refused(self):
        mine, other = b"\xf0\x7d\x01\xf7", b"\xf0\x00\x21\x05\x01\xf7"
        check_maker([mine, REQUEST], b"\x7d", "Sedge")
        check_maker([other], b"", "Sedge")
        with self.assertRaisesRegex(BadDump, "Message 2 is of maker 00 21 05, and Sedge is of 7D"):
            check_maker([mine, other], b"\x7d", "Sedge")

    def test_pacing(self):
        # 3,125 bytes a second on the wire (MIDI 1.0): 100 bytes take 32 ms.
        two = [bytes(100), bytes(50)]
        self.assertEqual([at for at, _ in paced(two, Pacing(pause_ms=0))], [0, 32_000_000])
        self.assertEqual([at for at, _ in paced(two, Pacing(pause_ms=20))], [0, 52_000_000])
        self.assertEqual([at for at, _ in paced(two, Pacing(0, 1000))], [0, 100_000_000])
        self.assertAlmostEqual(seconds_of(two, Pacing(pause_ms=20)), 0.088)

    def test_what_it_holds_is_told(self):
        one, two = [b"\xf0\x01\xf7", b"\xf0\x02\xf7"], [b"\xf0\x01\xf7", b"\xf0\x03\xf7"]
        self.assertTrue(held_against(one, one, Pacing()).same)
        self.assertIn("did not answer", held_against(one, [], Pacing()).told)
        self.assertIn("1 of 2 messages differ", held_against(one, two, Pacing(20)).told)
        self.assertIn("Leave 200 ms", held_against(one, two[:1], Pacing(100)).told)


class StandInTest(SimpleTestCase):
    def desk(self, dumps: str, **panel) -> tuple[Desk, str]:
        """Sedge, with a cable back to the interface."""
        plan = small_room()
        sedge = box_named(plan, "Sedge").uid
        plan = add_socket(plan, sedge, label="MIDI out", kind="midi", direction="out", connector="din")
        plan, _ = connect(plan, uid_of(plan, "Sedge", "MIDI out"), uid_of(plan, "Quayside 18", "MIDI in"))
        desk = Desk(plan.rig, {sedge: FrontPanel((1, 2), dumps=dumps, **panel)})
        return desk, sedge

    def sent(self, desk: Desk, messages, seconds: float = 2.0) -> list[Message]:
        port = next(one.system_name for one in desk.ports() if one.direction == "out" and "MIDI out" in one.system_name)
        source = Written([Message(at, port, data) for at, data in messages])
        setup = RunSetup(frames=round(seconds * desk.sample_rate), fast=True)
        return [message for block in desk.run(source, setup) for message in block.received]

    def request(self, desk: Desk, sedge: str) -> bytes:
        return bytes([0xF0, 0x7D, desk.identity(desk.rig.box(sedge)).model & 0x7F, 0x10, 0xF7])

    def test_it_answers_byte_for_byte_at_the_speed_of_the_wire(self):
        desk, sedge = self.desk(WHEN_ASKED)
        came = self.sent(desk, [(0, self.request(desk, sedge))])
        model = desk.identity(desk.rig.box(sedge)).model
        self.assertEqual([one.data for one in came], Memory(sedge, model, dumps=WHEN_ASKED, content="").sent())
        # 320 µs a byte: from the end of one message to the end of the next.
        for one, two in pairwise(came):
            self.assertEqual(two.time_ns - one.time_ns, 320_000 * len(two.data))

    def test_what_it_is_sent_it_holds_and_a_hurried_one_loses_some(self):
        for dumps, pause_ms, whole in ((WHEN_ASKED, 0, True), (HURRIED, 0, False), (HURRIED, 50, True)):
            with self.subTest(dumps, pause_ms=pause_ms):
                desk, sedge = self.desk(dumps)
                model = desk.identity(desk.rig.box(sedge)).model
                new = Memory("another", model, dumps=dumps, content="").sent()
                self.sent(desk, paced(new, Pacing(pause_ms=pause_ms)), 3.0)
                came = self.sent(desk, [(0, self.request(desk, sedge))])
                self.assertEqual([one.data for one in came] == new, whole)
                self.assertEqual(held_against(new, [one.data for one in came], Pacing()).same, whole)

    def test_one_that_dumps_from_its_panel_is_not_asked(self):
        desk, sedge = self.desk(BY_PANEL)
        self.assertEqual(self.sent(desk, [(0, self.request(desk, sedge))]), [])
        desk, sedge = self.desk(BY_PANEL, sends_memory=True)
        self.assertEqual(len(self.sent(desk, [])), 8)
        self.assertEqual(len(DUMPS), 3)
