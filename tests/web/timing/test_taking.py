"""Soundings taken by the studio, against the hits that were really played."""

import importlib
from dataclasses import replace
from unittest import mock

import numpy as np
from django.apps import apps
from django.urls import reverse

from hypotaxis.core.errors import HypotaxisError, NoAnswer
from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.plain import from_json
from hypotaxis.core.rig.change import set_instrument, set_rig, set_sockets, with_cable
from hypotaxis.core.sync.values import Sending
from hypotaxis.core.timing import apart
from hypotaxis.core.timing.measurement import Read
from hypotaxis.records import jobs, journal
from hypotaxis.records.journal import change_plan
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import Job, Patch, Rig, Sounding
from hypotaxis.records.plan import load_plan
from hypotaxis.standin.desk import Desk
from hypotaxis.steps.rig.services import duplicate
from hypotaxis.steps.timing.services import sounding, taking
from hypotaxis.steps.timing.services.opened_trip import dependence
from tests.rooms import box_named
from tests.web.base import DemoTest


def measured_here(score, recording, *, progress=None, **wish):
    """As `measure_apart` answers, without a process of its own; that process is tested by itself (test_align)."""
    asked = {"score": str(score), "recording": str(recording), "track": None, "channel": None, "side": "auto"}
    asked["against"] = None
    try:
        answer = apart.read_and_measure(asked | wish, lambda share: None)
    except HypotaxisError as error:
        raise NoAnswer(str(error)) from error
    return apart.Measured(answer["report"], from_json(Read, answer["read"]))


class SoundingTest(DemoTest):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.enterClassContext(mock.patch.object(taking, "measure_apart", measured_here))


class TakingTest(SoundingTest):
    def sound(self, trip, **wish) -> tuple[Sounding, Desk]:
        """(the sounding, the desk it was taken on)."""
        desks = []
        original = Desk.run

        def run(desk, source, setup):
            if setup.inputs:
                desks.append(desk)
            return original(desk, source, setup)

        with mock.patch.object(Desk, "run", run):
            (row,) = taking.start(self.rig, self.plan, [trip], fast=True, **wish)
        row = Sounding.objects.select_related("job").get(uid=row.uid)
        self.assertEqual(row.job.state, Job.DONE, row.job.message)
        return row, desks[0]

    def test_an_instrument_is_sounded_and_what_was_really_played_is_found(self):
        row, desk = self.sound(taking.SoundedTrip(self.instrument("Bittern")), hits=32)
        found = row.measured
        late = np.array([desk.frame_of(h.begins_s) for h in desk.played()])
        moments = np.array([hit[0] for hit in row.hits])
        # The recording begins where the score does, half a second after the run.
        true = (late - 24_000 - moments) / 48
        self.assertEqual((found.matched, found.missed, found.extra), (32, 0, 0))
        self.assertAlmostEqual(found.lateness_ms, float(np.median(true)), delta=0.15)
        self.assertEqual((self.known().lateness_ms, self.known().source), (found.lateness_ms, "sounding"))

    def test_an_effect_loop_is_read_finer_than_a_sample(self):
        row, desk = self.sound(taking.SoundedTrip(loop=self.plan.loops[0]), hits=16)
        nature = desk.nature
        there_and_back = 2 * (nature.converter_samples + nature.driver_samples + 256) + 0.0013 * 48_000
        self.assertAlmostEqual(row.measured.samples, there_and_back, delta=0.1)
        self.assertTrue(row.measured.impulses)
        self.assertEqual(self.known(self.plan.loops[0].name).source, "sounding")

    def test_a_cable_straight_from_out_to_in_tells_the_interface_alone(self):
        out, into = self.socket("Quayside 18", "line out 4"), self.socket("Quayside 18", "line in 4")
        self.client.post(reverse("instruments:new-loop"), {
            "name": "Quayside alone", "box": "", "send_left": out, "left": into, "home_trim_db": "0"})  # fmt: skip
        straight = self.plan.loops[-1]
        self.assertIn("no cable leads from the one to the other", self.page("instruments:home"))
        rules = [finding.rule for finding in check(self.plan) if finding.about == straight.uid]
        self.assertEqual(rules, ["loop-out-open", "loop-home-shared"])
        change_plan(self.rig, "straight", self.plan, with_cable(self.plan, out, into))
        self.assertIn("comes straight home on", self.page("instruments:home"))
        row, desk = self.sound(taking.SoundedTrip(loop=straight), hits=16)
        nature = desk.nature
        both_ways = 2 * (nature.converter_samples + nature.driver_samples + 256)
        self.assertAlmostEqual(row.measured.samples, both_ways, delta=0.1)
        self.assertIn("line out 4 to line in 4", self.page("timing:home"))

    def test_a_percussive_sound_is_called_up_and_the_other_one_comes_back(self):
        sedge = self.instrument("Sedge upper")
        pad, pluck = (Patch.objects.get(name=name) for name in ("Wide water", "Reed pluck"))
        self.client.post(reverse("instruments:pick", args=[sedge.uid]), {"patch": pad.uid})
        with mock.patch.object(Desk, "run", autospec=True, side_effect=Desk.run) as runs:
            trip = taking.SoundedTrip(self.instrument("Sedge upper"))
            taking.start(self.rig, self.plan, [trip], fast=True, hits=16, patch=str(pluck.uid))
        programs = [
            [message.data[1] for message in call.args[1].written if message.data[0] == 0xC0]
            for call in runs.call_args_list
        ]
        self.assertEqual((programs[0], programs[-1]), ([pluck.program], [pad.program]))
        self.assertEqual(Sounding.objects.get().measured.matched, 16)
        known = known_latenesses(self.plan)[sedge.uid]
        self.assertEqual((known.source, known.stale), ("sounding", ()))
        self.client.post(reverse("instruments:pick", args=[sedge.uid]), {"patch": pluck.uid})
        self.assertEqual(known_latenesses(self.plan)[sedge.uid].stale, ("patch",))

    def test_clock_that_always_runs_goes_on_meanwhile(self):
        port = self.socket("Junction 6", "out 5")
        always = set_sockets(self.plan, {port: {"sending": Sending(always=True)}})
        change_plan(self.rig, "always", self.plan, always)
        row, desk = self.sound(taking.SoundedTrip(self.instrument("Bittern")), hits=16)
        self.assertEqual(row.job.state, Job.DONE)
        alder = desk.units[box_named(self.plan, "Alder").uid]
        self.assertAlmostEqual(alder.display_bpm, 96.0, delta=0.1)

    def test_a_further_part_and_a_further_return_are_sounded_by_themselves(self):
        upper = self.instrument("Sedge upper")
        part = {"name": "high", "channel": "2", "send": "", "low": "0", "high": "127", "transpose": "0"}
        self.client.post(reverse("instruments:new-part", args=[upper.uid]), part | {"curve": "as played"})
        key = f"{upper.uid}/{self.instrument('Sedge upper').parts[0].uid}"
        self.assertIn(f'value="{key}"', self.page("timing:home"))
        form = {"test": "hits", "hits": 16, "velocity": 110, "fast": "on"}
        self.client.post(reverse("timing:take"), form | {"trip": key})
        row = Sounding.objects.get()
        self.assertEqual((row.name, row.measured.matched), ("Sedge upper, high", 16))
        self.assertIsNone(self.known("Sedge upper").lateness_ms, "the first part is not known yet")
        self.assertIn("high, single hits", self.page("timing:trip", upper.uid))
        answer = self.client.post(reverse("timing:take"), form | {"trip": f"{upper.uid}/none"})
        self.assertEqual(answer.status_code, 404)

    def test_what_is_stopped_leaves_nothing_behind(self):
        with mock.patch.object(jobs.Reporter, "report", side_effect=jobs.Cancelled):
            taking.start(self.rig, self.plan, [taking.SoundedTrip(self.instrument("Bittern"))], fast=True)
        self.assertFalse(Sounding.objects.exists())
        self.assertEqual(Job.objects.get().state, Job.CANCELLED)

    def test_a_chord_tells_the_time_for_each_note_and_the_wires_share(self):
        row, desk = self.sound(taking.SoundedTrip(self.instrument("Sedge upper")), hits=64, test="chord", note=72)
        unit = desk.units[self.instrument("Sedge upper").box]
        told = dependence(self.plan, row, known_latenesses(self.plan))
        self.assertEqual([group[0] for group in told.groups], ["0", "1", "2", "3", "4", "5"])
        slope = float(told.told.split("before it costs ")[1].split(" ")[0])
        self.assertAlmostEqual(slope, 0.96 + unit.hidden.per_note_ms, delta=0.12)
        self.assertIn("0.96 ms of it on the wire", told.told)
        self.assertIsNone(self.known("Sedge upper").lateness_ms, "it is no measure of single notes")

    def test_what_a_clock_drives_is_measured_against_the_clock(self):
        sedge = self.instrument("Sedge upper")
        held = taking.SoundedTrip(sedge)
        taking.start(self.rig, self.plan, [held], fast=True, hits=16, test="clock")
        self.assertIn("arpeggiator or pattern on", Job.objects.last().message)
        Sounding.objects.all().delete()
        panel = {"channel_1": 1, "channel_2": 2, "level_db": 0, "hears": "MIDI and USB", "steps": "on"}
        self.client.post(reverse("front-panel", args=[sedge.box]), panel)
        row, desk = self.sound(held, hits=16, test="clock")
        played, moments = desk.played(), np.array([hit[0] for hit in row.hits])
        self.assertEqual((len(played), row.measured.matched), (16, 16), "one step a sixteenth, until stop")
        true = np.array([desk.frame_of(hit.begins_s) for hit in played]) - 24_000 - moments
        self.assertAlmostEqual(row.measured.lateness_ms, float(np.median(true)) / 48, delta=0.15)
        self.assertIsNone(self.known("Sedge upper").lateness_ms, "it is not the lateness of played notes")
        self.assertIn("Driven by clock it comes home", self.page("timing:open", row.uid))

    def test_a_sounding_that_clips_says_so(self):
        quayside = next(box for box in self.plan.rig.boxes if box.name == "Quayside 18")
        self.client.post(reverse("front-panel", args=[quayside.uid]), {"gain_2": "30"})
        row, _ = self.sound(taking.SoundedTrip(self.instrument("Bittern")), hits=16)
        self.assertTrue(row.measured.clipped)
        self.assertIn("The recording clipped.", self.page("timing:open", row.uid))

    def test_a_trip_that_cannot_be_sounded_is_refused_with_the_reason(self):
        self.client.post(reverse("instruments:remove", args=[self.instrument("Alder kit").uid]))
        kick = self.instrument("Alder kick")
        form = {"trip": kick.uid, "test": "hits", "hits": 16, "velocity": 0}
        self.assertContains(self.client.post(reverse("timing:take"), form), "greater than or equal to 1")
        change_plan(self.rig, "open", self.plan, set_instrument(self.plan, kick.uid, returns=()))
        answer = self.client.post(reverse("timing:take"), form | {"velocity": 100}, follow=True)
        self.assertContains(answer, "Alder kick has no return")
        self.assertFalse(Sounding.objects.exists())

    def test_all_in_a_row_and_silence_is_told_at_its_line(self):
        form = {"trip": self.instrument("Bittern").uid, "test": "hits", "hits": 16, "velocity": 110, "fast": "on"}
        self.client.post(reverse("timing:take"), form | {"all": "1"})
        states = {row.name: row.job.state for row in Sounding.objects.select_related("job")}
        self.assertEqual((len(states), states["Bittern"], states["Reedbed"]), (8, Job.DONE, Job.FAILED))
        page = self.page("timing:home")
        self.assertIn("The last sounding has no answer.", page)
        self.assertIn("the recording is silent", page)


class StaleTest(SoundingTest):
    def sound(self, name="Bittern"):
        taking.start(self.rig, self.plan, [taking.SoundedTrip(self.instrument(name))], fast=True, hits=16)

    def set_rig(self, **fields):
        change_plan(Rig.objects.get(uid=self.rig.uid), "settings", self.plan, set_rig(self.plan, **fields))

    def test_another_buffer_makes_it_stale_until_two_are_known_then_it_is_predicted(self):
        self.sound()
        at_256 = self.known().lateness_ms
        self.assertEqual((self.known().source, self.known().stale), ("sounding", ()))
        self.set_rig(buffer=512)
        self.assertEqual((self.known().stale, self.known().source), (("buffer 256, now 512",), "sounding"))
        page = self.page("timing:home")
        self.assertIn("buffer 256, now 512", page)
        self.assertIn("1 of 7 measured, 1 stale", page)
        self.sound()
        # One buffer on the way home: 256 samples at 48 kHz are 5.333 ms.
        self.assertAlmostEqual(self.known().lateness_ms - at_256, 5.333, delta=0.25)
        self.set_rig(buffer=128)
        known = self.known()
        self.assertEqual((known.source, known.stale), ("predicted", ("buffer 512, now 128",)))
        self.assertAlmostEqual(known.lateness_ms, at_256 - 128 / 48, delta=0.25)
        page = self.page("timing:trip", self.instrument("Bittern").uid)
        self.assertIn("what the model predicts stands for it until it is sounded again", page)
        self.assertIn("Lateness follows the buffer by", page)
        self.set_rig(sample_rate=96_000)
        self.assertEqual(self.known().source, "sounding", "the rate's share is not known")

    def test_a_take_is_stale_too_and_its_own_choice_of_sound_is_remembered(self):
        self.record("Bittern")
        self.assertEqual((self.known().source, self.known().stale), ("take", ()))
        self.set_rig(driver="another")
        self.assertEqual(self.known().stale, ("kind of driver not noted, now another",))
        bittern = taking.SoundedTrip(self.instrument("Bittern"))
        taking.start(self.rig, self.plan, [bittern], fast=True, hits=16, note=48, velocity=90)
        self.assertEqual(taking.last_wish(self.rig, bittern), {"note": 48, "velocity": 90, "patch": ""})
        self.assertIn('value="48"', self.page("timing:trip", self.instrument("Bittern").uid))
        form = {"trip": "", "test": "hits", "hits": 16, "velocity": 110, "fast": "on", "all": "1"}
        self.client.post(reverse("timing:take"), form)
        newest = Sounding.objects.filter(instrument_uid=self.instrument("Bittern").uid).first()
        self.assertEqual((newest.asked.note, newest.asked.velocity), (48, 90))

    def test_a_sounding_that_is_not_sure_says_so_and_changes_nothing(self):
        measure = taking.measure_apart

        def unsure(*given, **named):
            found = measure(*given, **named)
            unsure = replace(found.read.measurement, confidence=0.4)
            return replace(found, read=replace(found.read, measurement=unsure))

        with mock.patch.object(taking, "measure_apart", unsure):
            self.sound()
        self.assertEqual(self.known().source, "")
        self.assertIn("not sure enough to count", self.page("timing:home"))

    def test_a_copy_of_the_rig_keeps_the_number_without_its_sounding(self):
        self.sound()
        measured = self.known().lateness_ms
        copy = duplicate(self.plan, "North room")
        plan = load_plan(copy)
        bittern = next(one for one in plan.instruments if one.name == "Bittern")
        known = known_latenesses(plan)[bittern.uid]
        self.assertEqual((known.source, known.lateness_ms), ("kept", round(measured, 3)))

    def test_a_typed_value_stands_until_it_is_emptied(self):
        self.sound()
        measured = self.known().lateness_ms
        address = reverse("timing:typed", args=[self.instrument("Bittern").uid])
        self.assertContains(self.client.post(address, {"lateness_ms": "soon"}), "Enter a number")
        self.client.post(address, {"lateness_ms": "11.5"})
        self.assertEqual((self.known().lateness_ms, self.known().source), (11.5, "typed"))
        self.assertIn("+11.5", self.page("timing:home"))
        self.client.post(address, {"lateness_ms": ""})
        self.assertEqual((self.known().source, self.known().lateness_ms), ("sounding", measured))

    def test_measuring_touches_neither_what_was_typed_nor_the_journal(self):
        change_plan(self.rig, "a name", self.plan, set_rig(self.plan, name="North room"))
        change_plan(self.rig, "another", self.plan, set_rig(self.plan, name="South room"))
        journal.undo(self.rig)
        sounding.type_lateness(self.rig, self.plan, self.instrument("Bittern"), 11.5)
        journal.undo(self.rig)
        titles = list(self.rig.changes.values_list("title", "undone"))
        rows = list(Rig.objects.values()), list(self.rig.instruments.values())
        self.sound()
        self.record("Bittern")
        self.assertEqual(list(self.rig.changes.values_list("title", "undone")), titles)
        self.assertEqual((list(Rig.objects.values()), list(self.rig.instruments.values())), rows)
        journal.redo(self.rig)
        self.sound()
        self.assertEqual((self.known().lateness_ms, self.known().source), (11.5, "typed"))

    def test_steps_of_the_journal_that_were_measurements_are_no_steps(self):
        migration = importlib.import_module("hypotaxis.records.migrations.0019_given")
        row = self.rig.instruments.get(name="Bittern")
        measured = {"lateness_ms": 9.0, "lateness_from": "sounding"}
        none = {"lateness_ms": None, "lateness_from": ""}
        typed = {"lateness_ms": 11.5, "lateness_from": "typed"}
        kind = {"kind": "instrument", "uid": str(row.uid)}
        steps = {"measured": (none, measured), "typed": (none, typed), "defined": (None, {"name": "x"} | none)}
        for title, (before, after) in steps.items():
            self.rig.changes.create(title=title, edits=[kind | {"before": before, "after": after}])
        migration.journal_without_measurements(apps, None)
        kept = {change.title: change.edits[0]["after"] for change in self.rig.changes.all()}
        self.assertEqual(kept["typed"], {"given_ms": 11.5, "given_from": "typed"})
        self.assertEqual(kept["defined"], {"name": "x", "given_ms": None, "given_from": ""})
        self.assertNotIn("measured", kept)

    def test_a_trip_without_its_own_borrows_visibly(self):
        self.sound("Sedge upper")
        lower = self.known("Sedge lower")
        self.assertEqual((lower.source, lower.lender), ("borrowed", "Sedge upper"))
        self.assertIn("as Sedge upper", self.page("timing:home"))
        self.assertEqual(self.known("Bittern").source, "")

    def test_soundings_are_compared_and_the_legs_are_told(self):
        self.sound()
        self.sound()
        page = self.page("timing:trip", self.instrument("Bittern").uid)
        for words in ("2 soundings agree within", "left by the measurement", "direct monitoring", "thru of Sedge"):
            self.assertIn(words, page)


class WiresPageTest(DemoTest):
    def test_each_wire_tells_its_waits_and_an_opened_one_what_would_help(self):
        wire = self.socket("Junction 6", "out 2")
        page = self.page("timing:wires", wire=wire, limit="1")
        # Sedge's chords leave ahead of each other: three notes of 0.96 ms, Bittern's before them, and a clock between.
        for words in (
            "Junction out 2",
            "4.16",
            "Sedge on a wire of its own",
            "Plug Sedge into Junction out 1",
            "of 264",
        ):
            self.assertIn(words, page)
        self.assertIn("of 282", page)
        self.assertIn('value="3"', self.page("timing:wires", limit="nonsense"))

    def test_without_notes_it_says_what_to_do(self):
        self.session.delete()
        self.assertIn("No note goes over a DIN wire yet", self.page("timing:wires"))
        self.assertIn("expected about", self.page("timing:home"))
