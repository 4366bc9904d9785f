"""Lanes of sequencers against the sounds of a drum machine, and the stations of a trip."""

from dataclasses import replace

from django.test import SimpleTestCase

from hypotaxis.core.drawing.stations import stations
from hypotaxis.core.drawing.tried import METER_W, draw_tried
from hypotaxis.core.findings.finding import WORTH_KNOWING
from hypotaxis.core.plan import Voice
from hypotaxis.core.playing.tryout import InputHeard
from hypotaxis.core.rig.change import set_up
from hypotaxis.core.session.lanes import lanes_of
from tests.core.findings.test_rules import found
from tests.rooms import box_named, change, instrument_named, small_room, uid_of, unplug


class LanesTest(SimpleTestCase):
    """Eleven drum sounds and eight lanes, as in the trade's own complaint (job: sequencing limits)."""

    def setUp(self):
        voices = tuple(Voice(note=36 + n, name=f"voice {n + 1}") for n in range(11))
        self.plan = change(small_room(), "Alder kit", voices=voices)

    def kit(self, plan):
        return instrument_named(plan, "Alder kit")

    def test_without_a_limit_nothing_is_said(self):
        self.assertEqual(lanes_of(self.plan, self.kit(self.plan)), ())
        self.assertEqual(found(self.plan, "voices-beyond-lanes"), [])

    def test_the_boxs_own_eight_lanes_leave_three_sounds_without(self):
        plan = set_up(self.plan, box_named(self.plan, "Alder").uid, lanes=8)
        rows = [(lane.box, lane.number) for lane in lanes_of(plan, self.kit(plan))]
        self.assertEqual(rows[7:9], [("Alder", 8), ("", 0)])
        (told,) = found(plan, "voices-beyond-lanes")
        self.assertEqual((told.severity, told.title), (WORTH_KNOWING, "Alder drives 8 of 11 sounds"))
        self.assertIn("voice 9, voice 10 and voice 11", told.message)

    def test_two_sequencers_side_by_side_drive_them_all(self):
        keys = box_named(self.plan, "Heron 61")
        port = next(socket.uid for socket in keys.sockets if socket.kind == "midi" and socket.carried_by)
        plan = set_up(self.plan, keys.uid, lanes=8)
        one = change(plan, "Alder kit", standing=((port, 10),))
        self.assertEqual(len(found(one, "voices-beyond-lanes")), 1)
        second = replace(
            keys, uid="second", name="Tern", sockets=tuple(replace(s, uid=f"2{s.uid}") for s in keys.sockets)
        )
        plan = replace(plan, rig=replace(plan.rig, boxes=(*plan.rig.boxes, second)))
        plan = set_up(plan, "second", lanes=4)
        two = change(plan, "Alder kit", standing=((port, 10), (f"2{port}", 10)))
        self.assertEqual(found(two, "voices-beyond-lanes"), [])
        self.assertEqual((lanes_of(two, self.kit(two))[8].box, lanes_of(two, self.kit(two))[8].number), ("Tern", 1))


class StationsTest(SimpleTestCase):
    def row(self, plan, name, *, moved=(), left=True, ended=True):
        told = stations(plan, instrument_named(plan, name), left=left, moved=moved, ended=ended)
        return [(one.name, one.state) for one in told]

    def test_the_light_goes_as_far_as_the_signal_is_known_to_have_come(self):
        plan = small_room()
        home = uid_of(plan, "Quayside 18", "line in 3")
        names = ["Quayside 18 MIDI out", "Sedge", "Bittern", "Quayside 18 line in 3"]
        self.assertEqual(self.row(plan, "Bittern", moved=[home]), [(name, "reached") for name in names])
        states = ["reached", "not seen from here", "not seen from here", "silent"]
        self.assertEqual(self.row(plan, "Bittern"), list(zip(names, states, strict=True)))
        self.assertEqual(self.row(plan, "Bittern", left=False, ended=False)[0][1], "not seen from here")

    def test_it_stops_where_a_cable_is_missing_and_where_one_side_is_silent(self):
        plan = small_room()
        out = self.row(unplug(plan, "Bittern", "MIDI in"), "Bittern")
        self.assertIn(("Bittern", "no cable leads on"), out)
        unplugged = self.row(small_room(whole=False), "Bittern")
        self.assertEqual(unplugged[-1], ("Quayside 18 line in 3", "no cable arrives from the box"))
        left = uid_of(plan, "Quayside 18", "line in 1")
        self.assertEqual(self.row(plan, "Sedge upper", moved=[left])[-1], ("Quayside 18 line in 2", "silent"))
        bare = change(plan, "Bittern", returns=())
        self.assertEqual(self.row(bare, "Bittern")[-1], ("no return chosen", "no cable leads on"))

    def test_each_return_has_its_own_meter_and_the_sign_stands_where_it_stops(self):
        plan = small_room()
        left, right = (uid_of(plan, "Quayside 18", f"line in {number}") for number in (1, 2))
        row = stations(plan, instrument_named(plan, "Sedge upper"), left=True, moved=[left], ended=True)
        heard = [
            InputHeard(uid=left, name="line in 1", level=-30, peak=-12, clips=0, moved=True, mine=True),
            InputHeard(uid=right, name="line in 2", level=-90, peak=-84.2, clips=0, moved=False, mine=True),
        ]
        drawing = draw_tried(row, heard)
        one, other = drawing.meters
        # −30 dB is half of the scale from −60 to 0, −12 four fifths.
        self.assertEqual((one.bar.width, one.bar.hold), (METER_W / 2, round(METER_W * 0.8, 1)))
        self.assertEqual((one.stops, other.stops, other.value), (False, True, "−84.2"))
        self.assertEqual([y for _, y in drawing.signs], [other.y])
        certain = {(stretch.ink, stretch.y): stretch.lit for stretch in drawing.stretches}
        self.assertEqual(certain, {("out", drawing.middle): True, ("back", one.y): True, ("back", other.y): False})
        self.assertEqual([meter.bar for meter in draw_tried(row, ()).meters], [None, None], "before it is tried")
