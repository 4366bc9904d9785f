"""Routes, ports, adapters and what a person does to a rig."""

from django.test import SimpleTestCase

from hypotaxis.core.errors import DoesNotFit, FeedbackLoop
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig import change
from hypotaxis.core.rig.plug import adapter_between, kind_of_cable, midi_circle
from hypotaxis.core.rig.ports import channel_count, hubs_between, keys_in, match, ports_of
from hypotaxis.core.rig.sentence import plain, trip_sentence
from hypotaxis.core.rig.trips import heard_from, homes_of, listeners, trip_of, ways_into
from hypotaxis.core.studio import Port
from tests.core.findings.test_more_rules import route, straight, whole_demo
from tests.rooms import add_boxes, box_named, instrument_named, plug, small_room, uid_of
from tests.rooms import change as change_instrument


def locks(**fields) -> Plan:
    """Bittern behind a router that stands between Sedge's thru and it."""
    plan = straight(add_boxes(small_room(), ("midi-router", "Locks")), "Sedge", "thru", "Locks", "in 1")
    plan = plug(plan, "Locks", "out 2", "Bittern", "MIDI in")
    return route(plan, "Locks", "in 1", "out 2", **fields)


class RoutesTest(SimpleTestCase):
    def test_channels_are_followed_through_filter_and_remap(self):
        plan = locks(channels=(3, 7), remap=((7, 3), (3, 9)))
        send = uid_of(plan, "Quayside 18", "MIDI out")
        behind = next(r for r in heard_from(plan.rig, send) if r.box == box_named(plan, "Bittern").uid)
        self.assertEqual({n: c for n, c in enumerate(behind.channels, start=1) if c}, {3: 9, 7: 3})
        heard = {n: [plan.rig.box(r.box).name for r in listeners(plan.rig, send, n)] for n in (1, 7)}
        self.assertEqual(heard, {1: ["Sedge", "Locks"], 7: ["Sedge", "Locks", "Bittern", "Alder"]})

    def test_notes_that_die_out_on_their_way_round_are_no_circle(self):
        # Each round moves every channel up by one and holds the last back: after fifteen rounds nothing is left. Where
        # the last one comes round as the first again, it never ends. Clock passes in neither.
        up = tuple((channel, channel + 1) for channel in range(1, 16))
        for remap, channels, circle in ((up, tuple(range(1, 16)), False), ((*up, (16, 1)), (), True)):
            plan = add_boxes(small_room(), ("midi-router", "Locks"), ("midi-router", "Weir"))
            plan = route(plan, "Locks", "in 1", "out 2", remap=remap, channels=channels, clock=False)
            plan = plug(route(plan, "Weir", "in 1", "out 2", clock=False), "Locks", "out 2", "Weir", "in 1")
            found = midi_circle(plan.rig, uid_of(plan, "Weir", "out 2"), uid_of(plan, "Locks", "in 1"))
            self.assertEqual(found, ["Locks", "Weir", "Locks"] if circle else [])

    def test_a_separate_out_is_no_way_home_of_the_whole_box(self):
        plan = plug(small_room(), "Alder", "kick", "Quayside 18", "line in 7")
        homes = [plan.rig.socket_text(uid) for uid in homes_of(plan.rig, box_named(plan, "Alder").uid)]
        self.assertEqual(homes, ["Quayside 18 line in 5", "Quayside 18 line in 6"])

    def test_with_the_leader_goes_its_lead_and_with_another_box_it_stays(self):
        alder, bittern = (box_named(small_room(), name).uid for name in ("Alder", "Bittern"))
        led = change.set_rig(small_room(), leader=alder)
        self.assertEqual(change.remove_box(led, alder).rig.leader, "")
        self.assertEqual(change.remove_box(led, bittern).rig.leader, alder)

    def test_a_trip_says_where_it_is_passed_on_and_as_what(self):
        plan = locks(remap=((3, 9),))
        self.assertIn(
            "go straight on by Sedge thru into Locks in 1, are passed on by Locks out 2 into Bittern MIDI in, where "
            "they "
            "arrive on channel 9;",
            plain(trip_sentence(plan.rig, instrument_named(plan, "Bittern"))),
        )
        held = locks(channels=(1,))
        self.assertTrue(trip_of(held.rig, instrument_named(held, "Bittern")).held_back)
        self.assertIn("holds channel 3 back", plain(trip_sentence(held.rig, instrument_named(held, "Bittern"))))

    def test_voltage_is_part_of_the_trip(self):
        plan = add_boxes(small_room(), ("midi-to-cv", "Spring"), ("modular-voice", "Withy"))
        plan = plug(plug(plan, "Alder", "thru", "Spring", "MIDI in"), "Spring", "pitch", "Withy", "pitch")
        plan = change_instrument(plan, "Bittern", box=box_named(plan, "Withy").uid)
        trip = trip_of(plan.rig, instrument_named(plan, "Bittern"))
        self.assertTrue(trip.reaches)
        self.assertIn(
            "are turned into voltage at Spring pitch for Withy pitch", plain(trip_sentence(plan.rig, trip.instrument))
        )

    def test_a_port_inside_a_link_goes_straight_to_its_box_and_on(self):
        plan = add_boxes(small_room(), ("desktop-synth", "Teal"), ("mono-synth", "Tern"))
        plan = plug(plug(plan, "Teal", "USB", "host", "USB 3"), "Teal", "MIDI out", "Tern", "MIDI in")
        heard = heard_from(plan.rig, uid_of(plan, "Teal", "notes by USB"))
        self.assertEqual([(plan.rig.box(r.box).name, len(r.hops)) for r in heard], [("Teal", 0), ("Tern", 1)])
        self.assertEqual(len(heard[1].routes), 1, "passed on by its processor")

    def test_every_source_of_a_mixer_comes_home_by_it(self):
        plan = add_boxes(small_room(whole=False), ("mixer", "Pool"))
        plan = plug(plug(plan, "Bittern", "out", "Pool", "channel 1"), "Alder", "kick", "Pool", "channel 2")
        plan = plug(plan, "Pool", "main L", "Quayside 18", "line in 3")
        names = [
            plan.rig.find(way[0].source)[0].name
            for way in ways_into(plan.rig, uid_of(plan, "Quayside 18", "line in 3"))
        ]
        self.assertEqual(names, ["Pool", "Bittern", "Alder"])
        self.assertIn(
            "goes through Pool and comes home on line in 3",
            plain(trip_sentence(plan.rig, instrument_named(plan, "Bittern"))),
        )

    def test_a_circle_through_a_router_is_refused(self):
        plan = locks()
        thru, into = uid_of(plan, "Bittern", "thru"), uid_of(plan, "Locks", "in 2")
        plan = change.without_cable(plan, plan.rig.cable_at(thru).uid)
        change.with_cable(plan, thru, into)
        with self.assertRaisesRegex(FeedbackLoop, "Locks → Bittern → Locks"):
            change.with_cable(route(plan, "Locks", "in 2", "out 2"), thru, into)


class PlugsTest(SimpleTestCase):
    def test_what_sits_between_connectors_and_how_a_cable_is_made(self):
        plan = whole_demo()
        cases = [
            (("Withy", "out"), ("Sluice", "in"), "", "unbalanced"),
            (("Sluice", "out"), ("Quayside 18", "line in 4"), "", "balanced"),
            (("Alder", "kick"), ("Quayside 18", "mic 1"), "", "unbalanced"),
            (("Junction 6", "out 2"), ("Sedge", "MIDI in"), "", "din"),
            (("Heron 61", "USB"), ("host", "USB 1"), "", "usb"),
        ]
        for one, other, adapter, kind in cases:
            with self.subTest(one):
                ends = [plan.rig.find(uid_of(plan, *end))[1] for end in (one, other)]
                self.assertEqual(adapter_between(*ends), adapter)
                self.assertEqual(kind_of_cable(plan.rig, plan.rig.cable_at(ends[0].uid)), kind)
        sluice = plan.rig.find(uid_of(plan, "Sluice", "in"))[1]
        line = plan.rig.find(uid_of(plan, "Bittern", "out"))[1]
        self.assertEqual(adapter_between(line, sluice), "6.3 mm TS to 3.5 mm TS")

    def test_what_needs_a_box_between_names_it(self):
        plan = add_boxes(small_room(), ("modular-voice", "Withy"), ("usb-hub", "Hub"))
        cases = [
            (("Alder", "thru"), ("Withy", "pitch"), "between these stands a MIDI-to-CV converter"),
            (("Alder", "kick"), ("Hub", "USB 1"), "between these stands an audio interface"),
            (("Heron 61", "keys"), ("Quayside 18", "MIDI in"), "an end inside USB: no cable goes in"),
            (("Hub", "USB 1"), ("host", "USB 5"), "one end that takes devices, one device"),
        ]
        for one, other, words in cases:
            with self.subTest(words), self.assertRaisesRegex(DoesNotFit, words):
                change.with_cable(plan, uid_of(plan, *one), uid_of(plan, *other))

    def test_eight_outs_go_to_eight_ins_and_end_where_one_is_taken(self):
        plan = add_boxes(small_room(), ("interface-8", "Pier"), ("mixer", "Pool"))
        plan, ends = change.connect(
            plan, uid_of(plan, "Pier", "line out 1"), uid_of(plan, "Pool", "channel 1"), count=8
        )
        self.assertEqual(len(ends), 8)
        self.assertEqual(plan.rig.far_end(uid_of(plan, "Pool", "channel 8"))[1].label, "line out 8")
        other = add_boxes(plan, ("interface-2", "Jetty"))
        _, ends = change.connect(
            other, uid_of(other, "Jetty", "line out 1"), uid_of(other, "Quayside 18", "line in 7"), count=8
        )
        self.assertEqual(len(ends), 2)

    def test_an_end_is_moved_with_all_that_is_noted_and_a_bad_move_changes_nothing(self):
        plan = whole_demo()
        kick, snare = uid_of(plan, "Alder", "kick"), uid_of(plan, "Alder", "snare")
        cable = plan.rig.cable_at(kick)
        after = change.replug(plan, cable, kick, snare)
        moved = after.rig.cable_at(snare)
        self.assertEqual(
            (moved.uid, moved.length_m, moved.colour, moved.target), (cable.uid, 3.0, "brown", cable.target)
        )
        with self.assertRaises(DoesNotFit):
            change.replug(plan, cable, kick, uid_of(plan, "Quayside 18", "MIDI in"))


class PortsTest(SimpleTestCase):
    def test_ports_are_counted_by_duty(self):
        plan = whole_demo()
        self.assertEqual(channel_count(plan.rig), 16 * 7)
        self.assertEqual([end.box.name for end in keys_in(plan.rig)], ["Heron 61"])
        spare = change.set_sockets(plan, {uid_of(plan, "Junction 6", "out 1"): {"duty": "spare"}})
        self.assertEqual(channel_count(spare.rig), 16 * 6)
        self.assertEqual(len(ports_of(plan.rig, "in")), 9)

    def test_a_keyboard_plugged_into_an_input_is_played_from(self):
        plan = change.with_cable(
            whole_demo(), uid_of(whole_demo(), "Heron 61", "MIDI out"), uid_of(whole_demo(), "Junction 6", "in 1")
        )
        self.assertIn(uid_of(plan, "Junction 6", "in 1"), [end.socket.uid for end in keys_in(plan.rig)])

    def test_reported_ports_are_matched_by_likeness_and_copies_left_alone(self):
        plan = add_boxes(small_room(), ("keyboard", "Curlew"))
        keys = uid_of(plan, "Curlew", "keys")
        plan = change.set_sockets(plan, {keys: {"system_name": "Curlew mk1 keys port"}})
        midi = plan.rig.find(uid_of(plan, "Quayside 18", "MIDI out"))[1].system_name
        reported = (
            Port("2- Curlew keys USB", "in"),
            Port("2- Curlew keys USB (2)", "in"),
            Port(midi, "out"),
            Port("Foo", "in"),
        )
        found = match(plan.rig, reported)
        self.assertEqual(found.proposed[keys], "2- Curlew keys USB")
        self.assertEqual(found.copies, {"2- Curlew keys USB (2)": "2- Curlew keys USB"})
        self.assertIn(keys, [end.socket.uid for end in found.missing])
        self.assertIn("Foo", [port.system_name for port in found.unmatched])
        taken = change.set_sockets(plan, {keys: {"system_name": found.proposed[keys]}})
        self.assertNotIn(keys, [end.socket.uid for end in match(taken.rig, reported).missing])

    def test_hubs_are_counted_and_a_circle_of_hubs_leads_nowhere(self):
        plan = add_boxes(small_room(), ("pads", "Pads"), ("usb-hub", "One"), ("usb-hub", "Two"))
        plan = plug(plug(plan, "Pads", "USB", "One", "USB 1"), "One", "to the computer", "Two", "USB 1")
        self.assertIsNone(hubs_between(plan.rig, box_named(plan, "Pads")))
        joined = plug(plan, "Two", "to the computer", "host", "USB 5")
        self.assertEqual(hubs_between(joined.rig, box_named(joined, "Pads")), 2)
        circle = plug(plan, "Two", "to the computer", "One", "USB 2")
        self.assertIsNone(hubs_between(circle.rig, box_named(circle, "Pads")))


class ChangesTest(SimpleTestCase):
    def test_a_removed_socket_takes_cable_routes_and_what_named_it_along(self):
        plan = locks()
        after = change.remove_socket(plan, uid_of(plan, "Locks", "in 1"))
        self.assertEqual(box_named(after, "Locks").routes, ())
        self.assertIsNone(after.rig.cable_at(uid_of(after, "Sedge", "thru")))
        thru = change.remove_socket(plan, uid_of(plan, "Sedge", "MIDI in"))
        self.assertEqual(box_named(thru, "Sedge").socket("thru").thru_of, "")
        link = change.remove_socket(plan, uid_of(plan, "Heron 61", "USB"))
        self.assertEqual([s.label for s in box_named(link, "Heron 61").sockets], ["MIDI out"])

    def test_a_copy_keeps_its_inside_and_is_matched_to_nothing(self):
        plan = locks()
        after, copy = change.copy_box(plan, box_named(plan, "Locks"))
        self.assertEqual((copy.name, len(copy.routes)), ("Locks 2", 1))
        self.assertEqual(after.rig.find(copy.routes[0].source)[0].uid, copy.uid)
        _, keys = change.copy_box(plan, box_named(plan, "Heron 61"))
        self.assertEqual({s.system_name for s in keys.sockets}, {""})
