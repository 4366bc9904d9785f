"""The Sync step: who follows, what is sent to them, whether they stay in step, and that it is sent in a pass."""

from dataclasses import asdict
from unittest import mock

from django.urls import reverse

from hypotaxis.core.findings.rules import check
from hypotaxis.core.midi.messages import CLOCK, CONTINUE, START, STOP
from hypotaxis.core.rig.change import set_rig, set_sockets
from hypotaxis.core.session import passes
from hypotaxis.core.session.passes import ArmedTrack, clocks_of, plan_pass, schedule_pass
from hypotaxis.core.sync.values import LoopSetting, Sending
from hypotaxis.records import journal
from hypotaxis.records.journal import change_plan
from hypotaxis.records.lateness import clock_ms
from hypotaxis.records.models import FrontPanel, Proof, Session, Socket
from hypotaxis.records.plan import loop_of, song_of
from hypotaxis.steps.session.services.house import copy_session
from hypotaxis.steps.sync.services import moved
from tests.rooms import box_named
from tests.web.base import DemoTest


class SyncTest(DemoTest):
    def port(self, number: int) -> str:
        return self.socket("Junction 6", f"out {number}")

    def send(self, name: str, uid: str = "", **fields):
        address = reverse(f"sync:{name}", args=[uid] if uid else [])
        return self.client.post(address, fields, follow=True)

    def test_a_slip_is_seen_told_and_cured_in_one_move(self):
        page = self.page("sync:home")
        for words in (
            "slips from the second time on",
            "1 bar 0/16 early",
            "told: go to bar 3",
            "F2 20 00",
            "Send nothing",
        ):
            self.assertIn(words, page)
        found = {finding.rule: finding for finding in check(self.now())}
        self.assertEqual(found["pattern-parts"].title, "Withy parts from the song at the loop")
        self.assertNotIn("pattern-parts", [f.rule for f in check(found["pattern-parts"].fix.apply(self.now()))])
        page = self.send("port", self.port(3), cure="nothing").content.decode()
        self.assertNotIn("slips", page)
        self.client.post(reverse("rig:undo"))
        self.assertIn("slips", self.page("sync:home"))

    def now(self):
        return self.client.get(reverse("rig:home")).wsgi_request._in_use.plan

    def test_a_started_pattern_beside_notes_and_a_leader_nobody_hears_are_told(self):
        found = {finding.rule: finding for finding in check(self.now())}
        beside = found["pattern-beside-notes"]
        self.assertEqual(beside.title, "Alder is started with the song, and is sent notes as well")
        self.assertIn("beside the notes of Alder kit and Alder kick", beside.message)
        left = [one.title for one in check(beside.fix.apply(self.now()))]
        self.assertNotIn(beside.title, left)
        alder = box_named(self.plan, "Alder").uid
        change_plan(self.rig, "Alder leads", self.plan, set_rig(self.plan, leader=alder))
        (unheard,) = [one for one in check(self.now()) if one.rule == "leader-unheard"]
        self.assertEqual(unheard.title, "Alder leads, and its clock does not reach the host")
        self.assertEqual(unheard.fix.apply(self.now()).rig.leader, "")

    def test_settings_of_a_port_are_kept_and_bad_ones_told(self):
        uid = self.port(5)
        form = {"wrap": "position", "shift_ms": "-6.4", "keys": "on", "position": "on", "time_code": "25", "offset": 0}
        self.send("port", uid, **{f"{uid}-{name}": value for name, value in form.items()})
        kept = Sending(**Socket.objects.get(uid=uid).sending)
        self.assertEqual((kept.shift_ms, kept.time_code, kept.wrap, kept.always), (-6.4, "25", "position", False))
        page = self.send("port", uid, **{f"{uid}-wrap": "position", f"{uid}-shift_ms": "900"})
        self.assertContains(page, "less than or equal to 200")
        self.assertContains(page, 'value="900"')

    def test_how_a_box_follows_is_kept_in_its_own_bars(self):
        box = box_named(self.plan, "Alder")
        form = {
            "plays": "pattern",
            "bars": 2,
            "sixteenths": 8,
            "pace": "half",
            "obeys": ["start", "stop"],
            "restarts": "on",
        }
        self.send("box", box.uid, **form)
        following = box_named(self.plan, "Alder").following
        self.assertEqual(
            (following.length_ticks, following.lasts_ticks, following.obeys), (240, 480, ("start", "stop"))
        )
        page = self.page("sync:home")
        self.assertIn("pattern of 2 bars and 8/16, counts half: 5 bars here, 80 sixteenths, 480 ticks", page)
        self.assertIn("Alder ignores the song position it is sent", [f.title for f in check(self.now())])
        self.send("box", box.uid, plays="LFO or delay", division="1/8 dotted", pace="as the host")
        self.assertIn("LFO or delay of 1/8 dotted: 468.8 ms, 2.13 Hz", self.page("sync:home"))

    def test_the_loop_is_typed_dragged_and_taken_away(self):
        self.send("loop", first_bar=2, bars=4, times=3, begin_bar=9)
        self.session.refresh_from_db()
        self.assertEqual(loop_of(self.session), LoopSetting(first_bar=2, bars=4, times=3, begin_bar=2))
        self.send("loop", first_bar=2, bars=4, times=3, begin_bar=2, edge="end", by="2")
        self.session.refresh_from_db()
        self.assertEqual(loop_of(self.session).bars, 6)
        self.assertContains(self.send("loop", first_bar=0, bars=4, times=1, begin_bar=1), "greater than or equal to 1")
        self.send("loop", first_bar=2, bars="", times=3, begin_bar=2)
        self.assertIn("once", self.page("sync:home"))
        self.assertEqual(song_of(self.session).times, 1)
        undone = self.client.post(reverse("rig:undo"), follow=True)
        self.assertIn("Undone: No loop.", self.told(undone))
        self.assertEqual(loop_of(self.session).bars, 6)
        other = copy_session(self.session)
        self.assertIsNone(journal.last_done(self.rig, other), "a step of one session is none of another")

    def test_an_end_of_the_loop_stops_at_a_bar_and_at_the_beginning(self):
        loop = LoopSetting(first_bar=3, bars=2)
        self.assertEqual(moved(loop, None, "begin", 9, last_bar=16), LoopSetting(first_bar=4, bars=1))
        self.assertEqual(moved(loop, None, "begin", -9, last_bar=16), LoopSetting(first_bar=1, bars=4))
        self.assertEqual(moved(loop, None, "end", -9, last_bar=16), LoopSetting(first_bar=3, bars=1))
        self.assertEqual(moved(loop, None, "end", 90, last_bar=16), LoopSetting(first_bar=3, bars=14))
        beyond = self.send("loop", first_bar=15, bars=4, times=3, begin_bar=1)
        self.assertContains(beyond, "The song ends with bar 16, and the loop would reach to bar 18.")

    def test_a_loop_beyond_the_last_song_position_is_told(self):
        Session.objects.update(end_tick=480 * 4 * 1100)
        self.send("loop", first_bar=1050, bars=4, times=3, begin_bar=1)
        page = self.page("sync:home", zoom=8)
        self.assertIn("Song position ends at 16,383 sixteenths, and bar 1050 lies beyond.", page)

    def test_clock_is_switched_and_a_box_without_it_is_told_how_far_it_wanders(self):
        page = self.send("clock", self.port(5), on="0").content.decode()
        self.assertIn("Send clock on Junction out 5", page)
        self.assertIn("Alder waits for a clock that nobody sends", [finding.title for finding in check(self.now())])
        self.assertIn("Eelgrass follows nobody", page)

    def test_a_pass_sends_it_from_any_bar(self):
        self.session.tracks.update(armed=False)
        setup = plan_pass(
            self.now(), self.armed("Bittern"), self.session.tempo_map, first_bar=3, last_bar=4, lateness_ms={},
            clock_ms=clock_ms(self.plan),
        )  # fmt: skip
        self.assertEqual([one.port for one in setup.clocks], [self.name(number) for number in (2, 3, 5)])
        schedule = schedule_pass(setup, {}, self.session.tempo_map, first_bar=3, last_bar=4)
        mine = [message for message in schedule.messages if message.port == self.name(5)]
        self.assertEqual([message.data for message in mine[:2]], [b"\xf2\x20\x00", bytes([CONTINUE])])
        ticks = [message.time_ns for message in mine if message.data == bytes([CLOCK])]
        # The bar begins half a second into the run, to the sample; 96 BPM is 26.041667 ms a clock.
        self.assertEqual((len(ticks), ticks[0]), (192, 500_000_000))
        self.assertEqual(ticks[-1] - ticks[0], round(191 * 625_000_000 / 24))
        self.assertEqual((mine[-1].data, START in {message.data[0] for message in mine}), (bytes([STOP]), False))

    def armed(self, name: str):
        track = self.session.tracks.get(name=name)
        return [ArmedTrack(str(track.uid), name, self.plan.instrument(track.instrument_uid))]

    def name(self, number: int) -> str:
        return self.plan.rig.find(self.port(number))[1].system_name


class LoopedPassTest(DemoTest):
    def test_each_time_round_is_a_take_that_stands_where_its_notes_are(self):
        self.session.tracks.update(armed=False)
        self.session.tracks.filter(name="Bittern").update(armed=True)
        form = {"first_bar": 3, "last_bar": 4, "times": 3, "fast": "on", "place": "on", "token": "loop"}
        self.client.post(reverse("session:start"), form)
        takes = list(self.session.takes.order_by("number"))
        self.assertEqual([take.round for take in takes], [0, 1, 2])
        late = [take.measured.lateness_ms for take in takes]
        self.assertLess(max(late) - min(late), 0.3, late)
        self.assertEqual([take.measured.missed for take in takes], [0, 0, 0])
        self.assertTrue(all(take.placement and not take.doubts for take in takes), [take.doubts for take in takes])
        # Two bars at 96 BPM are five seconds: 240,000 samples between the wraps.
        self.assertEqual(takes[1].frames, 240_000)
        self.assertEqual(takes[1].first_sample, round(5.0 * 48_000))
        page = self.page("session:home")
        self.assertRegex(page, r"pass 1,\s+time 3")
        # As it was asked for, to be asked for again.
        self.assertIn('name="times" value="3"', page)
        self.client.post(reverse("session:start"), form | {"times": 1000, "token": "none"})
        self.assertEqual(self.session.passes.count(), 1)

    def test_bars_may_be_run_in_and_it_may_go_on_until_it_is_stopped(self):
        self.session.tracks.update(armed=False)
        self.session.tracks.filter(name="Bittern").update(armed=True)
        form = {"first_bar": 3, "last_bar": 4, "times": 0, "run_in": 1, "fast": "on", "place": "on", "token": "loop"}
        with mock.patch.object(passes, "OPEN_S", 16.0):
            self.client.post(reverse("session:start"), form)
        run = self.session.passes.get()
        self.assertTrue(run.frozen.open_end)
        takes = list(self.session.takes.order_by("number"))
        self.assertEqual([take.bars for take in takes], [(2, 4), (3, 4), (3, 4)])
        # From half a second before bar 2; each later round begins with bar 3, five seconds in.
        self.assertEqual([take.first_sample for take in takes], [round(2.0 * 48_000), 240_000, 240_000])
        late = [take.measured.lateness_ms for take in takes]
        self.assertLess(max(late) - min(late), 0.4, late)
        self.assertEqual([take.measured.missed for take in takes], [0, 0, 0])


class ProveTest(DemoTest):
    def prove(self, name: str, **panel):
        box = box_named(self.plan, name)
        row, _ = FrontPanel.objects.get_or_create(box_uid=box.uid)
        row.settings = row.settings | panel
        row.save()
        return self.client.post(reverse("sync:prove", args=[box.uid]), {"fast": "on"}, follow=True)

    def test_what_a_box_does_is_measured_beside_what_was_predicted(self):
        self.plug_sluice()
        page = self.prove("Withy").content.decode()
        proof = Proof.objects.get().proved
        self.assertEqual([(wrap.predicted, wrap.measured, wrap.sure) for wrap in proof.wraps], [(96, 96, True)] * 2)
        self.assertIn("As predicted it is 1 bar 0/16 early after wrap 1.", page)
        self.client.post(reverse("sync:port", args=[self.socket("Junction 6", "out 3")]), {"cure": "nothing"})
        self.assertIn("stale: what it was proved with has changed", self.page("sync:home"))
        page = self.prove("Withy").content.decode()
        self.assertIn("In step at 2 wraps, as predicted.", page)
        self.assertNotIn("stale", page)

    def test_a_box_that_does_not_do_what_the_plan_says_is_found_out(self):
        page = self.prove("Alder", pattern_bars=4, ignores=["song position"]).content.decode()
        self.assertIn("It is 2 bars 0/16 early after wrap 1, and that was not predicted", page)
        page = self.prove("Alder", ignores=[], loses=True).content.decode()
        self.assertIn("it may lose the first one", page)

    def test_an_arpeggio_is_proved_with_keys_held(self):
        page = self.prove("Sedge", steps=True).content.decode()
        self.assertIn("It follows 96 BPM. Its steps come +", page)
        self.assertGreater(Proof.objects.get().proved.steps, 60)

    def test_an_lfo_is_proved_on_a_sound_that_is_held(self):
        box = box_named(self.plan, "Sedge")
        form = {"plays": "LFO or delay", "division": "1/4 dotted", "pace": "as the host"}
        self.client.post(reverse("sync:box", args=[box.uid]), form)
        # Five bars are 480 clocks, 13 swings of 36 and 12 clocks more: so much it is ahead behind each wrap.
        Session.objects.update(loop=asdict(LoopSetting(first_bar=3, bars=5)))
        page = self.prove("Sedge", swings_ticks=36, program=2).content.decode()
        proof = Proof.objects.get().proved
        self.assertEqual(
            [(wrap.predicted, wrap.measured, wrap.sure) for wrap in proof.wraps], [(12, 12, True), (24, 24, True)]
        )
        self.assertIn("It follows 96 BPM.", page)
        self.assertLess(proof.half_ms, 0.05)

    def test_its_lateness_is_what_is_compensated(self):
        self.prove("Alder", pattern_bars=4)
        port = self.socket("Junction 6", "out 5")
        late = Proof.objects.get().proved.lateness_ms
        self.assertEqual(clock_ms(self.plan), {port: late})
        rig = self.plan.rig
        sending = Sending(compensate=True, shift_ms=3.0)
        after = set_sockets(self.plan, {port: {"sending": sending}})
        sent = {one.port: one.sending.shift_ms for one in clocks_of(after, clock_ms(self.plan))}
        self.assertEqual(sent[rig.find(port)[1].system_name], round(-late, 3))

    def test_where_there_can_be_no_proof_the_reason_is_told(self):
        self.assertIn("Nothing came back while the clock ran", self.prove("Alder").content.decode())
        box = box_named(self.plan, "Alder")
        self.client.post(reverse("sync:box", args=[box.uid]), {"plays": "pattern", "pace": "as the host", "bars": 40})
        self.assertIn("shorter than the pattern of Alder", self.told(self.prove("Alder")))
        self.client.post(reverse("sync:clock", args=[self.socket("Junction 6", "out 5")]), {"on": "0"})
        self.assertIn("Alder gets no clock", self.told(self.prove("Alder")))
