"""Proofs on the stand-in's boxes, against the steps that they really played and the faults that they really have."""

import numpy as np
from django.test import SimpleTestCase

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.rig.change import with_cable
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message, RunSetup, Written
from hypotaxis.core.sync.course import Course, course_of_bars
from hypotaxis.core.sync.following import walk
from hypotaxis.core.sync.proof import Proof, prove
from hypotaxis.core.sync.sending import events
from hypotaxis.core.sync.values import Following, Sending
from hypotaxis.demo.compose import in_step, saltmarsh_room
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.units import FrontPanel
from tests.rooms import box_named, uid_of

RATE, LEAD = 48_000, 24_000
EVEN = TempoMap(480, ((0, 625_000),))
BOXES = {"Alder": ("out 5", 4, 10, ("line in 7", "line in 8")), "Withy": ("out 3", 3, 7, ("line in 4",))}
"""Socket that leads there, bars of its pattern, channel, where it comes home."""


class ProofTest(SimpleTestCase):
    def setUp(self):
        plan = in_step(saltmarsh_room())
        self.plan = with_cable(plan, uid_of(plan, "Sluice", "out"), uid_of(plan, "Quayside 18", "line in 4"))

    def run_it(self, name: str, wrap: str, *, tempo: TempoMap = EVEN, times: int = 3, **panel) -> Proof:
        """A proof over bars 3 to 8, begun at bar 1; desk, course and the recording are kept."""
        out, bars, channel, inputs = BOXES[name]
        box = box_named(self.plan, name)
        kept = {"pattern_bars": bars} | panel
        self.desk = Desk(self.plan.rig, {box.uid: FrontPanel((channel,), **kept)})
        self.course = course_of_bars(tempo, first_bar=3, bars=6, times=times, begin_bar=1)
        sending = Sending(wrap=wrap)
        port = self.named(out, "Junction 6", [one.system_name for one in self.desk.ports() if one.direction == "out"])
        messages = [Message(one.time_ns + 500_000_000, port, one.data) for one in events(self.course, sending)]
        frames = LEAD + round(int(self.course.ns(self.course.lasts)) * RATE / 1e9) + RATE
        ends = tuple(self.named(label, "Quayside 18", self.desk.inputs()) for label in inputs)
        blocks = self.desk.run(Written(messages), RunSetup(inputs=ends, frames=frames, fast=True))
        samples = np.concatenate([block.samples for block in blocks])
        following = Following(plays="pattern", length_ticks=96 * bars)
        predicted = walk(self.course, sending, following)
        return prove(samples, RATE, self.course, zero=float(LEAD), lasts=96 * bars, predicted=predicted)

    def named(self, label: str, box: str, offered) -> str:
        digits = box_named(self.plan, box).uid[:4]
        return next(one for one in offered if f": {label} [" in one and digits in one)

    def played(self, course: Course) -> np.ndarray:
        """How late each step really was heard, in samples; the kick has an input of its own."""
        unit = next(one for one in self.desk.units.values() if one.log)
        crystal = RATE * (1 + self.desk.nature.crystal_ppm / 1e6)
        heard = [one.begins_s * crystal + self.desk.delay_samples() - LEAD for one in unit.log if one.voice != "kick"]
        due = np.concatenate([course.ns(course.ticks(one)[0])[::6] for one in course.stretches]) * RATE / 1e9
        return np.array([one - due[np.searchsorted(due, one) - 1] for one in heard])

    def bars(self, found: Proof) -> list[tuple[float, float]]:
        return [(wrap.predicted / 96, wrap.measured / 96) for wrap in found.wraps]

    def test_steps_are_as_late_as_they_really_were(self):
        found = self.run_it("Alder", "position")
        late = self.played(self.course)
        self.assertAlmostEqual(found.lateness_ms * 48, float(np.median(late)), delta=1.0)
        self.assertAlmostEqual(found.jitter_ms * 48, float(np.std(late)), delta=3.0)
        self.assertEqual((self.bars(found), found.in_step, found.as_predicted), ([(0, 0), (0, 0)], True, True))
        self.assertTrue(all(wrap.sure for wrap in found.wraps))

    def test_the_tempo_is_followed_through_its_changes(self):
        tempo = TempoMap(480, ((0, 625_000), (480 * 12, 500_000), (480 * 18, 600_000)))
        found = self.run_it("Withy", "nothing", tempo=tempo)
        self.assertEqual(found.bpm, (96.0, 120.0))
        # Its sound rises slowly, so that it is heard a little behind its beginning.
        self.assertAlmostEqual(found.lateness_ms * 48, float(np.median(self.played(self.course))), delta=15)
        self.assertLess(found.jitter_ms, 0.6)
        self.assertTrue(found.in_step)

    def test_what_each_fault_makes_of_a_wrap(self):
        for name, wrap, panel, wanted in (
            ("Alder", "nothing", {}, [(2, 2), (0, 0)]),
            ("Withy", "start", {}, [(1, 1), (1, 1)]),
            ("Alder", "position", {"ignores": frozenset({"song position"})}, [(0, 2), (0, 0)]),
            ("Withy", "start", {"ignores": frozenset({"start while it runs"})}, [(1, 0), (1, 0)]),
            ("Alder", "position", {"ignores": frozenset({"continue"})}, None),
        ):
            with self.subTest(name=name, wrap=wrap, panel=panel):
                if wanted is None:
                    # It is silent from the first wrap on: nothing fits, and that is said.
                    found = self.run_it(name, wrap, **panel)
                    self.assertFalse(all(one.sure and one.as_predicted for one in found.wraps))
                else:
                    self.assertEqual(self.bars(self.run_it(name, wrap, **panel)), wanted)

    def test_a_box_that_loses_a_clock_at_the_start_is_a_clock_late(self):
        whole = self.run_it("Alder", "nothing", times=1).lateness_ms
        lost = self.run_it("Alder", "nothing", times=1, loses=True).lateness_ms
        self.assertAlmostEqual(lost - whole, 2500 / 96, delta=0.1)

    def test_where_nothing_is_heard_or_too_little_the_reason_is_told(self):
        with self.assertRaisesRegex(NoAnswer, "Nothing came back"):
            self.run_it("Alder", "nothing", pattern_bars=0)
        course = course_of_bars(EVEN, first_bar=1, bars=2, times=2)
        with self.assertRaisesRegex(NoAnswer, "shorter than the pattern"):
            prove(np.ones(RATE), RATE, course, zero=0.0, lasts=384, predicted=[0, 0])
