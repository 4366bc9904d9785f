"""Kept to begin with, and begun with, through the pages: instrument, session, grid, pass plan."""

import uuid

from django.urls import reverse

from hypotaxis.core.grid.values import Pattern, Row, Step
from hypotaxis.records.journal import undo
from hypotaxis.records.models import Session, Take, Template
from hypotaxis.steps.rig.services import duplicate
from hypotaxis.steps.session.services import grids, planning
from tests.web.base import DemoTest


class TemplatesTest(DemoTest):
    def send(self, name: str, data: dict, *args):
        return self.client.post(reverse(name, args=args), data, follow=True)

    def test_an_instrument_is_begun_with_on_another_box(self):
        kit = self.instrument("Alder kit")
        self.send("instruments:keep-template", {}, kit.uid)
        (row,) = Template.objects.all()
        self.assertEqual((row.kind, row.name), ("instrument", "Alder kit"))
        page = self.page("instruments:new")
        self.assertIn("Begin with a template", page)
        self.assertIn(f"template={row.uid}", page)
        self.assertIn("Alder kit 2", self.page("instruments:new", template=str(row.uid)))
        address = f"{reverse('instruments:new')}?template={row.uid}"
        asked = {"name": "Second kit", "box": kit.box, "send": kit.send, "channel": 12, "left": kit.returns[0]}
        self.client.post(address, asked | {"right": "", "home_trim_db": "0"}, follow=True)
        made = self.instrument("Second kit")
        self.assertEqual([(one.note, one.name) for one in made.voices], [(one.note, one.name) for one in kit.voices])
        self.assertEqual((made.note_map, made.patch_list, made.channel), (kit.note_map, kit.patch_list, 12))
        self.assertFalse({one.uid for one in made.further} & {one.uid for one in kit.further})

    def test_a_session_is_begun_with_without_its_takes_here_and_on_another_rig(self):
        self.record("Bittern")
        old = self.session
        self.send("session:tidy", {"to": "template"}, "session", old.uid)
        key = str(Template.objects.get().uid)
        answer = self.send("session:new", {"name": "Second song", "template": key})
        self.assertIn("Second song is as Tide Tables was kept", self.told(answer))
        made = Session.objects.get(name="Second song")
        self.assertEqual(
            [(row.name, row.instrument_uid, bytes(row.notes)) for row in made.tracks.order_by("order")],
            [(row.name, row.instrument_uid, bytes(row.notes)) for row in old.tracks.order_by("order")],
        )
        self.assertEqual((made.tempos, made.takes.count(), Take.objects.count()), (old.tempos, 0, 1))
        other = duplicate(self.plan, "Other desk")
        other.instruments.filter(name="Bittern").update(name="Wigeon")
        self.client.cookies["hypotaxis-rig"] = str(other.uid)
        answer = self.send("session:new", {"name": "Third", "template": key})
        self.assertIn("Nothing plays Bittern here", self.told(answer))
        third = Session.objects.get(name="Third")
        names = dict(other.instruments.values_list("uid", "name"))
        played = {row.name: row.instrument_uid for row in third.tracks.all()}
        self.assertEqual(names[uuid.UUID(played["Alder kit"])], "Alder kit")
        self.assertEqual(played["Bittern"], "")

    @property
    def rig(self):
        return super().rig if Session.objects.count() < 1 else Session.objects.get(name="Tide Tables").rig

    @property
    def session(self):
        return Session.objects.get(name="Tide Tables")

    def test_a_grid_is_begun_with_what_ships_and_with_an_own_one_first(self):
        kit, kick = self.track("Alder kit"), self.track("Alder kick")
        address = reverse("session:grid", args=[kit.uid])
        page = self.client.get(address, {"sheet": "template"}).content.decode()
        self.assertIn("Backbeat in eighths", page)
        self.assertIn("disabled", page.split("Keep these")[1])
        answer = self.client.post(address, {"to": "template", "template": "starter-Backbeat in eighths"}, follow=True)
        self.assertIn("plays “Backbeat in eighths”", self.told(answer))
        kit.refresh_from_db()
        self.assertEqual({row.note for row in grids.grid_of(kit).patterns[0].rows}, {36, 38, 42})
        undo(self.rig, self.session)
        kit.refresh_from_db()
        self.assertIsNone(kit.grid)
        mine = Pattern("A", (Row(36, steps=(Step(0), Step(3))),))
        grids.change_grid(kit, "steps", lambda grid: grid.with_pattern(mine))
        self.client.post(address, {"to": "keep template"})
        page = self.client.get(address, {"sheet": "template"}).content.decode()
        self.assertLess(page.index("Alder kit, Tide"), page.index("Backbeat in eighths"))
        other = reverse("session:grid", args=[kick.uid])
        answer = self.client.post(other, {"to": "template", "template": str(Template.objects.get().uid)}, follow=True)
        self.assertIn("plays “Alder kit, Tide Tables”", self.told(answer))
        kick.refresh_from_db()
        self.assertEqual(grids.grid_of(kick).patterns[0], mine)
        self.assertIn(
            "is gone", self.told(self.client.post(other, {"to": "template", "template": "nope"}, follow=True))
        )

    def test_a_pass_plan_is_planned_as_before(self):
        row = planning.plan_anew(self.session, self.plan, first_bar=1, last_bar=4, gap_s=5.0, repeat=False)
        before = [one.tracks for one in row.columns.all()]
        self.send("session:plan", {"to": "keep template"})
        key = str(Template.objects.get().uid)
        answer = self.send("session:plan", {"to": "template", "template": key})
        self.assertIn("planned as they were", self.told(answer))
        again = planning.newest(self.session)
        self.assertNotEqual(again.uid, row.uid)
        self.assertEqual(([one.tracks for one in again.columns.all()], again.gap_s, again.repeat), (before, 5.0, False))
        self.session.tracks.update(name="Nobody")
        self.assertIn(
            "No track here has a name", self.told(self.send("session:plan", {"to": "template", "template": key}))
        )

    def test_all_of_them_stand_on_one_page_to_be_renamed_and_thrown_away(self):
        self.assertIn("Nothing is kept yet", self.page("handover:templates"))
        self.send("instruments:keep-template", {}, self.instrument("Bittern").uid)
        self.send("instruments:keep-template", {}, self.instrument("Bittern").uid)
        row = Template.objects.get()
        self.send("handover:templates", {"template": str(row.uid), "to": "rename", "name": "Low one"})
        self.assertIn("Low one", self.page("handover:templates"))
        self.assertIn(
            "needs a letter", self.told(self.send("handover:templates", {"template": str(row.uid), "name": " "}))
        )
        self.send("handover:templates", {"template": str(row.uid), "to": "gone"})
        self.assertFalse(Template.objects.exists())
