"""The sheet of settings: on the page, and as PDF whose text is read back and held against the plan."""

import io
from datetime import date

from django.urls import reverse
from PIL import Image
from pypdf import PdfReader

from hypotaxis.core.formats.sheetpdf import printable, write_sheet_pdf
from hypotaxis.core.rig.panels import panel_settings
from hypotaxis.core.rig.printed import cable_rows
from hypotaxis.core.session.sheet import Column, Section, Sheet
from hypotaxis.records.models import Session, Tick
from hypotaxis.records.patch_lists import voices_of
from hypotaxis.records.pictures import keep_picture
from tests.web.base import DemoTest


def text_of(data: bytes) -> str:
    """What a PDF says, in one line, as pypdf reads it (independent of the writer)."""
    return " ".join(" ".join(page.extract_text() for page in PdfReader(io.BytesIO(data)).pages).split())


class SheetTest(DemoTest):
    def pdf(self) -> str:
        answer = self.client.get(reverse("handover:sheet-pdf"))
        self.assertEqual(answer["Content-Type"], "application/pdf")
        return text_of(answer.content)

    def test_every_line_cable_panel_and_note_of_the_plan_is_in_it(self):
        plan, told = self.plan, self.pdf()
        for one in plan.instruments:
            with self.subTest(instrument=one.name):
                self.assertIn(f"{plan.rig.socket_text(one.send)}, ch {one.channel}", told)
            for voice in voices_of(one):
                self.assertIn(f"{voice.note} {voice.name}", told)
        for row in cable_rows(plan):
            self.assertIn(f"{row.number} {row.source} {row.target}", told)
        for box in panel_settings(plan):
            for step in box.settings:
                self.assertIn(step.text, told)
        self.assertIn("Render in real time 0:40.0", told)
        self.assertIn("not known: measure it", told)

    def test_lateness_stands_in_both_conventions_and_a_stale_one_says_so(self):
        take = self.record("Bittern", bars=(1, 8)).takes.get()
        ms = take.measured.lateness_ms
        told = self.pdf()
        self.assertIn(f"Bittern {ms:.2f} {round(ms * 48)} −{ms:.2f} ±{take.measured.lateness_half:.2f} take", told)
        rig = self.rig
        rig.buffer = 512
        rig.save()
        self.assertIn("stale: buffer 256, now 512", self.pdf())
        self.assertContains(self.client.get(reverse("handover:sheet")), "stale: buffer 256, now 512")

    def test_the_archive_holds_it_and_an_empty_rig_has_one(self):
        self.record("Bittern", bars=(1, 2))
        self.assertIn("Junction out 2, ch 3", text_of(self.handed_over().read("Tide Tables settings.pdf")))
        Session.objects.all().delete()
        self.assertIn("Saltmarsh Room", self.pdf())

    def test_it_ends_with_pictures_of_the_rig_and_its_boxes_and_ticks_have_their_day(self):
        picture = io.BytesIO()
        Image.new("RGB", (40, 30), "red").save(picture, "PNG")
        picture.seek(0)
        box = self.rig.boxes.get(name="Sedge")
        box.picture = keep_picture(picture)
        box.save()
        step = next(step for one in panel_settings(self.plan) for step in one.settings)
        Tick.objects.create(rig=self.rig, key=step.key, day=date(2026, 11, 3))
        data = self.client.get(reverse("handover:sheet-pdf")).content
        *_, last = PdfReader(io.BytesIO(data)).pages
        told = last.extract_text()
        for one in self.plan.rig.boxes:
            if one.shape not in ("host", "speakers"):
                self.assertIn(one.name, told)
        self.assertEqual(len(last.images), 1)
        self.assertIn(f"{step.text} ticked 3 Nov 2026", text_of(data))
        page = self.client.get(reverse("handover:sheet"))
        self.assertContains(page, reverse("rig:picture", args=[box.picture]))
        self.assertContains(page, 'class="rig-card"')

    def test_names_of_any_alphabet_and_length_break_nothing(self):
        rows = (("Übung Łódź", "Ж" * 300), ("a" * 300, ""))
        sheet = Sheet("水", "Ж", "", "", (Section("Names", (Column("", 1), Column("b", 1, number=True)), rows),))
        told = text_of(write_sheet_pdf(sheet))
        self.assertIn("Übung Łódź", told)
        self.assertEqual(printable("Ж−5 Ł水"), "?−5 Ł?")
        self.assertEqual(told.replace(" ", "").count("a" * 300), 1)
