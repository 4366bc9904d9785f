"""The line check on the stand-in: planted mistakes, drawn at random, are told in the right class with the true cause
among the first three; sound desks raise no alarm. In small here; `python -m benchmarks.linecheck` does hundreds."""

from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import RoutingLoop
from hypotaxis.core.linecheck.hearing import LineHeard, hear_line, hum_hz
from hypotaxis.core.linecheck.lines import SLOT_S, lines_of, messages_of, probes_of, slots_of
from hypotaxis.core.linecheck.playing import play
from hypotaxis.core.linecheck.verdicts import AS_PLANNED, LOW, NOISY, SWAPPED, TWICE, verdicts
from hypotaxis.core.midi.messages import note_on
from hypotaxis.core.studio import Block, Message
from tests.core.linecheck.desks import checked, planted, sound_desk
from tests.rooms import small_room

RATE = 48_000


class DesksTest(SimpleTestCase):
    def test_planted_mistakes_are_told_with_their_cause(self):
        for seed in range(100, 116):
            rng = np.random.default_rng(seed)
            one = planted(rng, int(rng.integers(3, 8)))
            with self.subTest(seed=seed, planted=one.words):
                right = [found for found in checked(one) if not found.fine and found.kind in one.kinds]
                self.assertTrue(right)
                causes = [[cause.told for cause in found.causes] for found in right]
                self.assertTrue(any(one.words in told for mine in causes for told in mine[:3]), causes)
                if one.apart:
                    self.assertTrue(any(one.words in mine[0] for mine in causes), causes)

    def test_sound_desks_raise_no_alarm(self):
        for seed in range(6):
            rng = np.random.default_rng(seed)
            one = sound_desk(rng, int(rng.integers(3, 9)))
            with self.subTest(seed=seed):
                self.assertEqual({found.kind for found in checked(one)}, {AS_PLANNED})


class HearingTest(SimpleTestCase):
    def samples(self, *late_and_gain: tuple[float, float]) -> np.ndarray:
        """A decaying tone at each input, so many ms behind the note, over noise 80 dB down."""
        rng = np.random.default_rng(1)
        slot = rng.standard_normal((round(SLOT_S * RATE), len(late_and_gain))) * 1e-4
        time_s = np.arange(round(0.3 * RATE)) / RATE
        tone = np.exp(-time_s * 9) * np.sin(2 * np.pi * 220 * time_s) + 0.3 * rng.standard_normal(len(time_s)) * np.exp(
            -time_s * 40
        )
        for column, (late_ms, gain) in enumerate(late_and_gain):
            at = round((0.15 + late_ms / 1000) * RATE)
            slot[at : at + len(tone), column] += gain * tone
        return slot

    def test_what_rises_is_told_with_its_time_and_what_does_not_is_silent(self):
        found = hear_line(self.samples((12.0, 0.5), (0.0, 0.0)), RATE, round(0.15 * RATE), ["a", "b"])
        self.assertEqual(found.moved, ("a",))
        self.assertAlmostEqual(found.of("a").late_ms, 12.0, delta=0.5)
        self.assertIsNone(found.of("b").late_ms)

    def test_one_sound_on_two_ways_is_told_with_their_distance(self):
        found = hear_line(self.samples((10.0, 0.5), (17.5, 0.3)), RATE, round(0.15 * RATE), ["a", "b"])
        self.assertAlmostEqual(found.copied("a", "b"), -7.5, delta=0.05)
        plan = small_room()
        line = next(one for one in lines_of(plan) if one.name == "Bittern")
        extra = next(s.uid for box in plan.rig.boxes for s in box.sockets if s.label == "line in 7")
        both = hear_line(self.samples((10.0, 0.5), (17.5, 0.3)), RATE, round(0.15 * RATE), [line.inputs[0], extra])
        (found,) = verdicts(plan, {line: both})
        self.assertEqual(found.kind, TWICE)
        self.assertIn("7.5 ms later, on line in 7", found.told)

    def test_hum_is_told_by_its_mains_and_neither_noise_nor_a_low_note_is_hum(self):
        rng, time_s = np.random.default_rng(3), np.arange(round(0.15 * RATE)) / RATE
        for hz in (50, 60):
            for phase in (0.0, 1.0, 2.5):
                hum = sum(np.sin(2 * np.pi * hz * k * time_s + phase * k) / k for k in (1, 2, 3, 5))
                self.assertEqual(hum_hz(0.01 * hum + 0.002 * rng.standard_normal(len(time_s)), RATE), hz)
        self.assertEqual(hum_hz(rng.standard_normal(len(time_s)), RATE), 0)
        self.assertEqual(hum_hz(np.sin(2 * np.pi * 82.4 * time_s), RATE), 0, "a bass note rings on")
        self.assertEqual(hum_hz(np.zeros(len(time_s)), RATE), 0)

    def test_a_line_over_noise_hidden_by_it_or_too_low_is_told_as_such(self):
        plan = small_room()
        line = next(one for one in lines_of(plan) if one.name == "Bittern")
        uid, sound = line.inputs[0], self.samples((10.0, 0.5))
        hum = sum(np.sin(2 * np.pi * 50 * k * np.arange(len(sound)) / RATE) / k for k in (1, 2, 3))

        def told(samples, good=None):
            heard = hear_line(samples, RATE, round(0.15 * RATE), [uid])
            (found,) = verdicts(plan, {line: heard}, good={line.key: good} if good else None)
            return found

        self.assertEqual(told(sound).kind, AS_PLANNED)
        over = told(sound + 0.02 * hum[:, None])
        self.assertEqual(over.kind, NOISY)
        self.assertIn("hum at 50 Hz", over.told)
        hidden = told(0.1 * sound + 0.2 * hum[:, None])
        self.assertIn("Cannot be told", hidden.told)
        self.assertEqual(told(0.004 * sound).kind, LOW)
        good = hear_line(sound, RATE, round(0.15 * RATE), [uid])
        self.assertIn("14 dB below its last good check", told(0.2 * sound, good).told)

    def test_sides_that_changed_places_since_the_last_good_check_are_told_where_they_differ(self):
        plan = small_room()
        line = next(one for one in lines_of(plan) if len(one.inputs) == 2)

        def heard(left, right):
            return hear_line(self.samples((10.0, left), (10.0, right)), RATE, round(0.15 * RATE), list(line.inputs))

        def kind(now, good):
            (found,) = verdicts(plan, {line: now}, good={line.key: good})
            return found.kind

        self.assertEqual(kind(heard(0.2, 0.5), heard(0.5, 0.2)), SWAPPED)
        self.assertEqual(kind(heard(0.5, 0.2), heard(0.5, 0.2)), AS_PLANNED)
        self.assertEqual(kind(heard(0.5, 0.48), heard(0.48, 0.5)), AS_PLANNED)


class LinesTest(SimpleTestCase):
    def test_lines_and_their_slots(self):
        plan = small_room()
        lines = lines_of(plan, {plan.instruments[0].uid: 12.0})
        self.assertEqual([one.name for one in lines], ["Sedge upper", "Sedge lower", "Bittern", "Alder kit"])
        self.assertEqual((lines[0].late_ms, lines[1].late_ms, lines[2].channel), (12.0, None, 3))
        slots = slots_of(lines)
        self.assertEqual([round(one.begins_s / SLOT_S) for one in slots], [0, 1, 2, 3])
        self.assertEqual(len(messages_of(slots)), 8)
        probes = probes_of(lines[:1])
        self.assertEqual(sorted(one.channel for one in probes), list(range(2, 17)))


class ComingRoundTest(SimpleTestCase):
    """A studio in which what leaves comes in again."""

    def run_with(self, copies: int, note: int | None = None):
        plan = small_room()
        line = lines_of(plan)[0]
        closed = []

        def run(source, setup):
            try:
                came = tuple(Message(0, "Heron", note_on(1, note or line.note, 90)) for _ in range(copies))
                for start in range(0, setup.frames, 4800):
                    yield Block(start, np.zeros((4800, 1), np.float32), came if start == 4800 else ())
            finally:
                closed.append(True)

        studio = mock.Mock(sample_rate=RATE, run=run)
        try:
            return list(play(studio, slots_of([line]), [("a", "line in 1")])), closed
        except RoutingLoop as error:
            return str(error), closed

    def test_a_loop_in_the_routing_ends_it_at_once_and_says_where(self):
        told, closed = self.run_with(12)
        self.assertRegex(told, r"the note sent on .* came in by Heron 12 times\. It was stopped at once")
        self.assertEqual(closed, [True])

    def test_an_echo_or_somebody_who_plays_is_no_loop(self):
        for copies, note in ((1, None), (40, 99)):
            self.assertEqual(len(self.run_with(copies, note)[0]), 10)


class AskedTest(SimpleTestCase):
    """What is asked by wire and of the person, of a silent line."""

    def verdict(self, **known):
        plan = small_room()
        line = next(one for one in lines_of(plan) if not one.is_effect)
        (found,) = verdicts(plan, {line: LineHeard(())}, **{name: {line.key: one} for name, one in known.items()})
        return found

    def test_a_box_that_tells_who_it_is_gets_notes_so_its_way_home_is_looked_at(self):
        found = self.verdict(replied=True)
        self.assertIn("told who it is when it was asked", found.told)
        self.assertIn("The cable from", found.causes[0].told)
        self.assertEqual(found.question.key, "sounds")

    def test_a_box_that_does_not_answer_gets_none_or_is_off(self):
        found = self.verdict(replied=False)
        self.assertIn("did not answer who it is", found.told)
        self.assertIn("No note reaches", found.causes[0].told)
        self.assertEqual(found.question.key, "lamp")

    def test_answers_come_first_among_the_causes(self):
        found = self.verdict(told={"lamp": False})
        self.assertIsNone(found.question)
        self.assertIn("By your answers: Nothing leaves by", found.causes[0].told)
        self.assertEqual(len(found.causes), 3)
