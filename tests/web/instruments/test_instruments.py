"""Defining an instrument and trying it."""

import io

import numpy as np
import soundfile
from django.urls import reverse

from hypotaxis.core.playing.tryout import TryOutWish
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.records import journal
from hypotaxis.records.models import FrontPanel, Job
from hypotaxis.steps.instruments.services import defining, trying
from tests.rooms import box_named
from tests.web.base import DemoTest


class DefiningTest(DemoTest):
    def form(self, **changes) -> dict:
        bittern = self.instrument("Bittern")
        fields = {
            "name": "Bittern",
            "box": bittern.box,
            "send": bittern.send,
            "channel": 3,
            "left": self.socket("Quayside 18", "line in 3"),
            "right": "",
            "home_trim_db": 0,
        }
        return fields | changes

    def edit(self, **changes):
        uid = self.instrument("Bittern").uid
        return self.client.post(reverse("instruments:edit", args=[uid]), self.form(**changes), follow=True)

    def test_a_new_instrument_is_filled_in_from_the_sheet(self):
        for name in ("Bittern", "Sedge upper", "Sedge lower"):
            defining.remove(self.rig, self.plan, self.instrument(name))
        proposal = defining.propose(self.plan, box_named(self.plan, "Bittern").uid)
        self.assertEqual(proposal.returns, (self.socket("Quayside 18", "line in 3"),))
        self.assertEqual((proposal.send, proposal.channel), (self.socket("Junction 6", "out 2"), 1))
        stereo = defining.propose(self.plan, box_named(self.plan, "Sedge").uid)
        self.assertEqual(stereo.returns, tuple(self.socket("Quayside 18", f"line in {n}") for n in (1, 2)))

    def test_doubly_used_and_missing_things_are_said_at_the_spot(self):
        answer = self.edit(channel=1, left="")
        self.assertContains(answer, "Channel 1 of Junction out 2 is used twice")
        self.assertContains(answer, "Sedge upper and Bittern listen there")
        self.assertContains(answer, "Bittern has no return")
        answer = self.edit(send="")
        self.assertContains(answer, "Bittern has no way out")
        answer = self.edit(left=self.socket("Quayside 18", "line in 1"))
        self.assertContains(answer, "Quayside 18 line in 1 brings Sedge, not Bittern")

    def test_bad_input_is_refused_with_its_reason_and_kept_in_the_form(self):
        line = self.socket("Quayside 18", "line in 3")
        refused = {
            "less than or equal to 16": {"channel": 17},
            "greater than or equal to 1": {"channel": 0},
            "Left and right are the same input": {"right": line},
            "A right side needs a left one": {"left": "", "right": line},
            "less than or equal to 24": {"home_trim_db": 40},
            "Choose the box that makes the sound": {"box": ""},
        }
        for reason, change in refused.items():
            with self.subTest(reason):
                answer = self.edit(name="A name just typed", **change)
                self.assertContains(answer, reason)
                self.assertContains(answer, 'value="A name just typed"')
        self.assertEqual(self.instrument("Bittern").channel, 3)

    def test_changing_and_removing_can_be_undone(self):
        before = self.plan
        self.edit(channel=5, home_trim_db=-3)
        self.assertEqual(self.instrument("Bittern").home_trim_db, -3)
        self.client.post(reverse("instruments:remove", args=[self.instrument("Bittern").uid]))
        self.assertEqual(len(self.plan.instruments), len(before.instruments) - 1)
        journal.undo(self.rig)
        journal.undo(self.rig)
        self.assertEqual(self.plan, before)


class TryOutTest(DemoTest):
    def try_out(self, name: str, **changes):
        form = {"note": 60, "velocity": 100, "length_s": 0.3, "fast": "on"} | changes
        answer = self.client.post(reverse("instruments:try", args=[self.instrument(name).uid]), form, follow=True)
        self.assertEqual(answer.status_code, 200)
        return answer, Job.objects.filter(kind="try-out").last()

    def test_message_activity_level_and_sound_are_there(self):
        answer, job = self.try_out("Sedge upper")
        self.assertEqual(job.state, Job.DONE)
        self.assertContains(answer, "90 3C 64")
        self.assertContains(answer, "It came home on line in 1–2.")
        moved = {row["name"]: row["moved"] for row in job.result["inputs"]}
        self.assertTrue(moved["line in 1"] and moved["line in 2"])
        self.assertFalse(moved["line in 3"])
        sound = self.client.get(reverse("instruments:sound", args=[job.uid]))
        samples, rate = soundfile.read(io.BytesIO(b"".join(sound.streaming_content)))
        self.assertEqual((rate, samples.shape[1]), (48000, 2))
        self.assertGreater(np.abs(samples).max(), 0.02)

    def test_where_it_stops_is_said_with_the_likely_cause(self):
        answer, _ = self.try_out("Withy")
        self.assertContains(answer, "Nothing came home on line in 4.")
        self.assertContains(answer, "On the sheet no cable brings Withy home")

    def test_the_two_boxes_that_are_set_otherwise_than_planned_are_found(self):
        # The demo's Withy receives on channel 7, and its Reedbed takes notes from USB only.
        self.plug_sluice()
        self.assertContains(self.try_out("Withy")[0], "Withy receives on another channel than 4")
        panel = reverse("front-panel", args=[box_named(self.plan, "Withy").uid])
        self.client.post(panel, {"channel_1": 4, "level_db": 0, "hears": "MIDI and USB"})
        self.assertContains(self.try_out("Withy")[0], "It came home on line in 4.")
        self.assertContains(self.try_out("Reedbed")[0], "in a mode that ignores MIDI")
        panel = reverse("front-panel", args=[box_named(self.plan, "Reedbed").uid])
        channels = {f"channel_{part}": part for part in range(1, 17)}
        self.client.post(panel, channels | {"level_db": 0, "hears": "MIDI"})
        self.assertContains(self.try_out("Reedbed")[0], "It came home on line in 5–6.")

    def test_a_box_that_plays_its_own_demo_proves_the_way_home(self):
        answer, _ = self.try_out("Withy", kind="demo")
        self.assertContains(answer, "No input moved.")
        bittern = self.plan.rig.box(self.instrument("Bittern").box)
        settings = FrontPanel.objects.get(box_uid=bittern.uid).settings | {"demo": True, "channels": [16]}
        FrontPanel.objects.filter(box_uid=bittern.uid).update(settings=settings)
        answer, job = self.try_out("Bittern", kind="demo")
        self.assertContains(answer, "its way home is whole")
        self.assertEqual((job.result["bytes"], job.result["home"]), ([], True))

    def test_an_input_turned_up_at_the_interface_comes_home_louder(self):
        before = self.try_out("Bittern")[1].result["inputs"]
        panel = reverse("front-panel", args=[box_named(self.plan, "Quayside 18").uid])
        self.assertContains(self.client.get(panel), "Gain of line in 3, dB")
        self.client.post(panel, {"gain_2": "-12"})
        after = self.try_out("Bittern")[1].result["inputs"]
        self.assertAlmostEqual(after[2]["peak"] - before[2]["peak"], -12, delta=1.5)

    def test_the_same_notes_are_heard_on_a_plain_sound(self):
        _, job = self.try_out("Sedge upper", note=69)
        answer = self.client.get(reverse("instruments:plain", args=[job.uid]))
        samples, rate = soundfile.read(io.BytesIO(answer.content))
        self.assertEqual((rate, samples.ndim, len(samples)), (48000, 1, round(0.8 * 48000)))

    def test_what_the_session_plays_is_looped(self):
        job = Job(kind="try-out", about=self.instrument("Bittern").uid)
        wish = TryOutWish(kind="pattern", session=str(self.session.uid))
        tryout = trying._planned(self.plan, self.instrument("Bittern"), wish)
        # Two bars of 4/4 at 96 BPM are 5 s; its track plays seven notes a bar.
        starts = [one.start_s for one in tryout.played]
        self.assertEqual((len(starts), starts[0]), (14 * 12, 0.0))
        self.assertAlmostEqual(starts[14], 5.0)
        trying.ask_to_reset(job)
        meter = InputMeter("", peak_db=-3.0, held_db=-3.0)
        trying._reset_where_asked(job, [meter])
        self.assertEqual(meter.held_db, -np.inf)
        self.assertFalse(Job.objects.filter(kind="meters").exists())

    def test_a_port_that_another_program_holds_is_said(self):
        panel = reverse("front-panel", args=[box_named(self.plan, "Junction 6").uid])
        self.client.post(panel, {"taken": ["out 2"]})
        self.assertIn("Junction out 2 is taken", self.page("rig:home"))
        self.assertContains(self.try_out("Bittern")[0], "Another program holds the MIDI output")

    def test_a_front_panel_set_otherwise_is_found_by_ear_not_by_the_plan(self):
        sedge = box_named(self.plan, "Sedge")
        panel = reverse("front-panel", args=[sedge.uid])
        self.client.post(panel, {"channel_1": 7, "channel_2": 2, "level_db": 0, "hears": "MIDI"})
        self.assertEqual(FrontPanel.objects.get(box_uid=sedge.uid).settings["channels"], [7, 2])
        self.assertContains(self.try_out("Sedge upper")[0], "receives on another channel than 1")
        self.assertNotIn("another channel", self.page("rig:home"))
        answer = self.client.post(panel, {"channel_1": 17, "channel_2": 2, "level_db": 0, "hears": "MIDI"})
        self.assertContains(answer, "less than or equal to 16")

    def test_bad_input_plays_nothing(self):
        jobs = Job.objects.count()
        uid = self.instrument("Sedge upper").uid
        answer = self.client.post(reverse("instruments:try", args=[uid]), {"note": 128, "velocity": 0, "length_s": 9})
        self.assertContains(answer, "less than or equal to 127")
        self.assertContains(answer, "greater than or equal to 1")
        self.assertEqual(Job.objects.count(), jobs)
