"""Frames that did not come are told in bars."""

from django.test import SimpleTestCase

from hypotaxis.core.session.gaps import gaps_told
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Lost

# 120 BPM: a bar of 4/4 lasts two seconds.
TEMPO = TempoMap(480, ((0, 500_000),), ((0, 4, 4),))


class GapsTest(SimpleTestCase):
    def told(self, *gaps: Lost) -> str:
        return gaps_told(gaps, TEMPO, first_sample=-24_000, rate=48_000)

    def test_bars_are_counted_from_the_sessions_zero(self):
        self.assertEqual(self.told(), "")
        # The recording begins half a second before bar 1: frame 120,000 is two seconds behind its zero.
        self.assertEqual(
            self.told(Lost(120_000, 512)), "512 frames (10.7 ms) did not come, in bar 2; silence stands there."
        )
        self.assertIn("in bar 1;", self.told(Lost(119_000, 512)))
        self.assertIn("in bars 1–2;", self.told(Lost(119_900, 512)))

    def test_many_are_drawn_together(self):
        told = self.told(*(Lost(24_000 + 96_000 * bar, 256) for bar in (0, 1, 2, 6)))
        self.assertIn("1024 frames (21.3 ms) did not come, in bars 1–3, 7;", told)
        self.assertIn("and others", self.told(*(Lost(24_000 + 192_000 * bar, 1) for bar in range(9))))
