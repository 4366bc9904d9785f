"""Several rigs: chosen, renamed, copied, saved and read."""

import json
from dataclasses import replace

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import SimpleTestCase
from django.urls import reverse
from hypothesis import given
from hypothesis import strategies as st

from hypotaxis.core.findings.rules import check
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file
from hypotaxis.core.rig.build import with_new_uids
from hypotaxis.records import journal
from hypotaxis.records.models import PatchList, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.session.services.recording import start_pass
from tests.rooms import change, instrument_named, small_room
from tests.web.base import DemoTest


class CopyTest(SimpleTestCase):
    @given(st.booleans(), st.booleans())
    def test_a_copy_says_the_same_of_things_of_its_own(self, whole, loose):
        plan = small_room(whole=whole)
        if loose:
            plan = change(plan, "Bittern", send="gone", returns=("gone",))
        copy = with_new_uids(plan, "Second room")
        told = [(f.rule, f.title, f.message) for f in check(copy)]
        self.assertEqual(told, [(f.rule, f.title, f.message) for f in check(plan)])
        uids = {box.uid for box in plan.rig.boxes} | {s.uid for _, s in plan.rig.each_socket()}
        self.assertFalse(uids & ({box.uid for box in copy.rig.boxes} | {s.uid for _, s in copy.rig.each_socket()}))
        if loose:
            self.assertEqual(instrument_named(copy, "Bittern").send, "gone")


class RigsTest(DemoTest):
    def rig_named(self, name: str) -> Rig:
        return Rig.objects.get(name=name)

    def read(self, text: str):
        upload = SimpleUploadedFile("room.json", text.encode())
        return self.client.post(reverse("rig:read-rig"), {"file": upload}, follow=True)

    def test_a_rig_is_saved_and_read_as_the_same(self):
        saved = self.client.get(reverse("rig:rig-file"))
        self.assertEqual(saved["Content-Disposition"], 'attachment; filename="saltmarsh-room.json"')
        plan = read_rig_file(saved.content.decode())
        self.assertEqual(replace(plan, patch_lists=()), self.plan)
        other = replace(plan, rig=replace(plan.rig, name="From a file"))
        self.assertContains(self.read(write_rig_file(other)), "From a file is read, beside the rigs")
        again = load_plan(self.rig_named("From a file"))
        self.assertEqual([box.name for box in again.rig.boxes], [box.name for box in plan.rig.boxes])
        self.assertEqual(len(again.rig.cables), len(plan.rig.cables))

    def test_the_patch_lists_travel_with_the_file(self):
        sedge = PatchList.objects.get(name="Sedge")
        first = sedge.patches.first()
        sedge.patches.filter(uid=first.uid).update(favourite=True, checked="2026-11-20")
        text = self.client.get(reverse("rig:rig-file")).content.decode()
        names = [patch.name for patch in sedge.patches.all()]
        PatchList.objects.all().delete()
        self.read(text)
        again = PatchList.objects.get(uid=sedge.uid)
        self.assertEqual((again.name, [patch.name for patch in again.patches.all()]), ("Sedge", names))
        kept = again.patches.get(uid=first.uid)
        self.assertEqual((kept.favourite, str(kept.checked), kept.number), (True, "2026-11-20", first.number))
        lists = PatchList.objects.count()
        self.read(text)
        self.assertEqual(PatchList.objects.count(), lists)

    def test_a_faulty_file_is_refused_with_every_place_and_stores_nothing(self):
        document = json.loads(write_rig_file(self.plan))
        document["boxes"][2]["sockets"][1]["kind"] = "steam"
        document["instruments"][0]["channel"] = 99
        answer = self.read(json.dumps(document))
        self.assertContains(answer, "boxes[2].sockets[1].kind should be one of")
        self.assertContains(answer, "instruments[0].channel should be a whole number from 1 to 16")
        self.assertContains(self.read("{"), "is not JSON")
        bad = SimpleUploadedFile("room.json", b"\xff\xfe")
        self.assertContains(self.client.post(reverse("rig:read-rig"), {"file": bad}), "not UTF-8: byte 0")
        self.assertEqual(Rig.objects.count(), 1)

    def test_a_rate_is_refused_where_takes_of_another_one_are_kept(self):
        form = {"name": "Saltmarsh Room", "buffer": "256", "sample_rate": "96000", "driver": "generic"}
        self.record("Bittern")
        answer = self.client.post(reverse("rig:rigs"), form)
        self.assertContains(answer, "There are takes at 48000 Hz in this rig")
        self.session.takes.all().delete()
        self.client.post(reverse("rig:rigs"), form)
        self.assertEqual((self.plan.rig.sample_rate, self.plan.rig.driver), (96_000, "generic"))

    def test_delays_are_typed_on_the_box_and_kept_in_the_file(self):
        quayside = next(box for box in self.plan.rig.boxes if box.name == "Quayside 18")
        address = reverse("rig:setup", args=[quayside.uid])
        self.assertContains(self.client.get(address), "Driver and link on the way out, ms")
        self.assertContains(self.client.post(address, {"set_by": "menu", "out_ms": "-1"}), "greater than or equal to 0")
        self.client.post(address, {"set_by": "menu", "out_ms": "0.7", "converter_samples": "48"})
        box = self.plan.rig.box(quayside.uid)
        self.assertEqual(
            (box.delays.out_ms, box.delays.converter_samples, box.delays.driver_samples), (0.7, 48.0, None)
        )
        self.assertEqual(read_rig_file(write_rig_file(self.plan)), self.plan)

    def test_settings_are_changed_and_can_be_undone(self):
        self.client.post(reverse("rig:rigs"), {"name": "North room", "buffer": "128", "sample_rate": "48000"})
        self.assertEqual((self.rig.name, self.plan.rig.buffer), ("North room", 128))
        journal.undo(self.rig)
        self.assertEqual((self.rig.name, self.plan.rig.buffer), ("Saltmarsh Room", 256))
        self.assertContains(self.client.post(reverse("rig:rigs"), {"name": "", "buffer": "7"}), "Select a valid choice")

    def test_a_new_rig_is_empty_and_the_old_one_a_click_away(self):
        form = {"name": "Barn", "buffer": "512", "sample_rate": "96000"}
        self.assertContains(self.client.post(reverse("rig:new-rig"), form, follow=True), "Add your interface")
        self.assertEqual(self.rig_named("Barn").sample_rate, 96000)
        self.assertContains(self.client.get(reverse("session:home")), "No session yet")
        old = self.rig_named("Saltmarsh Room")
        answer = self.client.post(reverse("rig:choose-rig", args=[old.uid]), follow=True)
        self.assertContains(answer, "Quayside 18")

    def test_a_copy_stands_for_the_same_desk(self):
        # The same boxes with the same panels: a pass on the copy comes home as late as on the original.
        original = self.record("Alder kit").takes.get().measured.lateness_ms
        answer = self.client.post(reverse("rig:duplicate-rig"), follow=True)
        self.assertContains(answer, "Saltmarsh Room, copy")
        copy = self.rig_named("Saltmarsh Room, copy")
        plan = load_plan(copy)
        session = self.rig_named("Saltmarsh Room").sessions.get()
        session.rig = copy
        session.save()
        session.tracks.update(armed=False)
        track = session.tracks.get(name="Alder kit")
        track.armed, track.instrument_uid = True, instrument_named(plan, "Alder kit").uid
        track.save()
        run = start_pass(session, plan, first_bar=1, last_bar=2, fast=True, place_takes=True)
        self.assertAlmostEqual(run.takes.get().measured.lateness_ms, original, delta=0.3)
