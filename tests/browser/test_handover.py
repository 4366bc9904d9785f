"""Step 6: what is ready, what goes in, the archive."""

import zipfile

from playwright.sync_api import expect

from hypotaxis.records.models import Session
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.session.services.recording import start_pass
from tests.browser.base import BrowserTest


class HandoverTest(BrowserTest):
    def record(self, name: str, first: int, last: int) -> None:
        self.arm(name)
        session = Session.objects.get()
        start_pass(session, load_plan(session.rig), first_bar=first, last_bar=last, fast=True, place_takes=True)
        self.go("session:home")
        self.see("measured, placed")

    def test_what_goes_in_is_chosen_and_its_size_follows_and_the_archive_holds_it(self):
        self.record("Bittern", 1, 16)
        self.go("handover:home")
        self.see("1 of 5 tracks ready")
        self.nothing_is_found()
        whole = self.page.locator("[data-part=sum] .sum")
        before = whole.inner_text()
        self.page.get_by_label("The same, filled from the beginning").check()
        expect(whole).not_to_have_text(before)
        for name in ("Notes", "Names", "The sheet of settings"):
            self.page.get_by_role("checkbox", name=name, exact=True).uncheck()
        self.unfold("How the sounds are written")
        self.page.get_by_label("Files are named").fill("{track} {song}")
        self.page.get_by_label("As", exact=True).select_option("FLAC, 24 bit")
        self.see("“{song}” stands for nothing")
        expect(self.page.get_by_label("Files are named")).to_have_value("{track} {song}")
        self.page.get_by_label("Files are named").fill("{number} {track}")
        self.page.get_by_label("Files are named").press("Tab")
        self.see("Files named {number} {track}")
        # Another step and back: all is as it was left.
        self.press("5")
        self.see("Tracks")
        self.press("6")
        self.see("Files named {number} {track}")
        self.button("Make the archive")
        with self.page.expect_download() as bundle:
            self.page.get_by_role("link", name="Take the archive").click()
        names = zipfile.ZipFile(bundle.value.path()).namelist()
        self.assertEqual(names[:2], ["audio/01 Bittern.flac", "audio from the beginning/01 Bittern.flac"])
        self.assertEqual(len(names), 5)

    def test_what_is_missing_leads_to_its_recording(self):
        self.record("Bittern", 3, 16)
        self.go("handover:home")
        self.see("bars 1–2 missing")
        self.button("Record bars 1–2")
        expect(self.page.get_by_label("to bar")).to_have_value("2")
        self.page.get_by_label("stand-in only: faster").check()
        self.button("Record 1 armed track")
        self.see("Pass 2: 1 take measured, placed.")
        self.press("6")
        self.see("1 of 5 tracks ready")

    def test_a_session_leaves_and_comes_back_on_its_rig(self):
        self.record("Bittern", 1, 4)
        self.go("handover:home")
        self.page.get_by_role("checkbox", name="The session, to open again").check()
        self.see("1 file, Broadcast Wave")
        self.button("Make the archive")
        with self.page.expect_download() as bundle:
            self.page.get_by_role("link", name="Take the archive").click()
        Session.objects.all().delete()
        self.go("handover:home")
        self.page.get_by_role("link", name="Open an archive").click()
        self.page.get_by_label("Archive (.zip)").set_input_files(bundle.value.path())
        self.button("Look into it")
        self.see("Tide Tables, from Saltmarsh Room")
        self.nothing_is_found()
        expect(self.page.get_by_label("What plays Bittern here")).not_to_have_value("")
        self.page.get_by_label("What plays Alder kit here").select_option("")
        self.button("Open it on Saltmarsh Room")
        self.see("Tide Tables is open: 5 tracks, 1 take.")
        self.see("bars 1–4, pass 1")
        self.assertEqual(Session.objects.get().tracks.filter(instrument_uid="").count(), 1)
