"""The notes of a part: opened, chosen, mended; what plays from them, printed."""

import json

from django.urls import reverse

from hypotaxis.core.session.generators import Generator
from hypotaxis.records import journal
from hypotaxis.records.models import Track
from hypotaxis.records.plan import notes_of, part_of
from tests.web.base import DemoTest


class NotesTest(DemoTest):
    def setUp(self):
        super().setUp()
        self.page = reverse("session:notes", args=[self.upper.uid])

    @property
    def upper(self) -> Track:
        return Track.objects.select_related("session").get(name="Sedge upper")

    @property
    def rows(self) -> list[tuple[int, ...]]:
        return part_of(self.upper).notes.tolist()

    def send(self, to: str, chosen: tuple[int, ...] = (), **fields):
        stamp = self.client.get(self.page).context["page"].stamp
        asked = {"to": to, "chosen": ",".join(map(str, chosen)), "stamp": stamp, **fields}
        return self.client.post(self.page, asked, headers={"X-Soft": "1"})

    def told(self, answer) -> str:
        return " ".join(str(one) for one in answer.context["messages"])

    def test_chosen_notes_are_moved_lengthened_and_stay_chosen(self):
        before = self.rows
        answer = self.send("move", (0, 1), steps="2", up="1")
        # 480 ticks a quarter: two sixteenths.
        self.assertEqual(len(answer.context["page"].chosen), 2)
        moved = [self.rows[place] for place in answer.context["page"].chosen]
        self.assertEqual([row[:3] for row in moved], [(240, row[1], row[2] + 1) for row in before[:2]])
        self.send("lengthen", answer.context["page"].chosen, steps="-1")
        self.assertEqual(self.rows[answer.context["page"].chosen[0]][1], before[0][1] - 120)
        journal.undo(self.rig, self.session)
        journal.undo(self.rig, self.session)
        self.assertEqual(self.rows, before)

    def test_fields_transpose_set_velocity_and_straighten(self):
        usual = {"scale": "all notes", "root": "0", "steps": "12"}
        pitch = self.rows[0][2]
        self.send("fields", (0,), what="transpose", **usual)
        self.assertIn(pitch + 12, [row[2] for row in self.rows if row[0] == 0])
        self.send("fields", (0,), what="velocity", velocity="11", **usual)
        self.assertEqual(self.rows[0][3], 11)
        answer = self.send("fields", (0,), what="velocity", **usual | {"velocity": "300"})
        self.assertIn("Velocity set to: Ensure this value is less than or equal to 127", self.told(answer))

    def test_copies_are_laid_in_also_from_other_ticks(self):
        copied = json.dumps({"ticks": 960, "notes": [[0, 480, 60, 99], [960, 480, 62, 98]]})
        self.send("paste", bar="3", copied=copied)
        self.assertIn((3840, 240, 60, 99), self.rows)
        self.assertIn((3840 + 480, 240, 62, 98), self.rows)
        before = self.rows
        rows = ("[[0,1,2]]", '[["x",1,2,3]]', "[[0,1,2,300]]", "[[0,1,2,1e999]]", "5", "[]")
        wrong = ["", "[]", "[" * 5000, '{"ticks": 0, "notes": [[0,1,2,3]]}']
        for bad in [*wrong, *(f'{{"ticks": 960, "notes": {one}}}' for one in rows)]:
            with self.subTest(bad[:30]):
                self.assertIn("copied", self.told(self.send("paste", copied=bad)))
        self.assertEqual(self.rows, before)

    def test_a_note_is_written_and_taken_away(self):
        count = len(self.rows)
        answer = self.send("add", bar="2", beat="3", sixteenth="2", note="60", velocity="70")
        self.assertIn((1920 + 960 + 120, 120, 60, 70), self.rows)
        self.send("remove", answer.context["page"].chosen)
        self.assertEqual(len(self.rows), count)
        self.send("draw", row="0", steps="1")
        self.assertEqual(len(self.rows), count + 1)
        for fields, told in (
            ({"bar": "99", "beat": "1"}, "There is no bar 99"),
            ({"bar": "1", "beat": "5"}, "so there is no beat 5"),
        ):
            answer = self.send("add", **fields, sixteenth="1", note="60", velocity="70")
            self.assertIn(told, self.told(answer))

    def test_a_choice_of_other_notes_is_refused(self):
        before = self.rows
        answer = self.client.post(self.page, {"to": "remove", "chosen": "0", "stamp": "old"}, headers={"X-Soft": "1"})
        self.assertIn("The notes have changed since this page was shown", self.told(answer))
        self.assertIn("No note is chosen", self.told(self.send("remove")))
        for chosen in ("99999999", "x", "1,2,999", "-1"):
            stamp = self.client.get(self.page).context["page"].stamp
            asked = {"to": "remove", "chosen": chosen, "stamp": stamp}
            answer = self.client.post(self.page, asked, headers={"X-Soft": "1"})
            self.assertEqual(answer.status_code, 200)
        self.assertEqual(self.rows, before)
        self.assertEqual(self.client.get(f"{self.page}?bar=1e9&bars=-4&division=zz&controller=500").status_code, 200)

    def test_a_kit_moves_by_its_voices(self):
        kit = Track.objects.get(name="Alder kit")
        page = reverse("session:notes", args=[kit.uid])
        shown = self.client.get(page).context["page"]
        first = int(part_of(kit).notes["note"][0])
        order = [row.note for row in shown.rows]
        sent = {"to": "move", "chosen": "0", "stamp": shown.stamp, "steps": "0", "up": "1"}
        answer = self.client.post(page, sent, headers={"X-Soft": "1"})
        (place,) = answer.context["page"].chosen
        self.assertEqual(
            int(part_of(Track.objects.get(name="Alder kit")).notes["note"][place]), order[order.index(first) - 1]
        )

    def test_a_generator_plays_is_changed_printed_and_taken_back(self):
        part = reverse("session:part", args=[self.upper.uid])
        fields = {
            "kind": "arpeggio", "division": "1/8", "order": "down", "octaves": "1", "gate": "50", "swing": "50",
            "velocity": "keys", "fixed": "100", "stack": "triad", "scale": "major", "root": "0", "seed": "1",
        }  # fmt: skip
        before = self.rows
        self.client.post(part, fields | {"to": "generate"})
        self.assertEqual(part_of(self.upper).generator, Generator(division="1/8", order="down"))
        sounded = notes_of(self.upper).tolist()
        self.assertNotEqual(sounded, before)
        self.assertEqual(self.rows, before)
        answer = self.client.post(part, {"to": "print"}, follow=True)
        self.assertContains(answer, f"{len(sounded)} notes of Sedge upper printed, and its generator off.")
        self.assertEqual((self.rows, notes_of(self.upper).tolist()), (sounded, sounded))
        journal.undo(self.rig, self.session)
        self.assertEqual((self.rows, notes_of(self.upper).tolist()), (before, sounded))
        self.client.post(part, {"to": "written"})
        self.assertEqual(notes_of(self.upper).tolist(), before)
        self.assertContains(
            self.client.post(part, fields | {"to": "generate", "octaves": "9"}), "less than or equal to 4"
        )
