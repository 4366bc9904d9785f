"""From the choice of JACK to a placed take, in the application, with a box whose truth is known."""

import os
import signal
import threading
from pathlib import Path
from unittest import mock

from django.urls import reverse

from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.rigfile import write_rig_file
from hypotaxis.core.midi.messages import NOTE_ON
from hypotaxis.core.studio import EchoRule, KeptOut, Message, RunSetup, Written
from hypotaxis.devices.studio import DeviceStudio
from hypotaxis.records import journal
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import EndName, Job, Rig, Studio
from hypotaxis.records.plan import load_kept
from hypotaxis.records.studio import choose, look_again, look_round, studio_for
from hypotaxis.steps.rig.listening import heard_of
from hypotaxis.steps.session.services.recording import start_pass
from hypotaxis.web import studio_startup
from hypotaxis.web.stand import keys
from tests.devices.desk import PATIENCE_S, PERIOD, RATE, Truth, a_desk
from tests.devices.test_jack import CLICKS, KEYS, NOTES, PLAY_A_KEY
from tests.devices.truth import REACTION
from tests.web.base import DemoTest


class OnJack(DemoTest):
    """The demo with a JACK server beside it."""

    sync = True

    @classmethod
    def setUpClass(cls):
        # First, since a class that fails behind the database's beginning takes the others along.
        cls.server, cls.truth, cls.process = cls.enterClassContext(a_desk(sync=cls.sync))
        super().setUpClass()
        cls.addClassCleanup(setattr, studio_startup, "_devices", None)

    def setUp(self):
        studio_startup._devices = self.process

    def use_jack(self, server: str | None = None):
        form = {"kind": "jack", "server": server or self.server.name}
        return self.client.post(reverse("rig:choose-studio"), form, follow=True)

    def match_bittern(self):
        """Bittern's port and return are the truth's."""
        here = self.plan
        send = here.rig.find(self.instrument("Bittern").send)[1]
        ports = self.client.get(reverse("rig:ports")).context["form"]
        form = {name: ports[name].value() or "" for name in ports.fields} | {f"match_{send.uid}": NOTES}
        self.client.post(reverse("rig:ports"), form)
        ends = self.client.get(reverse("rig:inputs")).context["form"]
        form = {name: ends[name].value() or "" for name in ends.fields}
        self.client.post(reverse("rig:inputs"), form | {f"match_{self.socket('Quayside 18', 'line in 3')}": CLICKS})

    def run_pass(self, *, fast: bool = True):
        track = self.session.tracks.get(name="Bittern")
        self.session.tracks.update(armed=False)
        self.session.tracks.filter(uid=track.uid).update(armed=True)
        run = start_pass(self.session, self.plan, first_bar=1, last_bar=8, fast=fast, place_takes=True)
        run.refresh_from_db()
        run.job.refresh_from_db()
        return run


class StudioTest(OnJack):
    def test_it_is_chosen_for_the_computer_and_says_what_it_offers(self):
        self.assertIn("simulated boxes", self.page("rig:studio"))
        page = self.client.get(reverse("rig:home"))
        self.assertContains(page, "<b>stand-in</b>")
        self.use_jack()
        sheet = self.page("rig:studio")
        for words in (f"server “{self.server.name}”, running", "No real-time rights", CLICKS, "system:playback_8"):
            self.assertIn(words, sheet)
        self.assertIn("<b>JACK</b>", self.page("session:home"))
        for step in ("session:home", "timing:home"):
            self.assertNotIn("tand-in only", self.page(step))
        choose("stand-in")
        self.assertIn("stand-in only", self.page("session:home"))

    def test_everything_is_listened_to_with_a_test_note(self):
        self.use_jack()
        with mock.patch("hypotaxis.steps.rig.listening.LISTEN_S", 1.2):
            self.client.post(reverse("rig:listen"), {"note": NOTES})
        heard = heard_of(Job.objects.filter(kind="listening").last())
        peaks = {one.name: one.peak for one in heard.inputs}
        self.assertAlmostEqual(peaks[CLICKS], -6.0, delta=0.1)
        self.assertEqual(peaks["system:capture_1"], -120.0)
        self.assertIn("−6.0", self.page("rig:studio"))
        self.client.post(reverse("rig:listen"), {"note": "nowhere"})
        self.assertIn("does not report a MIDI output “nowhere”", self.page("rig:studio"))

    def test_the_tempo_of_a_leader_is_told_as_it_arrives(self):
        self.use_jack()
        # A clock every 1,000 frames at 48 kHz is 120 BPM.
        clocks = [Message(round((4_800 + 1_000 * number) * 1e9 / RATE), NOTES, b"\xf8") for number in range(60)]
        with (
            mock.patch("hypotaxis.steps.rig.listening.LISTEN_S", 1.6),
            mock.patch("hypotaxis.steps.rig.listening.test_signals", return_value=Written(clocks)),
        ):
            self.client.post(reverse("rig:listen"), {})
        heard = heard_of(Job.objects.filter(kind="listening").last())
        self.assertEqual([port for port, _ in heard.tempos], [KEYS])
        self.assertIn("120.00 BPM (±0.00)", heard.tempos[0][1])
        self.assertIn("clock: 120.00 BPM", self.page("rig:studio"))

    def test_panic_is_there_for_real_devices_alone_and_says_what_it_did(self):
        self.assertNotIn("Panic", self.page("session:home"))
        self.use_jack()
        self.assertIn("Panic", self.page("session:home"))
        with mock.patch.object(studio_startup, "PANIC_AT", Path(studio_startup._devices.panic)):
            answer = self.client.post(reverse("panic"), {"next": reverse("session:home")}, follow=True)
        self.assertIn("All notes are off", self.told(answer))
        self.assertEqual(answer.redirect_chain, [(reverse("session:home"), 302)])
        self.assertIn("What played is ended", self.told(self.client.post(reverse("panic"), follow=True)))

    def test_a_key_of_the_stand_view_presses_and_neither_sounds_nor_is_recorded(self):
        self.use_jack()
        keys.keep("record", KeptOut(KEYS, NOTE_ON, 1, 60))
        pressed = threading.Event()
        rule = EchoRule(KEYS, tuple(range(1, 17)), NOTES, 3)
        with (
            mock.patch.object(keys, "act", lambda name: pressed.set()),
            mock.patch.object(keys, "close_old_connections"),
            studio_for(self.plan) as studio,
        ):
            asked = RunSetup(inputs=(CLICKS,), frames=9_600, echo=(rule,))
            blocks = list(studio.run(Written([Message(0, NOTES, PLAY_A_KEY)]), asked))
            self.assertTrue(pressed.wait(PATIENCE_S))
        self.assertEqual([one for block in blocks for one in (*block.received, *block.sent)], [])

    def test_a_server_that_does_not_answer_says_so(self):
        self.use_jack("nobody")
        studio_startup._devices = None
        self.assertIn("No JACK server “nobody” answers", self.page("rig:studio"))
        self.assertIsNone(Studio.objects.get().reported)

    def test_names_of_real_devices_are_this_computers_and_leave_the_rig_as_it_is(self):
        kept = write_rig_file(load_kept(self.rig))
        self.use_jack()
        titles = [finding.title for finding in check(self.plan_now())]
        self.assertIn("line in 1–8, mic 1, line out 3 and mic 2 of Quayside 18 have no counterpart", titles)
        self.match_bittern()
        self.assertEqual(EndName.objects.exclude(name="").count(), 2)
        self.assertEqual(write_rig_file(load_kept(self.rig)), kept)
        self.assertIsNone(journal.last_done(self.rig))
        twice = {f"match_{self.socket('Quayside 18', f'line in {number}')}": CLICKS for number in (1, 2)}
        self.assertContains(self.client.post(reverse("rig:inputs"), twice), "is matched to line in 1 already")
        choose("stand-in")
        self.assertNotIn("counterpart", " ".join(finding.title for finding in check(self.plan_now())))

    def test_a_port_that_the_system_names_anew_is_known_by_its_key(self):
        self.use_jack()
        self.match_bittern()
        row = Studio.objects.get()
        for port in row.reported["ports"]:
            port["system_name"] = port["system_name"].replace("truth:", "truth [24]:")
        row.save()
        plan = self.plan_now()
        self.assertEqual(plan.rig.find(self.instrument("Bittern").send)[1].system_name, "truth [24]:notes")
        EndName.objects.update(key="")
        self.assertEqual(self.plan_now().rig.find(self.instrument("Bittern").send)[1].system_name, NOTES)

    def test_what_was_asked_of_one_studio_is_not_kept_under_another(self):
        self.use_jack()
        choose_meanwhile = mock.Mock(side_effect=lambda *given: choose("stand-in"))
        with mock.patch.object(DeviceStudio, "close", choose_meanwhile):
            look_again()
        self.assertEqual((Studio.objects.get().kind, Studio.objects.get().reported), ("stand-in", None))

    def test_what_is_plugged_in_while_nothing_runs_is_seen(self):
        self.use_jack()
        second = Truth(self.server, "second")
        self.addCleanup(second.end)
        look_round()
        self.assertIn("second:notes", self.page("rig:studio"))

    def test_a_port_of_our_own_is_offered_and_taken_out(self):
        self.use_jack()
        self.addCleanup(lambda: studio_startup._devices and studio_startup._devices.close())
        offer = {"name": "Tablet", "what": "midi in"}
        page = self.client.post(reverse("rig:offer-port"), offer, follow=True)
        self.assertContains(page, "hypotaxis:Tablet")
        self.assertIn("Tablet", [port.system_name.split(":")[1] for port in self.plan_now().studio.ports])
        self.assertContains(self.client.post(reverse("rig:offer-port"), offer), "“Tablet” is there already")
        self.assertContains(self.client.post(reverse("rig:offer-port"), offer | {"name": "a:b"}), "Use letters, digits")
        page = self.client.post(reverse("rig:withdraw-port"), {"name": "Tablet"}, follow=True)
        self.assertNotContains(page, "hypotaxis:Tablet")

    def test_system_audio_is_chosen_with_its_devices_and_says_that_it_has_two_clocks(self):
        self.addCleanup(lambda: studio_startup._devices and studio_startup._devices.close())
        with mock.patch.dict(os.environ, {"JACK_DEFAULT_SERVER": self.server.name}):
            form = {"kind": "portable", "server": "ignored", "buffer": 256}
            chosen = self.client.post(reverse("rig:choose-studio"), form, follow=True)
            self.assertContains(chosen, "System audio is in use now")
            form |= {"input_device": "truth", "output_device": "system"}
            sheet = self.client.post(reverse("rig:choose-studio"), form, follow=True)
        self.assertContains(sheet, "<dd>two</dd>", html=True)
        self.assertEqual([end.name for end in self.plan_now().studio.inputs], ["truth: 1", "truth: 2"])
        titles = [finding.title for finding in check(self.plan_now())]
        self.assertIn("truth and system have a crystal each", titles)

    def plan_now(self):
        return self.client.get(reverse("rig:home")).wsgi_request._in_use.plan

    def test_rate_and_buffer_of_the_rig_are_held_against_the_studios(self):
        Rig.objects.update(sample_rate=44_100, buffer=512)
        self.use_jack()
        found = {finding.rule: finding for finding in check(self.plan_now())}
        self.assertIn("runs at 48000 Hz, the rig at 44100 Hz", found["rate-differs"].title)
        mended = found["buffer-differs"].fix.apply(found["rate-differs"].fix.apply(self.plan_now()))
        self.assertEqual((mended.rig.sample_rate, mended.rig.buffer), (RATE, PERIOD))
        self.match_bittern()
        run = self.run_pass()
        self.assertIn("The studio runs at 48000 Hz, and this pass was planned at 44100 Hz", run.job.message)

    def test_a_note_is_tried_a_trip_is_sounded_and_a_take_is_placed_to_the_sample(self):
        self.use_jack()
        bittern = self.instrument("Bittern")
        form = {"note": 60, "velocity": 100, "length_s": 0.3, "fast": "on"}
        self.client.post(reverse("instruments:try", args=[bittern.uid]), form)
        self.assertIn("matched to nothing that JACK reports", Job.objects.filter(kind="try-out").last().message)
        self.match_bittern()
        page = self.client.post(reverse("instruments:try", args=[bittern.uid]), form, follow=True)
        self.assertContains(page, "It came home on line in 3.")
        self.client.post(
            reverse("timing:take"),
            {"trip": bittern.uid, "test": "hits", "hits": 16, "note": 60, "velocity": 100, "patch": "", "fast": "on"},
        )
        known = known_latenesses(self.plan)[bittern.uid]
        self.assertAlmostEqual(known.lateness_ms * RATE / 1000, REACTION + PERIOD, delta=0.05)
        self.assertEqual(known.stale, ())
        choose("stand-in")
        self.assertEqual(known_latenesses(self.plan)[bittern.uid].stale, ("studio jack, now stand-in",))
        choose("jack", self.server.name)
        run = self.run_pass()
        self.assertEqual((run.job.state, run.job.message), (Job.DONE, ""))
        take = run.takes.get()
        self.assertEqual(take.placement, -(REACTION + PERIOD))
        self.assertEqual(Studio.objects.get().last_run["lost"], 0)


class DyingTest(OnJack):
    # A synchronous server waits for ever for a client that was killed.
    sync = False

    def test_a_device_process_that_dies_costs_what_was_to_come_and_no_more(self):
        self.use_jack()
        self.match_bittern()
        threading.Timer(2.0, os.kill, (self.process.pid, signal.SIGKILL)).start()
        run = self.run_pass(fast=False)
        self.assertEqual(run.job.state, Job.FAILED)
        self.assertIn("The device process has ended by signal 9", run.job.message)
        take = run.takes.get()
        self.assertFalse(take.complete)
        self.assertGreater(take.frames, RATE // 2)
        again = self.run_pass()
        self.assertEqual((again.job.state, again.takes.get().complete), (Job.DONE, True))
