"""What a cable may join."""

from django.test import SimpleTestCase

from hypotaxis.core.errors import DoesNotFit, FeedbackLoop, SocketTaken
from hypotaxis.core.rig.plug import fits, order_ends, pair_of
from hypotaxis.core.rig.search import search
from tests.rooms import add_boxes, plug, small_room, uid_of, unplug


class PlugTest(SimpleTestCase):
    def setUp(self):
        self.plan = small_room(whole=False)

    def ends(self, *names):
        return [uid_of(self.plan, box, label) for box, label in names]

    def test_ends_are_put_in_order_whichever_is_named_first(self):
        out, into = self.ends(("Bittern", "out"), ("Quayside 18", "line in 3"))
        self.assertEqual(order_ends(self.plan.rig, out, into), (out, into))
        self.assertEqual(order_ends(self.plan.rig, into, out), (out, into))

    def test_what_does_not_fit_is_refused_with_its_reason(self):
        cases = [
            ((("Bittern", "out"), ("Alder", "kick")), DoesNotFit, "both outputs"),
            ((("Quayside 18", "line in 3"), ("Quayside 18", "line in 4")), DoesNotFit, "both inputs"),
            ((("Alder", "thru"), ("Quayside 18", "line in 3")), DoesNotFit, "Alder thru is MIDI"),
            ((("Bittern", "out"), ("Bittern", "out")), DoesNotFit, "two ends"),
            ((("Bittern", "out"), ("Quayside 18", "line in 1")), SocketTaken, "already has a cable, to Sedge L"),
            ((("Heron 61", "USB"), ("Quayside 18", "USB")), DoesNotFit, "from a box to the computer"),
        ]
        for names, error, reason in cases:
            with self.subTest(reason), self.assertRaisesRegex(error, reason):
                order_ends(self.plan.rig, *self.ends(*names))

    def test_a_socket_that_is_gone_is_named_as_such(self):
        with self.assertRaisesRegex(DoesNotFit, "gone"):
            order_ends(self.plan.rig, "no such socket", uid_of(self.plan, "Bittern", "out"))

    def test_usb_goes_from_a_box_to_the_computer(self):
        plan = add_boxes(self.plan, ("keyboard", "Pads"))
        usb, host = uid_of(plan, "Pads", "USB"), uid_of(plan, "host", "USB 3")
        self.assertEqual(order_ends(plan.rig, host, usb), (usb, host))

    def test_midi_in_a_circle_is_refused_and_spelled_out(self):
        # Sedge feeds Bittern by thru; taking Bittern's thru back into Sedge would send notes round.
        plan = unplug(unplug(self.plan, "Sedge", "MIDI in"), "Alder", "MIDI in")
        with self.assertRaisesRegex(FeedbackLoop, "Sedge → Bittern → Sedge"):
            order_ends(plan.rig, uid_of(plan, "Bittern", "thru"), uid_of(plan, "Sedge", "MIDI in"))

    def test_a_chain_that_ends_is_no_circle(self):
        plan = add_boxes(self.plan, ("mono-synth", "Teal"))
        self.assertTrue(fits(plan.rig, uid_of(plan, "Alder", "thru"), uid_of(plan, "Teal", "MIDI in")))
        self.assertFalse(fits(plan.rig, uid_of(plan, "Teal", "thru"), uid_of(plan, "Teal", "MIDI in")))

    def test_every_second_socket_marked_as_fitting_can_be_plugged(self):
        out = uid_of(self.plan, "Alder", "kick")
        fitting = [s.uid for _, s in self.plan.rig.each_socket() if fits(self.plan.rig, out, s.uid)]
        names = {self.plan.rig.socket_text(uid) for uid in fitting}
        self.assertEqual(names, {f"Quayside 18 line in {number}" for number in (3, 4, 7, 8)})
        plugged = plug(self.plan, "Alder", "kick", "Quayside 18", "line in 7")
        self.assertFalse(fits(plugged.rig, out, fitting[0]))

    def test_the_other_side_of_a_pair_goes_left_to_left(self):
        plan = unplug(unplug(self.plan, "Alder", "L"), "Alder", "R")
        left, right, kick = (uid_of(plan, "Alder", label) for label in ("L", "R", "kick"))
        lines = [uid_of(plan, "Quayside 18", f"line in {number}") for number in range(1, 9)]
        self.assertEqual(pair_of(plan.rig, left, lines[6]), (right, lines[7]))
        self.assertEqual(pair_of(plan.rig, right, lines[7]), (left, lines[6]))
        self.assertIsNone(pair_of(plan.rig, left, lines[7]), "left into right")
        self.assertIsNone(pair_of(plan.rig, kick, lines[6]), "no pair")
        self.assertIsNone(pair_of(plan.rig, left, lines[0]), "taken")


class SearchTest(SimpleTestCase):
    def test_everything_is_found_by_any_of_its_names(self):
        rig = small_room().rig
        named = {box.uid: box.name for box in rig.boxes}
        found = search(rig, "BITT")
        self.assertEqual([named[uid] for uid in found if uid in named], ["Bittern"])
        self.assertIn(uid_of(small_room(), "Bittern", "out"), found)
        self.assertIn(rig.cable_at(uid_of(small_room(), "Bittern", "MIDI in")).uid, found)
        self.assertIn(uid_of(small_room(), "Quayside 18", "MIDI out"), search(rig, "usb midi out interface"))
        self.assertEqual((search(rig, ""), search(rig, "   "), search(rig, "zither")), (frozenset(),) * 3)
