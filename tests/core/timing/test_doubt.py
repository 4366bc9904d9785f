"""What makes a recording doubtful. Thresholds: common practice, said at the constants."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.timing.belief import many_extra, many_missed
from hypotaxis.core.timing.doubt import sound_unwritten
from hypotaxis.core.timing.levels import levels_of
from hypotaxis.core.timing.recording import HeldRecording

RATE = 8000
BEAT = RATE / 2


def signal(seconds: float, *sounds) -> np.ndarray:
    """Noise at −80 dBFS with sounds (begin s, end s, level at the begin, decay in dB a second)."""
    made = np.random.default_rng(3).standard_normal(round(seconds * RATE)) * 1e-4
    at = np.arange(len(made)) / RATE
    for begin, end, level, decay in sounds:
        inside = (at >= begin) & (at < end)
        made += inside * level * 10 ** (-decay * np.maximum(at - begin, 0) / 20) * np.sin(2 * np.pi * 220 * at)
    return made.astype(np.float32)


class DoubtTest(SimpleTestCase):
    def begins(self, made: np.ndarray, *spans) -> float | None:
        """In seconds."""
        rows = np.array(spans, dtype=float).reshape(-1, 2) * RATE
        found = sound_unwritten(levels_of(HeldRecording(made, RATE), (0,)), RATE, rows, BEAT)
        return None if found is None else found / RATE

    def test_counts_from_which_hits_speak_against_a_recording(self):
        self.assertEqual([many_extra(48, n) for n in (4, 7, 8, 23)], [False, False, True, True])
        self.assertEqual(many_extra(10, 4), False)
        self.assertEqual([many_missed(40, n) for n in (0, 7, 8)], [False, False, True])

    def test_what_is_played_on_where_nothing_is_written_is_found_with_its_place(self):
        made = signal(8, (0.5, 1.5, 0.3, 0), (4.0, 7.0, 0.2, 0))
        self.assertAlmostEqual(self.begins(made, (0.5, 1.5)), 3.5, delta=0.6)
        self.assertIsNone(self.begins(made, (0.5, 1.5), (4.0, 7.0)))

    def test_what_rings_on_or_comes_back_as_an_echo_is_no_reason(self):
        ringing = signal(8, (0.5, 8, 0.5, 20))
        self.assertIsNone(self.begins(ringing, (0.5, 1.0)))
        echoes = signal(8, *((0.5 + 0.375 * n, 0.6 + 0.375 * n, 0.5 * 0.6**n, 0) for n in range(12)))
        self.assertIsNone(self.begins(echoes, (0.5, 0.6)))

    def test_noise_hum_and_short_rests_are_no_reason(self):
        self.assertIsNone(self.begins(signal(6, (0, 6, 0.01, 0)), (1, 2)))
        self.assertIsNone(self.begins(signal(3, (0.5, 2.9, 0.3, 0)), (0.5, 1.0), (1.7, 2.9)))
        self.assertIsNone(self.begins(np.zeros(9, np.float32), (0, 1)))
