"""How a pass is recorded: counted in, begun by a note, until it is stopped, with a click beside it."""

from dataclasses import replace
from unittest import mock

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.mixing.desk import Mixing
from hypotaxis.core.plan import Loop
from hypotaxis.core.studio import WITH_A_NOTE
from hypotaxis.records import audio
from hypotaxis.records.jobs import Cancelled
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import NO_NOTES, Job, Session, Take, Track
from hypotaxis.standin.run import Run
from hypotaxis.steps.rig.services import connect
from hypotaxis.steps.session.services import recording
from hypotaxis.steps.session.services.recording import heard_beside, start_pass
from tests.web.base import DemoTest


class OptionsTest(DemoTest):
    def take_pass(self, *names: str, first_bar: int = 1, last_bar: int = 2, **how):
        self.arm(*names)
        bars = {"first_bar": first_bar, "last_bar": last_bar}
        run = start_pass(self.session, self.plan, **bars, fast=True, place_takes=True, **how)
        run.refresh_from_db()
        return run

    def outputs(self) -> None:
        pair = tuple(self.socket("Quayside 18", f"line out {number}") for number in (1, 2))
        Session.objects.update(mix=to_json(Mixing(outputs=pair)))

    def stops_after(self, seconds: float):
        """The person stops a pass when so much of it has come."""
        real = Run.blocks

        def blocks(run):
            for block in real(run):
                yield block
                if block.start > seconds * run.rate:
                    Job.objects.filter(state=Job.RUNNING).update(cancel=True)
                    raise Cancelled

        return mock.patch.object(Run, "blocks", blocks)


class CountInTest(OptionsTest):
    def test_it_clicks_before_the_first_bar_and_the_take_is_as_without(self):
        with self.assertRaisesRegex(CannotSchedule, "Choose on “Heard together” the outputs"):
            self.take_pass("Bittern", count_in=2)
        self.outputs()
        plain = self.take_pass("Bittern").frozen
        run = self.take_pass("Bittern", first_bar=2, last_bar=3, count_in=2)
        setup = run.frozen
        counted = round(2 * 2.5 * 48_000)
        self.assertEqual((setup.frames, setup.every_round[0].start), (plain.frames + counted, counted))
        take = run.takes.get()
        # The take begins half a second before bar 2, as any, and holds nothing of the count-in.
        self.assertEqual((take.first_sample, take.frames), (120_000 - 24_000, plain.frames))
        self.assertAlmostEqual(take.measured.lateness_ms, Take.objects.first().measured.lateness_ms, delta=1.0)
        sounds, _ = heard_beside(run, setup)
        left = np.abs(sounds[setup.beside.outputs[0]](0, setup.frames))
        edges = np.flatnonzero((left[1:] > 0.02) & (left[:-1] == 0)) + 1
        beats = 24_000 + np.arange(8) * 30_000
        self.assertEqual(
            [int(edge) for edge in edges if edge in beats], beats.tolist(), "two bars of four, and no more"
        )
        self.assertEqual(float(left[24_000 + 8 * 30_000 :].max()), 0.0)
        self.assertContains(self.client.get("/session/"), "How it is recorded")


class UntilStopTest(OptionsTest):
    def test_it_goes_on_behind_its_last_bar_and_ends_with_the_bar_that_was_reached(self):
        with self.stops_after(9.0):
            run = self.take_pass("Bittern", last_bar=1, until_stop=True)
        take = run.takes.get()
        self.assertEqual((run.last_bar, take.complete), (4, True))
        self.assertEqual(take.bars, (1, 4))
        with self.assertRaisesRegex(CannotSchedule, "A loop that goes on until you stop has 0 times."):
            self.take_pass("Bittern", until_stop=True, times=3)

    def test_what_breaks_off_is_finished_from_its_bar(self):
        with self.stops_after(9.0):
            run = self.take_pass("Bittern", last_bar=8)
        self.assertFalse(run.takes.get().complete)
        page = self.page("session:home")
        self.assertIn("Pass 1 breaks off in bar 4; what came is kept.", page)
        self.assertIn('href="?first_bar=4&last_bar=8"', page)
        self.assertEqual(
            self.client.get("/session/?first_bar=4&last_bar=8").context["pass_form"].initial["first_bar"], "4"
        )
        self.take_pass("Bittern", first_bar=4, last_bar=8)
        self.assertNotIn("breaks off", self.page("session:home"))
        sound = recording.standing_of(self.session, str(self.track("Bittern").uid))
        self.assertEqual([(one.first_bar, one.last_bar) for one in sound.stretches], [(1, 3), (4, 8)])

    def test_a_first_note_begins_it(self):
        run = self.take_pass("Bittern", led=WITH_A_NOTE)
        self.assertEqual(run.frozen.begins, WITH_A_NOTE)
        # Nobody plays at the stand-in's keyboard.
        self.assertIn("The run waits for what is played, and nobody plays.", run.job.message)
        run.job.state, run.job.progress = Job.RUNNING, 0.0
        run.job.save()
        self.assertIn("waits for your first note", self.page("session:running", run.uid))


class ReferenceTest(OptionsTest):
    """A cable from line out 7 straight into line in 4 brings a click home beside what is improvised."""

    def setUp(self):
        super().setUp()
        out, home = self.socket("Quayside 18", "line out 7"), self.socket("Quayside 18", "line in 4")
        connect(self.rig, self.plan, out, home)
        plan = self.plan
        self.cable = Loop(
            uid="3f2504e0-4f89-41d3-9a0c-0305e82c3301", name="Click cable", box="", sends=(out,), returns=(home,)
        )
        change_plan(self.rig, "A cable for the click", plan, replace(plan, loops=(*plan.loops, self.cable)))

    def test_what_has_no_notes_stands_as_its_player_heard_the_click(self):
        self.take_pass("Bittern", last_bar=4)
        plain = Take.objects.get()
        Track.objects.filter(name="Bittern").update(notes=b"")
        run = self.take_pass("Bittern", last_bar=4, reference=self.cable.uid)
        click, take = run.takes.get(beside=True), run.takes.get(beside=False)
        self.assertEqual(click.title, "Bittern, Click cable")
        self.assertEqual((take.unmeasured, take.borrowed), (NO_NOTES, f"take {click.number}, the click beside it"))
        self.assertEqual(click.measured.looked_for, 16)
        self.assertEqual(take.placement, click.placement)
        # The click is at its beat, to the sample.
        sound = audio.read_frames(click.file, 0, click.frames)[:, 0]
        at = 30_000 - click.start
        self.assertGreater(abs(sound[at : at + 48]).max(), 0.05)
        self.assertLess(abs(sound[at - 480 : at - 2]).max(), 0.01)
        self.assertNotEqual(plain.placement, take.placement, "it says nothing of the way out of notes")

    def test_without_one_it_stays_where_it_arrived(self):
        Track.objects.filter(name="Bittern").update(notes=b"")
        take = self.take_pass("Bittern").takes.get()
        self.assertEqual((take.placement, take.unmeasured), (None, NO_NOTES))
        self.assertFalse(take.doubtful)

    def test_an_input_that_is_recorded_takes_no_click_besides(self):
        taken = replace(self.cable, returns=self.instrument("Bittern").returns)
        plan = self.plan
        loops = tuple(taken if one.uid == taken.uid else one for one in plan.loops)
        change_plan(self.rig, "Elsewhere", plan, replace(plan, loops=loops))
        with self.assertRaisesRegex(CannotSchedule, "The click comes home on line in 3, and so does what is recorded."):
            self.take_pass("Bittern", reference=self.cable.uid)
        with self.assertRaisesRegex(CannotSchedule, "The cable for the click beside it is gone."):
            self.take_pass("Bittern", reference="gone")
