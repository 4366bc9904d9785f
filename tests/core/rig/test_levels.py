"""Levels against published and hand-made values."""

from django.test import SimpleTestCase

from hypotaxis.core.rig.change import set_route, set_sockets
from hypotaxis.core.rig.levels import CLASSES, advice, dbu_of, levels_along, maximum_dbu, nominal_dbu, sine_dbu, volt_of
from hypotaxis.core.rig.trips import trip_of
from hypotaxis.core.rig.values import Socket
from tests.core.findings.test_more_rules import whole_demo
from tests.rooms import box_named, instrument_named, small_room, uid_of


class LevelsTest(SimpleTestCase):
    def test_published_values(self):
        # IEC 60268-17: 0 dBu = 0.7746 V; +4 dBu = 1.228 V; −10 dBV = −7.78 dBu, 11.78 dB apart (0 dBV = 1 V).
        self.assertAlmostEqual(volt_of(0), 0.7746, places=4)
        self.assertAlmostEqual(volt_of(4), 1.228, places=3)
        self.assertAlmostEqual(CLASSES["line -10"].nominal_dbu, -7.78, places=2)
        self.assertAlmostEqual(CLASSES["line +4"].nominal_dbu - CLASSES["line -10"].nominal_dbu, 11.78, places=2)
        # 10 V peak to peak are 3.536 V RMS; 9.2 dB above +4 dBu, 21 dB above −10 dBV.
        self.assertAlmostEqual(volt_of(sine_dbu(10)), 3.536, places=3)
        self.assertAlmostEqual(sine_dbu(10) - 4, 9.19, places=2)
        self.assertAlmostEqual(sine_dbu(10) - CLASSES["line -10"].nominal_dbu, 20.97, places=2)
        # Against +18 dBu (EBU R 68: 0 dBFS) a 10 V sine still has 4.8 dB; a square of its peak reads +16.2 dBu.
        self.assertAlmostEqual(CLASSES["line +4"].maximum_dbu - sine_dbu(10), 4.8, places=1)
        self.assertAlmostEqual(dbu_of(5.0), 16.2, places=1)

    def test_a_sockets_own_maximum_counts_before_that_of_its_class(self):
        socket = Socket(uid="s", label="in", direction="in", kind="audio", level="line +4")
        self.assertEqual((nominal_dbu(socket), maximum_dbu(socket)), (4.0, 18.0))
        other = Socket(uid="s", label="in", direction="in", kind="audio", level="line +4", max_dbu=24.0)
        self.assertEqual(maximum_dbu(other), 24.0)
        self.assertIsNone(nominal_dbu(Socket(uid="s", label="in", direction="in", kind="audio")))

    def test_along_a_trip_through_a_converter(self):
        plan = whole_demo()
        (way,) = trip_of(plan.rig, instrument_named(plan, "Withy")).homeward
        points = levels_along(plan.rig, way)
        self.assertEqual([round(point.level_dbu, 2) for point in points], [13.19, 13.19, 1.19, 1.19])
        self.assertAlmostEqual(points[-1].headroom_db, 18 - 1.19, places=2)
        self.assertEqual(
            advice(plan.rig, way), "17 dB of headroom at line in 4: the box all the way up, the preamp low."
        )
        louder = set_route(plan, box_named(plan, "Sluice").routes[0].uid, gain_db=8.0)
        self.assertIn("3 dB over what line in 4 takes: a pad of 4 dB", advice(louder.rig, way))
        weak = set_route(plan, box_named(plan, "Sluice").routes[0].uid, gain_db=-30.0)
        self.assertIn("21 dB below what line in 4 expects", advice(weak.rig, way))

    def test_what_is_not_noted_is_not_judged(self):
        plan = small_room()
        plan = set_sockets(plan, {uid_of(plan, "Bittern", "out"): {"level": ""}})
        (way,) = trip_of(plan.rig, instrument_named(plan, "Bittern")).homeward
        self.assertEqual((levels_along(plan.rig, way), advice(plan.rig, way)), ((), ""))
        self.assertEqual(levels_along(plan.rig, ()), ())
