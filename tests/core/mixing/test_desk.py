"""The desk by value: levels, sides, solo and mute."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import BadLevel
from hypotaxis.core.mixing.desk import Fader, Heard, Strip, check_fader, heard, mixed, sides


class SidesTest(SimpleTestCase):
    def test_a_mono_sound_keeps_its_power_wherever_it_stands(self):
        # Equal power, −3 dB in the middle: common practice.
        for pan in (-100, -37, 0, 50, 100):
            left, right = sides(Fader(pan=pan), 1)
            self.assertAlmostEqual(left**2 + right**2, 1.0)
        self.assertAlmostEqual(20 * np.log10(sides(Fader(), 1)[0]), -3.0103, places=4)
        np.testing.assert_allclose(sides(Fader(pan=-100), 1), (1, 0), atol=1e-12)

    def test_a_stereo_sound_is_as_it_was_in_the_middle_and_loses_the_farther_side(self):
        np.testing.assert_allclose(sides(Fader(), 2), (1, 1))
        np.testing.assert_allclose(sides(Fader(pan=100), 2), (0, 1), atol=1e-12)
        np.testing.assert_allclose(sides(Fader(level_db=-20), 2), (0.1, 0.1))

    def test_the_sum_by_value(self):
        def read(first, last):
            return np.full((last - first, 2), (0.25, 0.5))

        one, other = Heard(read, 2, Fader()), Heard(lambda a, b: np.full((b - a, 1), 1.0), 1, Fader(-20.0, -100))
        np.testing.assert_allclose(mixed([one, other], 5, 7), [[0.35, 0.5]] * 2)
        self.assertEqual(mixed([], 0, 3).tolist(), [[0, 0]] * 3)


class HeardTest(SimpleTestCase):
    def names(self, *strips: Strip, **groups: Fader) -> set[str]:
        return set(heard(strips, groups))

    def test_solo_leaves_the_others_out_and_mute_wins(self):
        a, b, c = Strip("a", Fader()), Strip("b", Fader(soloed=True)), Strip("c", Fader(soloed=True, muted=True))
        self.assertEqual(self.names(a, b, c), {"b"})
        self.assertEqual(self.names(a), {"a"})

    def test_groups_are_soloed_muted_and_turned_down_as_one(self):
        kick, snare, bass = Strip("kick", Fader(-3.0), "kit"), Strip("snare", Fader(), "kit"), Strip("bass", Fader())
        self.assertEqual(self.names(kick, snare, bass, kit=Fader(soloed=True)), {"kick", "snare"})
        self.assertEqual(self.names(kick, snare, bass, kit=Fader(muted=True)), {"bass"})
        found = heard([kick, bass], {"kit": Fader(-6.0, 80), "none": Fader(soloed=False)})
        self.assertEqual((found["kick"], found["bass"]), (Fader(-9.0, 80), Fader()))

    def test_what_no_fader_can_be_is_said(self):
        for fader, told in ((Fader(13.0), "out of reach: -60 to"), (Fader(pan=101), "beyond the sides")):
            with self.assertRaisesRegex(BadLevel, told):
                check_fader(fader)
        self.assertEqual(check_fader(Fader(-60.0, -100)), Fader(-60.0, -100))
