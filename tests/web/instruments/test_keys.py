"""Keys in and standing lines: what is played, by whom, and what leaves."""

from dataclasses import replace

from django.test import SimpleTestCase
from django.urls import reverse

from hypotaxis.core.findings.rules import check
from hypotaxis.core.midi.shaping import Shaping
from hypotaxis.core.plan import Part
from hypotaxis.core.playing.keys import Echo, echo_rules, plays_and_sounds
from hypotaxis.core.rig.change import set_up
from hypotaxis.core.studio import Message
from hypotaxis.records.models import FrontPanel, Job
from tests.rooms import box_named, change, instrument_named, small_room, uid_of
from tests.web.base import DemoTest


class KeysInTest(SimpleTestCase):
    def setUp(self):
        self.plan = small_room()
        self.port = self.plan.rig.find(uid_of(self.plan, "Heron 61", "keys"))[1].system_name

    def play(self, keys: Echo, *data: str) -> list[str]:
        sent = [one for text in data for one in keys(Message(0, self.port, bytes.fromhex(text)))]
        return [message.data.hex(" ") for message in sent]

    def test_the_selected_instrument_is_played_on_its_own_channel(self):
        keys = Echo(echo_rules(self.plan, instrument_named(self.plan, "Bittern")))
        sent = self.play(keys, "903c64", "b04001", "e00040", "803c00", "f8")
        self.assertEqual(sent, ["92 3c 64", "b2 40 01", "e2 00 40", "82 3c 40"])
        self.assertEqual(self.play(keys, "903c64", "903c00"), ["92 3c 64", "82 3c 40"], "velocity 0 lets go")

    def test_a_key_that_is_let_go_ends_all_that_it_began_even_when_shaped(self):
        shaped = change(self.plan, "Bittern", shaping=Shaping(harmony="octave", transpose=-12))
        keys = Echo(echo_rules(shaped, instrument_named(shaped, "Bittern")))
        self.assertEqual(self.play(keys, "903c64", "803c40"), ["92 30 64", "92 3c 64", "82 30 40", "82 3c 40"])

    def test_parts_split_the_keyboard(self):
        low = Part(uid="p", name="bass", channel=2, low=0, high=59)
        plan = change(self.plan, "Sedge upper", shaping=Shaping(low=60), parts=(low,))
        keys = Echo(echo_rules(plan, instrument_named(plan, "Sedge upper")))
        self.assertEqual(self.play(keys, "903064", "904864"), ["91 30 64", "90 48 64"])

    def test_a_standing_line_goes_before_what_is_selected_and_needs_no_echo(self):
        heron = uid_of(self.plan, "Heron 61", "keys")
        plan = change(self.plan, "Alder kit", standing=((heron, 10),))
        plan = change(plan, "Sedge lower", standing=((heron, 10),))
        keys = Echo(echo_rules(plan, instrument_named(plan, "Bittern")))
        self.assertEqual(self.play(keys, "992464"), ["91 24 64", "99 24 64"], "both, in their order")
        self.assertEqual(self.play(keys, "902464"), ["92 24 64"], "another channel plays what is selected")
        silent = replace(plan, rig=replace(plan.rig, echo=False))
        self.assertEqual(self.play(Echo(echo_rules(silent, instrument_named(plan, "Bittern"))), "902464"), [])
        self.assertEqual(self.play(Echo(echo_rules(silent, None)), "992464"), ["91 24 64", "99 24 64"])

    def test_a_box_that_plays_and_sounds_is_told_in_a_sentence(self):
        self.assertEqual(plays_and_sounds(self.plan, instrument_named(self.plan, "Bittern")), "")
        heron = box_named(self.plan, "Heron 61").uid
        plan = change(self.plan, "Bittern", box=heron)
        cases = {
            ("off", True): "sounds once, by way of the host",
            ("always on", False): "sounds once, inside the box",
            ("on", True): "sounds twice",
            ("off", False): "sounds nothing",
        }
        for (local, echo), words in cases.items():
            changed = set_up(replace(plan, rig=replace(plan.rig, echo=echo)), heron, local=local)
            self.assertIn(words, plays_and_sounds(changed, instrument_named(changed, "Bittern")))

    def test_ports_that_are_not_played_from_are_not_heard(self):
        keys = Echo(echo_rules(self.plan, instrument_named(self.plan, "Bittern")))
        self.assertEqual(keys(Message(0, "some other port", bytes.fromhex("903c64"))), [])

    def test_a_standing_line_that_is_open_is_found_and_can_be_taken_out(self):
        plan = change(self.plan, "Bittern", standing=((uid_of(self.plan, "Quayside 18", "MIDI in"), 1),))
        (found,) = [finding for finding in check(plan) if finding.rule == "standing-line-open"]
        self.assertIn("Bittern waits for Quayside 18 MIDI in", found.title)
        self.assertEqual(found.fix.apply(plan), self.plan)


class PlayedTest(DemoTest):
    def listen(self, name: str):
        form = {"note": 60, "velocity": 100, "length_s": 0.3, "fast": "on", "kind": "keys"}
        return self.client.post(reverse("instruments:try", args=[self.instrument(name).uid]), form, follow=True)

    def test_someone_plays_and_the_selected_instrument_answers(self):
        self.assertContains(self.listen("Bittern"), "No key was heard on Heron 61 keys.")
        heron = box_named(self.plan, "Heron 61").uid
        self.client.post(reverse("front-panel", args=[heron]), {"demo": "on"})
        self.assertTrue(FrontPanel.objects.get(box_uid=heron).settings["demo"])
        page = self.listen("Bittern")
        self.assertContains(page, "Came in by Heron 61 keys")
        self.assertContains(page, "It came home on line in 3.")
        result = Job.objects.filter(kind="try-out").last().result
        self.assertEqual(
            (result["came"][:2], result["bytes"][:2]), (["90 3C 46", "80 3C 40"], ["92 3C 46", "82 3C 40"])
        )

    def test_a_standing_line_is_set_and_said(self):
        bittern, keys = self.instrument("Bittern"), self.socket("Heron 61", "keys")
        address = reverse("instruments:standing", args=[bittern.uid])
        page = self.client.post(address, {"port_0": keys, "channel_0": "2", "channel_1": "0"}, follow=True)
        self.assertEqual(self.instrument("Bittern").standing, ((keys, 2),))
        self.assertContains(page, "Always played from Heron 61 keys on channel 2")
        refused = self.client.post(address, {"port_0": keys, "channel_0": "17", "channel_1": "0"})
        self.assertContains(refused, "17 is not one of the available choices")
