"""Who is there: the identity request as bytes, on the stand-in's wires, and on the page."""

from django.test import SimpleTestCase
from django.urls import reverse
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.midi.identity import REQUEST, Identity, is_request, read_reply, reply_bytes
from hypotaxis.core.rig.answering import Answer, proposals
from hypotaxis.core.rig.change import set_box
from hypotaxis.records.models import FrontPanel, Job
from hypotaxis.steps.rig import services
from tests.rooms import box_named, small_room, uid_of
from tests.web.base import DemoTest

SEVEN = st.integers(0, 127)


class BytesTest(SimpleTestCase):
    def test_the_request_and_the_reply_are_those_of_the_specification(self):
        # MIDI 1.0 Detailed Specification, Identity Request and Identity Reply: F0 7E id 06 01 F7; F0 7E id 06 02 mm
        # ff ff dd dd ss ss ss ss F7, low seven bits first; a maker of three bytes begins with 00.
        self.assertEqual(REQUEST.hex(" "), "f0 7e 7f 06 01 f7")
        one = Identity(0, bytes([0x7D]), 0x81, 0x102, bytes([1, 2, 3, 4]))
        self.assertEqual(reply_bytes(one).hex(" "), "f0 7e 00 06 02 7d 01 01 02 02 01 02 03 04 f7")
        three = bytes.fromhex("f07e100602000123 0100 0200 00000001 f7".replace(" ", ""))
        self.assertEqual(read_reply(three), Identity(16, bytes([0, 1, 0x23]), 1, 2, bytes([0, 0, 0, 1])))

    @given(SEVEN, st.integers(1, 127), st.integers(0, 0x3FFF), st.integers(0, 0x3FFF))
    def test_any_reply_comes_back(self, device, maker, family, model):
        one = Identity(device, bytes([maker]), family, model, bytes([1, 0, 2, 0]))
        self.assertEqual(read_reply(reply_bytes(one)), one)

    @given(st.binary(max_size=20))
    def test_anything_else_is_no_reply(self, data):
        self.assertFalse(is_request(data) and data != REQUEST[:2] + data[2:3] + REQUEST[3:])
        found = read_reply(data)
        self.assertTrue(found is None or reply_bytes(found) == data)

    def test_a_reply_cut_short_or_with_a_status_byte_inside_is_refused(self):
        whole = reply_bytes(Identity(0, bytes([0x7D]), 1, 2))
        for data in (whole[:-1], whole[:-2] + b"\xf7", whole[:8] + b"\x90" + whole[9:], b""):
            self.assertIsNone(read_reply(data), data.hex())


class ProposalsTest(SimpleTestCase):
    def test_known_boxes_come_first_and_what_is_odd_is_told(self):
        plan = small_room()
        send, back = uid_of(plan, "Quayside 18", "MIDI out"), uid_of(plan, "Quayside 18", "MIDI in")
        answer = Answer(send, back, Identity(0, bytes([0x7D]), 1, 2))
        (one,) = proposals(plan, [answer])
        self.assertEqual((one.box, one.told), ("", "Behind this port hang Sedge, Bittern, Alder: which of them is it?"))
        for name in ("Bittern", "Alder"):
            plan = set_box(plan, box_named(plan, name).uid, identity=f"7D 9.{len(name)}")
        self.assertEqual(proposals(plan, [answer])[0].box, box_named(plan, "Sedge").uid)
        plan = set_box(plan, box_named(plan, "Heron 61").uid, identity="7D 1.2")
        self.assertIn("known as Heron 61, and the sheet cables that elsewhere", proposals(plan, [answer])[0].told)
        plan = set_box(plan, box_named(plan, "Sedge").uid, identity="7D 1.2")
        self.assertEqual(proposals(plan, [answer])[0].told, "It is known by this identity.")


class AskingTest(DemoTest):
    def ask(self):
        return self.client.post(reverse("rig:ask"), follow=True)

    def test_nobody_answers_without_a_way_back(self):
        self.assertContains(self.ask(), "Nobody, on 7 ports.")

    def test_a_box_with_a_way_back_answers_and_is_known_from_then_on(self):
        reedbed = self.plan.rig.box(self.instrument("Reedbed").box)
        fields = {"label": "MIDI out", "direction": "out", "kind": "midi", "connector": "din"}
        services.add_socket(self.rig, self.plan, reedbed, fields)
        services.connect(self.rig, self.plan, self.socket("Reedbed", "MIDI out"), self.socket("Junction 6", "in 4"))
        page = self.ask()
        self.assertContains(page, "Junction out 4")
        self.assertContains(page, "heard back by Junction 6 in 4")
        self.assertContains(page, "the only box behind this port that is not known yet")
        (proposal,) = page.context["answers"]
        self.assertEqual(proposal["box"], reedbed.uid)
        told = self.client.post(
            reverse("rig:known-as"), {"box": reedbed.uid, "identity": proposal["kind"]}, follow=True
        )
        self.assertContains(told, "This is <b>Reedbed</b>.")
        self.assertIn("Choose the box", self.told(self.client.post(reverse("rig:known-as"), {}, follow=True)))
        FrontPanel.objects.update_or_create(box_uid=reedbed.uid, defaults={"settings": {"channels": [1], "off": True}})
        self.assertContains(self.ask(), "Nobody, on 7 ports.")
        self.assertEqual(Job.objects.filter(kind="asking").last().state, Job.DONE)
