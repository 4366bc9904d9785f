"""Which notes a recording answers, and the test pattern."""

import io

import mido
import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.drawing.soundings import PLOT_H, PLOT_W, hits_plot, overlay_plot
from hypotaxis.core.errors import SeveralCandidates, UnsupportedScore
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.timing.choose import measure_score, moments_of
from hypotaxis.core.timing.lateness import Listened, measure
from hypotaxis.core.timing.measurement import Overlay
from hypotaxis.core.timing.pattern import loop_signal, pattern_ms, pattern_score
from hypotaxis.core.timing.recording import HeldRecording
from hypotaxis.core.timing.report import one_line, report
from tests.core.timing.generated import Case, irregular, lay_down

TICK_S = 0.5 / 480


def part(name: str, track: int, channel: int, seconds: np.ndarray) -> ScorePart:
    notes = np.zeros(len(seconds), dtype=NOTE)
    notes["tick"] = np.rint(seconds / TICK_S)
    notes["duration"], notes["note"], notes["velocity"] = 10, 40, 90
    return ScorePart(name, channel, notes, no_controls(), track=track)


def listened(seconds: np.ndarray, kind: str = "drum") -> Listened:
    signal, _, _ = lay_down(Case(kind, notes=np.rint(seconds / TICK_S) * TICK_S))
    return Listened(HeldRecording(signal, 48000))


class ChooseTest(SimpleTestCase):
    def setUp(self):
        self.kit, self.bass = irregular(40, seed=5), irregular(40, seed=6)
        parts = (part("Kit", 2, 10, self.kit), part("Bass", 3, 1, self.bass))
        self.score = Score(TempoMap(), parts, 40_000)

    def test_the_track_that_was_recorded_is_found_and_named(self):
        answer = measure_score(listened(self.bass), self.score)
        self.assertEqual((answer.track, answer.channel), (3, None))
        self.assertIn("track 3 (Bass) did and was taken", answer.told)
        self.assertEqual(answer.lateness.matched, 40)

    def test_given_track_and_channel_mean_both(self):
        heard = listened(self.kit)
        self.assertEqual(measure_score(heard, self.score, track=2, channel=10).lateness.matched, 40)
        with self.assertRaisesRegex(UnsupportedScore, "no notes on track 2 and channel 1.*track 3, channel 1"):
            measure_score(heard, self.score, track=2, channel=1)

    def test_all_notes_together_when_all_were_recorded(self):
        both = np.sort(np.concatenate([self.kit, self.bass]))
        answer = measure_score(listened(both, "sharp"), self.score)
        self.assertIsNone(answer.track)
        # Two notes some 20 ms apart may be heard as one.
        self.assertGreaterEqual(answer.lateness.matched + answer.lateness.merged, len(both) - 2)

    def test_two_parts_that_fit_as_well_are_listed(self):
        twins = (part("One", 2, 1, self.kit), part("Two", 3, 2, self.kit + 0.0), part("Bass", 4, 3, self.bass))
        with self.assertRaisesRegex(SeveralCandidates, r"track 2 \(One\): --track 2; track 3 \(Two\): --track 3"):
            measure_score(listened(self.kit), Score(TempoMap(), twins, 40_000))

    def test_one_tick_is_one_moment(self):
        chord = Score(TempoMap(), (part("Kit", 1, 10, np.repeat(self.kit, 3)),), 40_000)
        self.assertEqual(len(moments_of(chord, chord.parts, 48000)), 40)

    def test_the_report_is_plain_data_without_nan(self):
        answer = measure_score(listened(self.kit), self.score, track=2)
        told = report(answer)
        self.assertEqual(told["notes"], told["matched"] + told["missed"] + told["merged"] + told["outside"])
        self.assertAlmostEqual(told["offset_samples"], told["offset_ms"] * 48, places=3)
        low, high = told["offset_ms_ci"]
        self.assertTrue(low < told["offset_ms"] < high)
        self.assertRegex(one_line(told), r"^type −14\.\d ms, −68\d samples: late by \+14\.\d\d ms \(±0\.\d\d\)")


class PatternTest(SimpleTestCase):
    def test_no_shift_in_the_range_fits_more_than_a_hit_or_two(self):
        at = pattern_ms(64)
        self.assertGreaterEqual(int(np.diff(at).min()), 300)
        for shift in range(13, 261):
            close = np.abs((at[:, None] + shift) - at[None, :]).min(axis=1) <= 12
            self.assertLessEqual(int(close.sum()), 2, shift)

    def test_the_score_plays_the_pattern(self):
        # mido's own playback times.
        file = mido.MidiFile(file=io.BytesIO(write_smf(pattern_score(note=38, channel=3))))
        now, times = 0.0, []
        for message in file:
            now += message.time
            if message.type == "note_on":
                times.append(now)
                self.assertEqual((message.note, message.channel), (38, 2))
        np.testing.assert_allclose(times, pattern_ms(64) / 1000, atol=1e-9)

    def test_the_loop_signal_comes_back_where_it_was_delayed_to(self):
        # Reference: an exact shift of the spectrum by a fraction of a sample.
        signal = loop_signal(48_000, hits=16)
        spectrum = np.fft.rfft(signal, 2 * len(signal))
        shift = np.exp(-2j * np.pi * np.arange(len(spectrum)) / (2 * len(signal)) * 571.37)
        delayed = np.fft.irfft(spectrum * shift)[: len(signal)].astype(np.float32)
        score = pattern_score(hits=16)
        found = measure(HeldRecording(delayed, 48_000), moments_of(score, score.parts, 48_000))
        self.assertTrue(found.impulses)
        self.assertAlmostEqual(found.samples, 571.37, delta=0.05)


class PlotTest(SimpleTestCase):
    def test_hits_stand_at_their_time_and_lateness(self):
        hits = [[48_000 * n, 48_000 * n + 480 + 4.8 * n, n != 3] for n in range(11)]
        plot = hits_plot(hits, 48_000, start_ms=10.0, end_ms=11.0, jitter_ms=0.2)
        self.assertEqual((plot.dots[0].x, plot.dots[10].x), (0.0, PLOT_W))
        self.assertLess(plot.dots[10].y, plot.dots[0].y)
        self.assertTrue(all(0 <= dot.y <= PLOT_H for dot in plot.dots))
        self.assertEqual([dot.number for dot in plot.dots if not dot.used], [3])
        self.assertEqual(plot.dots[3].spoken, "hit at 3.00 s: +10.30 ms, set aside")

    def test_of_very_many_hits_those_set_aside_are_all_drawn(self):
        hits = [[480 * n, 480 * n + 10, n % 1000 != 7] for n in range(9000)]
        plot = hits_plot(hits, 48_000, start_ms=0.2, end_ms=0.2, jitter_ms=0.0)
        self.assertLess(len(plot.dots), 1300)
        self.assertEqual(sum(not dot.used for dot in plot.dots), 9)

    def test_the_overlay_is_drawn_from_the_scores_moment(self):
        overlay = Overlay(-10.0, 50.0, ((0.0,) * 30 + (1.0,) * 30,))
        plot = overlay_plot(overlay, median_ms=20.0, jitter_ms=1.0)
        self.assertAlmostEqual(plot.score_x, PLOT_W / 6, places=2)
        self.assertAlmostEqual(plot.median_x, PLOT_W / 2, places=2)
        self.assertIn(("0"), [label for _, label in plot.marks])
