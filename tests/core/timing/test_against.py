"""Two recordings of the same notes laid over each other: truth is when each hit of the generator begins."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.timing.against import compare
from hypotaxis.core.timing.lateness import Listened, measure
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import HeldRecording
from tests.core.timing.generated import Case, irregular, lay_down
from tests.core.timing.soft import PITCHES, SOUNDS, soft_take

NOTES = irregular(14, shortest=0.5)
RATE = 24_000


def listened(signal: np.ndarray, rate: int = RATE) -> Listened:
    return Listened(HeldRecording(signal, rate))


class AgainstTest(SimpleTestCase):
    def pair(self, kind: str, **fields):
        """(what is found of two takes of one sound, by how much the first really is later, ms)."""
        fields = {"rate": RATE, "jitter_ms": 0.2} | fields
        one, begins = soft_take(kind, NOTES, late_ms=19.7, seed=1, **fields)
        other, others = soft_take(kind, NOTES, late_ms=14.2, seed=2, **fields)
        found = compare(listened(one), listened(other), NOTES * 1000)
        return found, float(np.median(begins - others)) * 1000

    def test_soft_sounds_that_are_the_same_each_time_within_a_tenth_of_a_millisecond(self):
        for kind in SOUNDS:
            for held, release_s in ((0.75, 0.03), (1.05, 0.1)):
                with self.subTest(kind, held=held):
                    found, real = self.pair(kind, free=False, held=held, release_s=release_s)
                    self.assertTrue(found.waves)
                    self.assertAlmostEqual(found.difference_ms, real, delta=0.1)
                    self.assertTrue(found.low_ms <= real <= found.high_ms)

    def test_where_phases_run_free_the_interval_holds_the_truth(self):
        for kind in SOUNDS:
            with self.subTest(kind):
                found, real = self.pair(kind, free=True)
                self.assertFalse(found.waves)
                self.assertTrue(found.low_ms <= real <= found.high_ms, (found.low_ms, real, found.high_ms))
                self.assertLessEqual(found.confidence, 0.85)
                self.assertTrue(any("how their sounds swell" in told for told in found.warnings))

    def test_other_rates_polarity_and_places_of_the_same_notes(self):
        one, _, begins = lay_down(Case("pluck", late_ms=20.1, jitter_ms=0.3), 1)
        cases = {
            "44.1 kHz": (Case("pluck", jitter_ms=0.3, rate=44_100), 0.0),
            "polarity": (Case("pluck", jitter_ms=0.3, invert=True), 0.0),
            "far apart": (Case("pluck", jitter_ms=0.3, late_ms=214.0), 0.0),
            "begun elsewhere": (Case("pluck", jitter_ms=0.3), 3.0),
        }
        for name, (case, cut_s) in cases.items():
            with self.subTest(name):
                other, positions, others = lay_down(case, 2)
                notes = positions / case.rate
                other, theirs = other[round(cut_s * case.rate) :], (notes - cut_s) * 1000
                found = compare(listened(one, 48_000), listened(other, case.rate), notes * 1000, theirs)
                self.assertAlmostEqual(found.difference_ms, float(np.median(begins - others)), delta=0.1)

    def test_drift_between_two_recordings_is_told(self):
        notes = irregular(40, shortest=0.5)
        one, begins = soft_take("organ", notes, late_ms=19.7, seed=1, rate=RATE, free=False, drift_ppm=200)
        other, others = soft_take("organ", notes, late_ms=14.2, seed=2, rate=RATE, free=False)
        found = compare(listened(one), listened(other), notes * 1000)
        self.assertAlmostEqual(found.drift_ppm, 200, delta=10)
        self.assertAlmostEqual(found.difference_ms, float(np.median(begins - others)) * 1000, delta=0.1)

    def test_what_is_not_the_same_is_refused(self):
        one, _ = soft_take("strings", NOTES, late_ms=14.2, seed=1, rate=RATE)
        semitones = tuple(pitch * 2 ** (2 / 12) for pitch in PITCHES)
        others = {
            "other pitches": soft_take("strings", NOTES, late_ms=14.2, seed=2, rate=RATE, pitches=semitones)[0],
            "another rhythm": soft_take("strings", irregular(14, 0.5, seed=9), late_ms=14.2, seed=2, rate=RATE)[0],
            "noise": 0.1 * np.random.default_rng(1).standard_normal(len(one)).astype(np.float32),
        }
        for name, other in others.items():
            with self.subTest(name), self.assertRaisesRegex(NoAnswer, "notes are the same in both recordings"):
                compare(listened(one), listened(other), NOTES * 1000)
        with self.assertRaisesRegex(NoAnswer, "at least 4 are needed"):
            compare(listened(one), listened(one), NOTES[:3] * 1000)

    def test_a_sound_without_edges_is_told_with_its_doubt(self):
        for kind in ("strings", "organ"):
            with self.subTest(kind):
                signal, begins = soft_take(kind, NOTES, late_ms=19.7, seed=1, rate=RATE, held=1.05, release_s=0.1)
                found = measure(HeldRecording(signal, RATE), distinct_moments(NOTES * RATE, RATE))
                self.assertLessEqual(found.confidence, 0.3)
                self.assertTrue(found.lateness_low <= float(np.median(begins - NOTES)) * 1000 <= found.lateness_high)
                self.assertTrue(any("they swell over" in told for told in found.warnings))
