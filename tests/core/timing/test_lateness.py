"""The estimator against generated takes with known truth.

Targets are stated beside each case; truth is what was really laid down, not the parameter behind it.
"""

import numpy as np
from django.test import SimpleTestCase
from scipy import stats

from hypotaxis.core.errors import NoAnswer, NoSignal, WrongScore
from hypotaxis.core.timing.lateness import measure
from hypotaxis.core.timing.line import robust_line
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import HeldRecording
from tests.core.timing.generated import Case, irregular, lay_down

SEEDS = (1, 2)
ONE_SAMPLE_MS = 1000 / 48000
BASS_LINE = 0.5 + np.cumsum(np.random.default_rng(5).choice([0.156, 0.3125, 0.4687], 60))


def answer(case: Case, seed: int = 1):
    signal, positions, truth = lay_down(case, seed)
    return measure(HeldRecording(signal, case.rate), distinct_moments(positions, case.rate)), positions, truth


class AccuracyTest(SimpleTestCase):
    def assert_near(self, case: Case, within_ms: float):
        for seed in SEEDS:
            found, _, truth = answer(case, seed)
            self.assertAlmostEqual(found.lateness_ms, float(np.nanmedian(truth)), delta=within_ms)

    def test_sharp_hits_within_a_sample(self):
        cases = {
            "plain": Case(),
            "drum": Case("drum"),
            "early": Case(late_ms=-5),
            "very late": Case(late_ms=220),
            "reversed polarity": Case("drum", invert=True),
            "dc": Case("drum", dc=0.1),
            "left only": Case("drum", side="left"),
            "right only": Case("drum", side="right"),
            "clipped": Case("drum", level=1.6),
            "soft": Case(level=10 ** (-45 / 20), noise_db=-98),
            "drift": Case("drum", drift_ppm=-300, notes=irregular(120)),
            "44.1 kHz": Case("drum", rate=44100),
            "96 kHz": Case("drum", rate=96000),
        }
        for name, case in cases.items():
            with self.subTest(name):
                self.assert_near(case, ONE_SAMPLE_MS)

    def test_disturbed_hits_within_a_quarter_of_a_millisecond(self):
        cases = {
            "noise": Case(noise_db=-36),
            "hum": Case("drum", hum_db=-40),
            "jitter": Case("drum", jitter_ms=3.0),
            "missing": Case("drum", missing=0.2),
            "extra": Case("drum", extra=8),
            "plucked": Case("pluck"),
            "chords": Case("pluck", chord_ms=0.96),
            "chords that ring on": Case("pluck", chord_ms=0.96, ring_s=0.6, notes=irregular(40, 0.2)),
            "dense": Case("drum", jitter_ms=0.5, notes=0.5 + np.arange(96) * 0.125),
            "a bass line that rings on": Case("bass", ring_s=0.5, notes=BASS_LINE),
        }
        for name, case in cases.items():
            with self.subTest(name):
                self.assert_near(case, 0.25)

    def test_jitter_and_drift_are_those_really_played(self):
        for seed in SEEDS:
            case = Case(jitter_ms=1.0, drift_ppm=120, notes=irregular(200))
            found, positions, truth = answer(case, seed)
            line = stats.linregress(positions / case.rate, truth)
            spread = np.std(truth - line.intercept - line.slope * positions / case.rate, ddof=2)
            self.assertAlmostEqual(found.jitter_ms, spread, delta=0.03 * spread + 0.01)
            self.assertAlmostEqual(found.drift_ppm, line.slope * 1000, delta=1.0)

    def test_counts_add_up(self):
        case = Case("drum", missing=0.2, extra=5)
        found, _, truth = answer(case, 2)
        self.assertEqual(found.used + found.set_aside + found.missed, len(truth))
        self.assertEqual(found.missed, int(np.isnan(truth).sum()))
        self.assertEqual(found.extra, 5)

    def test_the_interval_holds_the_truth_as_often_as_it_says(self):
        inside = 0
        for seed in range(40):
            case = Case(jitter_ms=0.8, notes=irregular(48, seed=seed))
            found, _, _ = answer(case, seed)
            # The parameter, since the interval is about what other hits would say. The grid's half sample is allowed.
            inside += abs(found.lateness_ms - 14.2) <= found.lateness_half + ONE_SAMPLE_MS
        self.assertGreaterEqual(inside, 34)

    def test_placement_is_minus_the_lateness_in_whole_samples(self):
        found, _, _ = answer(Case())
        self.assertEqual(found.placement, -round(found.lateness_ms * 48))


class RefusalTest(SimpleTestCase):
    def moments(self, notes=None):
        return distinct_moments((irregular(40) if notes is None else notes) * 48000, 48000)

    def test_silence_and_noise_give_no_number(self):
        length = 48000 * 25
        with self.assertRaisesRegex(NoSignal, "silent"):
            measure(HeldRecording(np.zeros(length, np.float32), 48000), self.moments())
        noise = 0.1 * np.random.default_rng(1).standard_normal(length).astype(np.float32)
        with self.assertRaises(NoAnswer):
            measure(HeldRecording(noise, 48000), self.moments())

    def test_another_piece_gives_no_number(self):
        for seed in range(6):
            signal, _, _ = lay_down(Case("drum", notes=irregular(40, seed=50 + seed)))
            with self.assertRaises(NoAnswer):
                measure(HeldRecording(signal, 48000), self.moments(irregular(40, seed=90 + seed)))

    def test_too_few_notes(self):
        signal, positions, _ = lay_down(Case(notes=irregular(3)))
        with self.assertRaisesRegex(NoAnswer, "Only 3 note moments"):
            measure(HeldRecording(signal, 48000), distinct_moments(positions, 48000))

    def test_most_hits_missing(self):
        signal, positions, _ = lay_down(Case("drum", missing=0.6))
        with self.assertRaisesRegex(WrongScore, "note moments have a hit|agree with each other"):
            measure(HeldRecording(signal, 48000), distinct_moments(positions, 48000))

    def test_lateness_outside_the_range(self):
        for late in (-25, 270):
            with self.subTest(late), self.assertRaises(NoAnswer):
                answer(Case(late_ms=late))

    def test_moments_outside_the_recording_are_counted(self):
        signal, positions, _ = lay_down(Case("drum"))
        found = measure(HeldRecording(signal[: len(signal) // 2], 48000), distinct_moments(positions, 48000))
        self.assertGreater(found.outside, 10)
        self.assertEqual(found.used + found.set_aside + found.missed + found.outside, 48)


class PiecesTest(SimpleTestCase):
    def test_moments_closer_than_twenty_milliseconds_are_merged(self):
        moments = distinct_moments(np.array([0, 0, 900, 1000, 5000, 5959.9]), 48000)
        self.assertEqual(moments.positions.tolist(), [0, 5000])
        self.assertEqual(moments.merged, 3)

    def test_odd_hits_do_not_bend_the_line(self):
        rng = np.random.default_rng(4)
        seconds = np.arange(64) * 0.6
        late = 14.0 + 0.02 * seconds + 0.3 * rng.standard_normal(64)
        late[[5, 20, 41]] += (9, -12, 30)
        line = robust_line(seconds, late)
        self.assertEqual(np.flatnonzero(~line.used).tolist(), [5, 20, 41])
        kept = np.delete(np.arange(64), [5, 20, 41])
        # Reference: scipy's least squares over the hits that are no outliers.
        reference = stats.linregress(seconds[kept], late[kept])
        self.assertAlmostEqual(line.slope, reference.slope, places=9)
        self.assertAlmostEqual(line.slope_half, stats.t.ppf(0.975, 59) * reference.stderr, places=6)

    def test_what_64_hits_can_know(self):
        # Normal theory: the median's standard error is 1.2533 sigma / sqrt(n); slope sigma sqrt(12) / (sqrt(n) T).
        rng = np.random.default_rng(8)
        seconds = np.linspace(0, 60, 64)
        lines = [robust_line(seconds, 14 + 0.4 * rng.standard_normal(64)) for _ in range(300)]
        self.assertAlmostEqual(float(np.std([line.median_ms for line in lines])), 1.2533 * 0.4 / 8, delta=0.012)
        slopes = float(np.std([line.slope for line in lines])) * 1000
        self.assertAlmostEqual(slopes, 0.4 * np.sqrt(12) / (8 * 60) * 1000, delta=0.5)
