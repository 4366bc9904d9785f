"""Panel settings ticked, and corrected, by what was heard: channel, omni, local control, clock."""

from datetime import date, timedelta

from django.urls import reverse

from hypotaxis.core.plan import Instrument
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.rig.change import add_box, connect, keep_instrument, set_up
from hypotaxis.records.jobs import begin
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import FrontPanel, Job, Proof, Tick
from hypotaxis.steps.rig import panel_heard
from tests.rooms import box_named, uid_of
from tests.web.base import DemoTest


class HeardTest(DemoTest):
    def panel(self, name: str, **settings) -> None:
        row, _ = FrontPanel.objects.get_or_create(box_uid=box_named(self.plan, name).uid)
        row.settings = row.settings | settings
        row.save()

    def check(self) -> None:
        self.client.post(reverse("rig:check"), {"to": "all", "fast": "on"})

    def said(self, name: str) -> dict[str, tuple[bool, str]]:
        """What was heard of a box's settings, by the rest of their keys."""
        begins = f"panel-{box_named(self.plan, name).uid}-"
        rows = panel_heard.heard(self.rig, self.plan)
        return {key.removeprefix(begins): (one.holds, one.told) for key, one in rows.items() if key.startswith(begins)}


class PanelHeardTest(HeardTest):
    def setUp(self):
        super().setUp()
        # The demo's own mistake.
        self.panel("Withy", channels=[4])

    def test_a_sound_desk_is_confirmed_and_contradicted_nowhere(self):
        self.plug_sluice()
        self.check()
        self.assertEqual([one for one in panel_heard.heard(self.rig, self.plan).values() if not one.holds], [])
        said = self.said("Bittern")
        self.assertEqual(said["channel-1-3"], (True, "It answered on channel 3."))
        self.assertEqual(said["omni-off"][0], True)
        self.assertNotIn("omni-off", self.said("Reedbed"), "what has many parts listens to many channels")

    def test_a_box_on_another_channel_and_one_in_omni_are_told_and_ticks_corrected(self):
        self.plug_sluice()
        self.panel("Bittern", channels=[9])
        self.panel("Alder", omni=True)
        bittern, alder = (box_named(self.plan, name).uid for name in ("Bittern", "Alder"))
        wrong, omni = f"panel-{bittern}-channel-1-3", f"panel-{alder}-omni-off"
        for key in (wrong, omni):
            Tick.objects.create(rig=self.rig, key=key, day=date(2026, 1, 2))
        self.check()
        self.assertEqual(self.said("Bittern")["channel-1-3"], (False, "It answers on channel 9."))
        holds, told = self.said("Alder")["omni-off"]
        self.assertFalse(holds)
        self.assertRegex(told, r"^It answers on channel \d+, which is nobody's\.$")
        page = self.page("rig:panels")
        self.assertIn("2 otherwise than planned", page)
        done = self.client.post(reverse("rig:panels"), {"to": "heard"}, follow=True)
        self.assertContains(done, "2 unticked.")
        ticked = dict(Tick.objects.values_list("key", "day"))
        self.assertFalse({wrong, omni} & ticked.keys())
        sedge = box_named(self.plan, "Sedge").uid
        heard_on = date.fromisoformat(Job.objects.get(kind="line check").made.date().isoformat())
        self.assertEqual(ticked[next(key for key in ticked if key.startswith(f"panel-{sedge}-channel-"))], heard_on)

    def test_a_tick_that_is_newer_than_what_was_heard_keeps_its_day(self):
        self.check()
        key = next(key for key, one in panel_heard.heard(self.rig, self.plan).items() if one.holds)
        later = date.today() + timedelta(days=3)
        Tick.objects.create(rig=self.rig, key=key, day=later)
        panel_heard.tick_heard(self.rig, self.plan)
        self.assertEqual(Tick.objects.get(key=key).day, later)

    def test_a_proof_says_whether_a_box_goes_by_the_clock(self):
        alder = box_named(self.plan, "Alder")
        change_plan(self.rig, "clock", self.plan, set_up(self.plan, alder.uid, clock="external"))
        self.assertNotIn("clock-external", self.said("Alder"))
        for own_time in (False, True):
            job = begin("proving")
            Job.objects.filter(uid=job.uid).update(state=Job.FAILED, message="It broke.")
            Proof.objects.create(
                rig=self.rig, session=self.session, box_uid=alder.uid, port="", job=job, own_time=own_time
            )
        holds, told = self.said("Alder")["clock-external"]
        self.assertEqual(
            (holds, told), (False, "In a proof it played, and not in the clock's time: it goes by its own.")
        )


class LocalControlTest(HeardTest):
    def setUp(self):
        super().setUp()
        plan, box = add_box(self.plan, shape="workstation", name="Curlew")
        change_plan(self.rig, "Curlew", self.plan, set_up(plan, box.uid, local="off"))
        left = next(one.uid for one in box.sockets if (one.kind, one.direction) == ("audio", "out"))
        plan, _ = connect(self.plan, left, uid_of(self.plan, "Quayside 18", "line in 4"))
        home = (uid_of(plan, "Quayside 18", "line in 4"),)
        send = self.instrument("Bittern").send
        made = Instrument(uid=new_uid(), name="Curlew", box=box.uid, send=send, channel=8, returns=home)
        plan = keep_instrument(plan, made)
        change_plan(self.rig, "Curlew", self.plan, plan)
        self.curlew = box.uid

    def ask(self) -> None:
        self.answer = self.client.post(reverse("rig:press-key", args=[self.curlew]), follow=True)

    def test_one_key_tells_whether_local_control_is_on(self):
        self.panel("Curlew", played=True, local=True, channels=[8])
        self.assertIn("Hear its local control by one key", self.page("rig:panels"))
        self.ask()
        told = (False, "A key of it was pressed, and it sounded though nothing was sent.")
        self.assertEqual(self.said("Curlew")["local-off"], told)
        self.panel("Curlew", local=False)
        self.ask()
        self.assertEqual(self.said("Curlew")["local-off"], (True, "A key of it was pressed, and it stayed silent."))

    def test_where_no_key_comes_nothing_is_said(self):
        self.ask()
        self.assertContains(self.answer, "No key came in.")
        self.assertNotIn("local-off", self.said("Curlew"))
        bittern = reverse("rig:press-key", args=[box_named(self.plan, "Bittern").uid])
        self.answer = self.client.post(bittern, follow=True)
        self.assertContains(self.answer, "No port of this box is played from")
