"""A leader's tempo as it arrives: with ±2 ms of uniform jitter, over steps and slow wander, and when it goes wrong."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.midi.messages import CLOCK, CONTINUE, START, STOP
from hypotaxis.core.sync.leader import Follower, TempoIn

A_BAR = 96


def clocks(bpms: np.ndarray, seed: int, jitter_ms: float = 2.0) -> np.ndarray:
    """Times in ns of clocks whose intervals follow these tempos, each moved by up to the jitter."""
    at = np.concatenate([[0.0], np.cumsum(2500.0 / bpms)])
    return np.rint((at + np.random.default_rng(seed).uniform(-jitter_ms, jitter_ms, len(at))) * 1e6).astype(np.int64)


def heard(times: np.ndarray) -> TempoIn:
    follower = Follower()
    follower.hear(int(times[0]) - 2_000_000, START)
    for at in times:
        follower.hear(int(at), CLOCK)
    return follower.now(int(times[-1]))


class TempoInTest(SimpleTestCase):
    def test_over_two_bars_it_is_within_a_tenth(self):
        for bpm in (60, 88, 120, 150, 200):
            with self.subTest(bpm=bpm):
                off = [abs(heard(clocks(np.full(2 * A_BAR, bpm), seed)).bpm - bpm) for seed in range(100)]
                self.assertGreaterEqual(np.mean(np.array(off) <= 0.1), 0.95)

    def test_its_interval_holds(self):
        held = 0
        for seed in range(200):
            one = heard(clocks(np.full(2 * A_BAR, 120.0), seed))
            held += abs(one.bpm - 120) <= one.half
        self.assertGreaterEqual(held / 200, 0.9)

    def test_a_step_is_followed_after_one_bar(self):
        for bpm, step in ((60, 1.0), (120, -1.0), (120, 12.0), (199, 1.0)):
            with self.subTest(bpm=bpm, step=step):
                tempos = np.concatenate([np.full(3 * A_BAR, bpm), np.full(A_BAR, bpm + step)])
                off = [abs(heard(clocks(tempos, seed)).bpm - bpm - step) for seed in range(60)]
                self.assertGreaterEqual(np.mean(np.array(off) <= 0.3), 0.95, max(off))

    def test_wander_is_told_less_what_jitter_explains(self):
        steady = [heard(clocks(np.full(9 * A_BAR, 120.0), seed)).wander for seed in range(20)]
        self.assertLess(float(np.median(steady)), 0.02)
        bars = 120 + 0.5 * np.sin(np.arange(9) * 1.3)
        moving = heard(clocks(np.repeat(bars, A_BAR), 3))
        self.assertAlmostEqual(moving.wander, float(np.std(bars[1:], ddof=1)), delta=0.08)
        self.assertIn("wanders by", moving.told)

    def test_start_stop_and_continue_are_followed_and_other_bytes_passed_over(self):
        follower = Follower()
        for at, status in enumerate((CLOCK, START, CLOCK, CLOCK, 0xFE, STOP, CLOCK, CONTINUE, CLOCK)):
            follower.hear(at * 20_000_000, status)
        one = follower.now(200_000_000)
        self.assertEqual((one.ticks, one.running, one.bpm), (3, True, None))
        self.assertEqual(one.told, "clock, its tempo is not known yet")

    def test_what_goes_wrong_is_told(self):
        times = clocks(np.full(A_BAR, 120.0), 1).tolist()
        follower = Follower()
        for at in times:
            follower.hear(at, CLOCK)
        self.assertIn("no clock for 2.0 s", follower.now(times[-1] + 2_000_000_000).trouble)
        for at in times:
            follower.hear(at + times[-1] + 500_000_000, CLOCK)
        one = follower.now(2 * times[-1] + 500_000_000)
        self.assertIn("stalled for 5", one.trouble)
        self.assertAlmostEqual(one.bpm, 120.0, delta=0.2)
        follower.hear(2 * times[-1] + 502_000_000, CLOCK)
        self.assertIn("stutters", follower.now(2 * times[-1] + 503_000_000).trouble)
        flood = Follower()
        for number in range(10_000):
            flood.hear(number * 100_000, CLOCK)
        self.assertIn("garbage", flood.now(1_000_000_000).told)
