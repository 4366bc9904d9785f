"""Patch lists as the pages keep, search and call them up."""

import html

from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from hypotaxis.core.formats.patchfile import read_patch_file
from hypotaxis.records import journal
from hypotaxis.records.models import Job, Patch, PatchList
from hypotaxis.steps.instruments.services import defining, patches
from tests.rooms import box_named
from tests.web.base import DemoTest

PASTE = (
    "Bank A (MSB 81, LSB 0)\n1 Salt Pan\n2 Mud\nstray words that belong to no sound at all, from the margin\n4 Eel\n"
)


class ListsTest(DemoTest):
    def look_at(self, text: str = "", **files):
        return self.client.post(reverse("instruments:lists"), {"text": text} | files, follow=True)

    def test_a_pasted_list_is_shown_with_its_doubts_and_kept_only_when_confirmed(self):
        lists = PatchList.objects.count()
        answer = self.look_at(PASTE)
        page = html.unescape(answer.content.decode())
        for words in (
            "3 sounds",
            "Line 4",
            "neither a numbered sound nor a heading",
            "Missing between others of Bank A: 3",
        ):
            self.assertIn(words, page)
        self.assertEqual(PatchList.objects.count(), lists)
        address = answer.request["PATH_INFO"]
        refused = self.client.post(address, {"title": "Marsh", "msb_0": "128", "lsb_0": "3"})
        self.assertContains(refused, "less than or equal to 127")
        self.client.post(address, {"title": "Marsh", "msb_0": "82", "lsb_0": ""})
        kept = PatchList.objects.get(name="Marsh")
        self.assertEqual([(p.name, p.msb, p.lsb, p.program) for p in kept.patches.all()][-1], ("Eel", 82, None, 3))
        gone = self.client.get(address, follow=True)
        self.assertIn("This preview is gone", self.told(gone))

    def test_another_number_form_can_be_chosen_in_the_preview(self):
        address = self.look_at("11 Pan\n12 Mud\n13 Eel").request["PATH_INFO"]
        self.assertContains(self.client.get(address, {"form": "1"}), '<td class="num">10</td>')
        self.assertIn("No number in this text", self.told(self.client.get(address, {"form": "A1"}, follow=True)))
        self.client.post(f"{address}?form=1", {"title": "Marsh"})
        kept = PatchList.objects.get(name="Marsh")
        self.assertEqual([p.program for p in kept.patches.all()], [10, 11, 12])

    def test_what_cannot_be_read_is_said_at_the_form_and_the_text_stays(self):
        answer = self.look_at("a letter, nothing numbered")
        self.assertContains(answer, "count on from each other")
        self.assertContains(answer, "a letter, nothing numbered")
        self.assertContains(self.look_at(), "Choose a file, or paste the list.")
        bad = SimpleUploadedFile("x.csv", b"msb,program,name\n300,1,Pan\n")
        self.assertContains(self.look_at(file=bad), "line 2: msb")
        self.assertEqual(self.client.get(reverse("instruments:preview", args=["..%2Fsecret.key"])).status_code, 302)

    def test_a_list_is_written_in_every_format_and_read_back(self):
        sedge = PatchList.objects.get(name="Sedge")
        for form in ("xml", "csv", "json"):
            saved = self.client.get(reverse("instruments:export", args=[sedge.uid, form])).content
            names = [patch.name for patch in read_patch_file(saved)[1].patches.patches]
            self.assertEqual(names, [patch.name for patch in sedge.patches.all()], form)

    def test_search_finds_by_any_word_and_number_and_marks_are_kept(self):
        midi = PatchList.objects.get(name="General MIDI 1")
        self.assertEqual([p.name for p in patches.find(midi, "BRASS synth")[0]], ["SynthBrass 1", "SynthBrass 2"])
        self.assertEqual([p.name for p in patches.find(midi, "128")[0]], ["Gunshot"])
        self.assertEqual(patches.find(midi, "piano")[1], 8)
        cello = midi.patches.get(name="Cello")
        for what in ("favourite", "checked"):
            self.client.post(reverse("instruments:mark", args=[cello.uid]), {"what": what})
        self.assertEqual([p.name for p in patches.find(midi, "", only="favourites")[0]], ["Cello"])
        cello.refresh_from_db()
        self.assertIsNotNone(cello.checked)
        page = self.client.get(
            reverse("instruments:list", args=[midi.uid]), {"q": "zither"}, headers={"x-fragment": "1"}
        )
        self.assertContains(page, "0 sounds")


class PickTest(DemoTest):
    def pick(self, name: str, **form):
        uid = self.instrument(name).uid
        return self.client.post(reverse("instruments:pick", args=[uid]), form, follow=True)

    def test_a_picked_sound_is_called_up_tried_kept_with_the_session_and_undone(self):
        bell = Patch.objects.get(name="Buoy bell II")
        answer = self.pick("Sedge upper", patch=bell.uid)
        self.assertContains(answer, "B0 00 00 · B0 20 01 · C0 0B")
        self.assertContains(answer, "2.56 ms on a DIN wire")
        job = Job.objects.get(kind="try-out")
        self.assertEqual(job.result["bytes"][:3], ["B0 00 00", "B0 20 01", "C0 0B"])
        track = self.track("Sedge upper")
        self.assertEqual((track.program, track.msb, track.lsb), (11, 0, 1))
        run = self.record("Sedge upper")
        self.assertEqual(run.setup["parts"][0]["calls"], ["b00000", "b02001", "c00b"])
        self.assertContains(self.pick("Sedge upper", step="next"), "Salt pluck II")
        journal.undo(self.rig)
        self.assertEqual(self.instrument("Sedge upper").patch, str(bell.uid))

    def test_another_patch_sounds_different(self):
        sounds = []
        for name in ("Reed pluck", "Wide water"):
            self.pick("Sedge upper", patch=Patch.objects.get(name=name).uid)
            job = Job.objects.filter(kind="try-out").last()
            sounds.append(patches.folder("tryouts").joinpath(f"{job.uid}.wav").read_bytes())
        self.assertNotEqual(sounds[0], sounds[1])

    def test_a_program_typed_by_hand_is_no_longer_the_patch(self):
        self.pick("Sedge upper", patch=Patch.objects.get(name="Chapel").uid)
        track = self.track("Sedge upper")
        form = {f"{track.uid}-instrument_uid": track.instrument_uid, f"{track.uid}-program": "5"}
        self.client.post(reverse("session:tracks"), form)
        track.refresh_from_db()
        self.assertEqual((track.program, track.msb, track.patch_uid), (5, None, ""))

    def test_all_sounds_are_sent_again(self):
        self.pick("Sedge upper", patch=Patch.objects.get(name="Chapel").uid)
        answer = self.client.post(reverse("session:sounds"), follow=True)
        # Sedge upper bank and program, and the programs of Bittern and Sedge lower from the file.
        self.assertIn("5 messages go out", self.told(answer))
        self.session.tracks.update(program=None)
        answer = self.client.post(reverse("session:sounds"), follow=True)
        self.assertIn("No track has a sound to call up", self.told(answer))

    def test_a_list_that_is_removed_leaves_the_instrument_without_names(self):
        self.pick("Sedge upper", patch=Patch.objects.get(name="Chapel").uid)
        self.client.post(reverse("instruments:remove-list", args=[PatchList.objects.get(name="Sedge").uid]))
        self.assertContains(
            self.client.get(reverse("instruments:open", args=[self.instrument("Sedge upper").uid])), "no list"
        )


class DefiningByCopyTest(DemoTest):
    def test_the_fourth_is_defined_by_copying_the_third(self):
        self.client.post(reverse("instruments:remove-loop", args=[self.plan.loops[0].uid]))
        bittern = self.instrument("Bittern")
        page = self.client.get(reverse("instruments:new"), {"like": bittern.uid})
        initial = page.context["form"].initial
        self.assertEqual((initial["name"], initial["channel"]), ("Bittern 2", 4))
        self.assertEqual(
            initial["left"], self.socket("Quayside 18", "mic 2"), "the only input nobody expects anything on"
        )

    def test_a_module_is_split_into_an_instrument_a_part_in_one_step(self):
        before = self.plan
        self.client.post(reverse("instruments:split", args=[self.instrument("Reedbed").uid]))
        made = [one for one in self.plan.instruments if one.box == box_named(self.plan, "Reedbed").uid]
        self.assertEqual(sorted(one.channel for one in made), list(range(1, 17)))
        self.assertEqual({one.returns for one in made}, {self.instrument("Reedbed").returns})
        self.assertEqual(defining.parts_left(self.plan, made[0]), 0)
        journal.undo(self.rig)
        self.assertEqual(self.plan, before)

    def test_a_cell_of_the_ruler_moves_the_instrument(self):
        uid = self.instrument("Bittern").uid
        self.client.post(reverse("instruments:channel", args=[uid]), {"channel": "7"})
        self.assertEqual(self.instrument("Bittern").channel, 7)
        self.client.post(reverse("instruments:channel", args=[uid]), {"channel": "99"})
        self.assertEqual(self.instrument("Bittern").channel, 16)

    def test_sounds_are_set_and_bad_ones_refused(self):
        address = reverse("instruments:sounds", args=[self.instrument("Alder kit").uid])
        form = {
            "bank_form": "always",
            "gap_ms": "40",
            "note_map": "Marsh kit",
            "middle_c": "3",
            "notes": "under the desk",
        }
        self.client.post(address, form)
        kit = self.instrument("Alder kit")
        self.assertEqual((kit.bank_form, kit.gap_ms, kit.middle_c, kit.notes), ("always", 40.0, 3, "under the desk"))
        self.assertContains(self.client.post(address, form | {"gap_ms": "-1"}), "greater than or equal to 0")
        page = self.page("instruments:open", kit.uid)
        self.assertIn("Snare", page)
        self.assertIn("38 D1", page)

    def test_the_loudest_chord_says_whether_the_gain_is_right(self):
        uid = self.instrument("Sedge upper").uid
        form = {"note": 60, "velocity": 100, "length_s": 0.3, "fast": "on", "kind": "chord"}
        self.client.post(reverse("instruments:try", args=[uid]), form)
        self.assertRegex(Job.objects.last().result["gain"], "gain is right|too hot|to spare|clips")
