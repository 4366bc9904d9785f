"""Trips through the demo's rig, and how they read."""

from django.test import SimpleTestCase

from hypotaxis.core.rig.sentence import plain, trip_sentence
from hypotaxis.core.rig.trips import heard_from, returns_text, trip_of
from tests.rooms import box_named, change, instrument_named, small_room, uid_of, unplug


class TripTest(SimpleTestCase):
    def test_a_thru_chain_is_heard_in_order(self):
        plan = small_room()
        heard = heard_from(plan.rig, uid_of(plan, "Quayside 18", "MIDI out"))
        self.assertEqual([plan.rig.box(r.box).name for r in heard], ["Sedge", "Bittern", "Alder"])
        self.assertEqual([sum(hop.by_thru for hop in r.hops) for r in heard], [0, 1, 2])

    def test_the_whole_trip_reads_as_a_sentence(self):
        plan = small_room()
        self.assertEqual(
            plain(trip_sentence(plan.rig, instrument_named(plan, "Bittern"))),
            "Notes leave by Quayside 18 MIDI out, enter Sedge MIDI in, go straight on by Sedge thru into Bittern MIDI "
            "in; the sound leaves by Bittern out and comes home on line in 3.",
        )

    def test_inks_say_the_direction(self):
        plan = small_room()
        inks = {piece.text: piece.ink for piece in trip_sentence(plan.rig, instrument_named(plan, "Sedge upper"))}
        self.assertEqual(inks["Quayside 18 MIDI out"], "out")
        self.assertEqual(inks["line in 1–2"], "back")

    def test_where_it_is_broken_it_says_so(self):
        plan = small_room(whole=False)
        bittern = instrument_named(plan, "Bittern")
        self.assertFalse(trip_of(plan.rig, bittern).whole)
        self.assertIn("no cable brings it there", plain(trip_sentence(plan.rig, bittern)))
        cut = unplug(small_room(), "Sedge", "thru")
        sentence = trip_sentence(cut.rig, instrument_named(cut, "Bittern"))
        self.assertIn(
            "but no cable leads from there to Bittern", [p.text.strip(", ") for p in sentence if p.ink == "alarm"]
        )
        nowhere = change(small_room(), "Bittern", send="", returns=())
        text = plain(trip_sentence(nowhere.rig, instrument_named(nowhere, "Bittern")))
        self.assertEqual(
            text, "No send socket is chosen, so no note reaches Bittern; no return is chosen for its sound."
        )

    def test_a_return_that_brings_another_box_is_not_home(self):
        plan = small_room()
        wrong = change(plan, "Bittern", returns=(uid_of(plan, "Quayside 18", "line in 5"),))
        self.assertEqual(trip_of(wrong.rig, instrument_named(wrong, "Bittern")).homeward, ())

    def test_returns_are_spoken_of_as_a_pair_where_they_are_one(self):
        plan = small_room()
        line = [uid_of(plan, "Quayside 18", f"line in {number}") for number in range(1, 9)]
        self.assertEqual(returns_text(plan.rig, (line[0], line[1])), "line in 1–2")
        self.assertEqual(returns_text(plan.rig, (line[6],)), "line in 7")
        self.assertEqual(returns_text(plan.rig, (line[4], line[6])), "line in 5 and line in 7")
        self.assertEqual(returns_text(plan.rig, ("gone", line[0])), "an input that is gone and line in 1")

    def test_a_trip_names_its_sockets_and_cables(self):
        plan = small_room()
        trip = trip_of(plan.rig, instrument_named(plan, "Bittern"))
        self.assertEqual(len(trip.cables), 3)
        self.assertIn(uid_of(plan, "Sedge", "thru"), trip.sockets)
        self.assertNotIn(uid_of(plan, "Alder", "MIDI in"), trip.sockets)
        self.assertEqual(trip.listeners[-1].box, box_named(plan, "Alder").uid)
