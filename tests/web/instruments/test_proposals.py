"""Defining a box: what the sheet knows is filled in, and what has to be set on the box is said next."""

from django.urls import reverse

from hypotaxis.records.models import Instrument, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.instruments.services import defining
from hypotaxis.steps.rig.services import add_box
from tests.rooms import box_named
from tests.web.base import DemoTest


class ProposalTest(DemoTest):
    def test_a_drum_machine_comes_with_its_channel_and_its_separate_outs(self):
        Instrument.objects.filter(name__startswith="Alder").delete()
        alder = box_named(self.plan, "Alder")
        self.assertEqual(defining.next_to_define(self.plan), alder.uid)
        found = defining.propose(self.plan, alder.uid)
        self.assertEqual(found.channel, 10)
        self.assertEqual([one.name for one in found.further], ["kick"])
        self.assertEqual([(one.note, one.name) for one in found.voices], [(36, "kick")])
        page = self.client.get(reverse("instruments:new"))
        self.assertContains(page, 'value="Alder"')
        form = {"name": "Alder", "box": alder.uid, "send": found.send, "channel": 10, "home_trim_db": 0}
        form |= {"left": found.returns[0], "right": found.returns[1]}
        answer = self.client.post(reverse("instruments:new"), form, follow=True)
        self.assertContains(answer, "On Alder itself: set receive channel 10, omni off")
        kept = load_plan(Rig.objects.get()).instruments[-1]
        self.assertEqual([one.name for one in kept.further], ["kick"])

    def test_a_typed_name_stays_when_another_box_is_chosen(self):
        bittern = box_named(self.plan, "Bittern").uid
        page = self.client.get(reverse("instruments:new"), {"box": bittern, "name": "Low water"})
        self.assertContains(page, 'value="Low water"')

    def test_the_front_panel_says_what_the_plan_wants_and_leads_back(self):
        bittern = self.instrument("Bittern")
        address = f"{reverse('front-panel', args=[bittern.box])}?for={bittern.uid}"
        page = self.client.get(address)
        self.assertContains(page, "The plan sends on 3.")
        self.assertContains(page, "Back to Bittern")
        form = {"channel_1": 3, "level_db": 0, "hears": "MIDI and USB"}
        answer = self.client.post(address, form)
        self.assertRedirects(answer, reverse("instruments:open", args=[bittern.uid]), fetch_redirect_response=False)

    def test_a_second_box_of_one_name_is_told(self):
        add_box(self.rig, self.plan, shape="poly-synth", name="Curlew")
        form = {"shape": "poly-synth", "name": "Curlew"}
        self.assertContains(
            self.client.post(reverse("rig:add"), form, follow=True), "There is another box called Curlew"
        )
