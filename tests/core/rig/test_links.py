"""Devices at a USB host: their notes go through its routes, and the computer has no port of theirs."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.errors import DoesNotFit, FeedbackLoop
from hypotaxis.core.findings.rules import check
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig import change
from hypotaxis.core.rig.beginning import next_move
from hypotaxis.core.rig.links import upstream
from hypotaxis.core.rig.listening import players_into
from hypotaxis.core.rig.ports import host_direction, ports_of
from hypotaxis.core.rig.sentence import plain, trip_sentence
from hypotaxis.core.rig.trips import heard_from, send_sockets, trip_of
from tests.rooms import add_boxes, box_named, instrument_named, plug, small_room, uid_of, unplug
from tests.rooms import change as change_instrument


def estuary() -> Plan:
    """Teal (a desktop synth) at a USB host behind Alder's thru; Bittern's instrument is played on Teal."""
    plan = add_boxes(small_room(), ("usb-midi-host", "Estuary"), ("desktop-synth", "Teal"))
    plan = plug(plan, "Alder", "thru", "Estuary", "MIDI in")
    plan = plug(plan, "Teal", "USB", "Estuary", "USB 1")
    return change_instrument(plan, "Bittern", box=box_named(plan, "Teal").uid)


def without_routes(plan: Plan, name: str) -> Plan:
    return change.set_box(plan, box_named(plan, name).uid, routes=())


def titles(plan: Plan) -> list[str]:
    return [finding.title for finding in check(plan)]


class UsbHostTest(SimpleTestCase):
    def test_a_device_is_reached_through_it_and_is_no_port_of_the_computer(self):
        plan = estuary()
        trip = trip_of(plan.rig, instrument_named(plan, "Bittern"))
        self.assertTrue(trip.reaches)
        self.assertEqual(trip.outward[-1].target, uid_of(plan, "Teal", "notes by USB"))
        self.assertIn(
            "into Estuary MIDI in, are passed on by Estuary USB 1 into Teal notes by USB;",
            plain(trip_sentence(plan.rig, trip.instrument)),
        )
        self.assertNotIn("Teal", [end.box.name for end in ports_of(plan.rig)])
        self.assertNotIn("Teal", [name for name, _ in send_sockets(plan.rig)])
        self.assertEqual(heard_from(plan.rig, uid_of(plan, "Teal", "notes by USB")), ())

    def test_plugged_into_the_computer_it_is_a_port_again(self):
        plan = estuary()
        cable = plan.rig.cable_at(uid_of(plan, "Teal", "USB"))
        plan = change.replug(plan, cable, uid_of(plan, "Estuary", "USB 1"), uid_of(plan, "host", "USB 4"))
        self.assertIn("Teal", [name for name, _ in send_sockets(plan.rig)])

    def test_a_keyboard_there_plays_into_the_port_behind_it(self):
        plan = add_boxes(small_room(), ("usb-midi-host", "Estuary"), ("keyboard", "Wader"), ("usb-hub", "Delta"))
        plan = plug(plan, "Estuary", "MIDI out", "Quayside 18", "MIDI in")
        plan = plug(plan, "Delta", "to the computer", "Estuary", "USB 2")
        plan = plug(plan, "Wader", "USB", "Delta", "USB 1")
        goal = upstream(plan.rig, uid_of(plan, "Wader", "USB"))
        self.assertEqual((goal.box.name, goal.hubs), ("Estuary", 1))
        players = players_into(plan.rig, uid_of(plan, "Quayside 18", "MIDI in"))
        self.assertEqual([box.name for box, _ in players], ["Wader"])

    def test_a_router_that_takes_devices_hands_them_what_its_own_port_is_sent(self):
        plan = add_boxes(small_room(), ("router-2", "Locks"), ("desktop-synth", "Teal"))
        locks = box_named(plan, "Locks").uid
        plan = change.add_socket(plan, locks, label="devices", direction="both", kind="usb", connector="usb-a")
        plan = change.add_socket(
            plan, locks, label="to devices", direction="in", kind="midi", carried_by="USB", duty="sends to boxes"
        )
        plan = plug(plug(plan, "Locks", "USB", "host", "USB 3"), "Teal", "USB", "Locks", "devices")
        self.assertIn("Locks passes nothing on to Teal", titles(plan))
        plan = change.add_route(plan, uid_of(plan, "Locks", "to devices"), uid_of(plan, "Locks", "devices"))
        own = next(end for end in ports_of(plan.rig, "out") if end.socket.label == "to devices")
        self.assertEqual(host_direction(own.box, own.socket), "out")
        heard = [plan.rig.box(one.box).name for one in heard_from(plan.rig, own.socket.uid)]
        self.assertEqual(heard, ["Locks", "Teal"])
        self.assertNotIn("Locks passes nothing on to Teal", titles(plan))

    def test_the_guide_feeds_the_host_and_not_the_device(self):
        plan = unplug(estuary(), "Alder", "thru")
        plan = replace(plan, instruments=tuple(one for one in plan.instruments if one.name != "Bittern"))
        plan = change.remove_box(plan, box_named(plan, "Bittern").uid)
        plan = plug(plan, "Sedge", "thru", "Alder", "MIDI in")
        self.assertEqual(next_move(plan).words, "Cable Alder thru to Estuary MIDI in")

    def test_without_routes_the_finding_lays_them(self):
        plan = without_routes(estuary(), "Estuary")
        found = next(f for f in check(plan) if f.title == "Estuary passes nothing on to Teal")
        self.assertFalse(trip_of(plan.rig, instrument_named(plan, "Bittern")).reaches)
        mended = found.fix.apply(plan)
        self.assertTrue(trip_of(mended.rig, instrument_named(mended, "Bittern")).reaches)
        self.assertNotIn(found.title, titles(mended))

    def test_a_circle_through_a_device_is_refused_from_either_cable(self):
        plan = estuary()
        thru = plan.rig.cable_at(uid_of(plan, "Alder", "thru"))
        plan = change.without_cable(plan, thru.uid)
        ends = uid_of(plan, "Teal", "MIDI out"), uid_of(plan, "Estuary", "MIDI in")
        with self.assertRaisesRegex(FeedbackLoop, "Estuary → Teal → Estuary"):
            change.with_cable(plan, *ends)
        link = plan.rig.cable_at(uid_of(plan, "Teal", "USB"))
        plan = change.with_cable(change.without_cable(plan, link.uid), *ends)
        with self.assertRaisesRegex(FeedbackLoop, "Teal → Estuary → Teal"):
            change.with_cable(plan, link.source, link.target)

    def test_routes_that_make_no_sense_are_refused(self):
        plan = estuary()
        usb, midi = uid_of(plan, "Estuary", "USB 1"), uid_of(plan, "Quayside 18", "MIDI in")
        with self.assertRaisesRegex(DoesNotFit, "cannot pass on what enters USB 1 by USB 1"):
            change.add_route(plan, usb, usb)
        with self.assertRaisesRegex(DoesNotFit, "cannot pass on what enters MIDI in by line out 1"):
            change.add_route(plan, midi, uid_of(plan, "Quayside 18", "line out 1"))
