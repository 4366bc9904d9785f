"""Steps 3, 5, 6 and 7: notes in, a pass recorded, takes placed and looked at, everything handed over."""

import io
import re
from unittest import mock

import soundfile
from playwright.sync_api import expect

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.demo.compose import tide_tables
from hypotaxis.records.models import FrontPanel, Pass, Rig, Session, Socket, Take
from hypotaxis.records.plan import load_plan, notes_of
from tests.browser.base import BrowserTest
from tests.core.formats.test_smf import END, smf
from tests.rooms import box_named, uid_of


class SessionTest(BrowserTest):
    def record(self, *names: str, bars: tuple[int, int] = (1, 2), fast: bool = True):
        self.arm(*names)
        self.go("session:home")
        self.page.get_by_label("from bar").fill(str(bars[0]))
        self.page.get_by_label("to bar").fill(str(bars[1]))
        if fast:
            self.page.get_by_label("stand-in only: faster").check()
        self.button("Record")

    def test_a_midi_file_is_imported_and_a_bad_one_explained(self):
        self.go("session:import")
        chooser = self.page.get_by_label("Standard MIDI File")
        chooser.set_input_files({"name": "old.mid", "mimeType": "audio/midi", "buffer": smf(END, kind=2)})
        self.button("As a session of its own")
        self.see("old.mid was not imported. This is a type 2 file")
        chooser = self.page.get_by_label("Standard MIDI File")
        chooser.set_input_files({"name": "ebb.mid", "mimeType": "audio/midi", "buffer": write_smf(tide_tables())})
        self.page.get_by_label("Name of the session").fill("Low water")
        self.button("As a session of its own")
        self.see("Low water is imported: 5 tracks.")
        expect(self.page.locator("#session-choice option:checked")).to_have_text("Low water")
        program = self.page.get_by_label("prog").nth(2)
        program.fill("2")
        with self.page.expect_navigation():
            program.press("Tab")
        self.page.reload()
        expect(self.page.get_by_label("prog").nth(2)).to_have_value("2")

    def test_a_pass_shows_progress_peaks_and_time_and_can_be_stopped(self):
        self.record("Alder kit", bars=(1, 8), fast=False)
        self.see("Pass 1 is recording")
        expect(self.page.locator(".transport-state .mono").first).to_have_text(re.compile(r"0:1\d\.\d"))
        expect(self.page.locator(".meter[aria-label^='line in 7 peak −']")).to_be_visible()
        expect(self.page.locator(".playhead line")).to_have_attribute("x1", re.compile(r"^[1-9]"))
        self.press("s")
        self.see("stopped early")
        take = Take.objects.get()
        self.assertFalse(take.complete)
        self.assertGreater(take.frames, 24_000)
        self.assertEqual(take.run.job.state, "cancelled")

    def test_parts_that_share_a_return_are_refused_in_one_pass(self):
        self.record("Sedge upper", "Sedge lower")
        self.see("Sedge upper and Sedge lower both come home on line in 1–2")
        self.assertFalse(Pass.objects.exists())

    def test_notes_and_sound_are_looked_at_down_to_single_samples(self):
        self.record("Alder kit")
        self.see("hits used")
        self.press("]")
        self.see("bar 1, beat 1, sixteenth 3")
        self.press("[")
        for _ in range(4):
            before = self.page.locator(".glass-scale").text_content()
            self.page.get_by_title("Closer, to single samples").click()
            expect(self.page.locator(".glass-scale")).not_to_have_text(before)
        expect(self.page.locator(".glass .sample").first).to_be_visible()
        placed = Take.objects.get().placement
        self.button("Let it stand as it arrived")
        self.see("stands where it arrived")
        self.button("Place the take")
        self.see(f"placed by −{-placed} samples")
        for how in ("placed", "as it arrived"):
            expect(self.page.get_by_label(f"Take 1 {how}, with the notes’ click")).to_be_visible()

    def test_the_placed_take_and_the_notes_are_downloaded(self):
        self.record("Alder kit")
        self.see("hits used")
        self.press("6")
        self.see("The files begin 1 bar before bar 1")
        self.unfold("Single files")
        with self.page.expect_download() as wave:
            self.page.get_by_role("link", name="With its time reference").click()
        self.assertEqual(wave.value.suggested_filename, "Tide Tables Alder kit take 1.wav")
        with open(wave.value.path(), "rb") as stream:
            self.assertEqual(soundfile.info(io.BytesIO(stream.read())).subtype, "PCM_24")
        with self.page.expect_download() as notes:
            self.page.get_by_role("link", name="Notes with program changes").click()
        with open(notes.value.path(), "rb") as stream:
            self.assertEqual(stream.read(4), b"MThd")


class WholeWayTest(BrowserTest):
    def test_from_a_cable_to_a_take_that_stands_where_its_notes_stand(self):
        page = self.page
        page.goto(self.live_server_url)
        page.get_by_role("link", name="Draw this cable").click()
        self.button("Do it")
        page.get_by_label("Bittern out, cabled to Quayside 18 line in 3").click()
        page.get_by_role("link", name="Open instrument").click()
        page.get_by_label("Stand-in only").check()
        self.button("Play the note")
        self.see("It came home on line in 3.")
        self.press("5")
        page.get_by_role("checkbox", name="Arm").nth(1).click()
        page.get_by_label("to bar").fill("4")
        page.get_by_label("stand-in only: faster").check()
        self.button("Record 1 armed track")
        self.see("Pass 1: 1 take measured, placed.")
        take = Take.objects.get()
        expect(page.locator(".take-line .back").first).to_have_text(f"−{-take.placement}")
        self.press("4")
        self.see("take 1 of Tide Tables")
        self.press("6")
        self.button("Make the archive")
        with page.expect_download() as bundle:
            page.get_by_role("link", name="Take the archive").click()
        self.assertEqual(bundle.value.suggested_filename, "Tide Tables handover.zip")
        self.assertLess(take.placement, -300)


class ListTest(BrowserTest):
    def test_lists_of_a_large_session_hold_every_instrument_and_keep_what_was_gone(self):
        gone = Session.objects.get().tracks.get(name="Bittern")
        Session.objects.get().tracks.filter(uid=gone.uid).update(instrument_uid="gone")
        with mock.patch("hypotaxis.records.choices.APART_FROM", 1):
            self.go("session:home")
            kit, bittern = (self.page.get_by_label(f"Instrument of {name}") for name in ("Alder kit", "Bittern"))
            expect(kit.locator("option:checked")).to_have_text("Alder kit")
            expect(bittern.locator("option:checked")).to_have_text("an instrument or part that is gone")
            with self.page.expect_navigation():
                bittern.select_option("Sedge lower")
            expect(bittern.locator("option:checked")).to_have_text("Sedge lower")
            with self.page.expect_navigation():
                kit.select_option("no instrument")
        names = dict(Session.objects.get().tracks.values_list("name", "instrument_uid"))
        self.assertEqual((names["Alder kit"], names["Bittern"]), ("", names["Sedge lower"]))

    def test_arrows_in_a_list_are_kept_when_it_is_left(self):
        self.go("session:home")
        chosen = self.page.get_by_label("Instrument of Alder kit")
        before = chosen.input_value()
        self.page.wait_for_load_state()
        chosen.focus()
        for _ in range(2):
            self.press("ArrowDown")
        self.assertEqual(Session.objects.get().tracks.get(name="Alder kit").instrument_uid, before)
        # Leaving it sends it, and the page comes again.
        with self.page.expect_navigation():
            self.press("Tab")
        expect(self.page.get_by_label("Instrument of Alder kit")).not_to_have_value(before)
        self.page.reload()
        expect(self.page.get_by_label("Instrument of Alder kit")).not_to_have_value(before)


class FromNothingTest(BrowserTest):
    def test_an_empty_session_becomes_a_played_part(self):
        plan = load_plan(Rig.objects.get())
        Socket.objects.filter(uid=uid_of(plan, "Heron 61", "keys")).update(duty="played from")
        FrontPanel.objects.create(box_uid=box_named(plan, "Heron 61").uid, settings={"to_the_click": True})
        self.go("session:sessions")
        self.page.get_by_role("link", name="Begin an empty session").click()
        self.page.get_by_label("Name", exact=True).fill("Low Water")
        self.page.get_by_label("Tempo, BPM").fill("110")
        self.page.get_by_role("spinbutton", name="Bars").fill("2")
        self.button("Begin it")
        self.see("Low Water has 2 bars and no notes yet.")
        self.page.get_by_label("Bar 2: tempo").click()
        self.page.get_by_label("Section", exact=True).fill("Ebb")
        self.button("Name the section")
        self.see("Bar 2 begins “Ebb”.")
        with self.page.expect_navigation():
            self.press("Escape")
        self.press("p")
        self.page.get_by_label("To the track").select_option(label="Bittern")
        self.page.get_by_label("Stand-in only: faster than real time").check()
        self.button("Count in and play")
        self.see("8 notes played in to Bittern, bars 1 to 2")
        self.press("e")
        self.see("8 notes played in to Bittern, bars 1 to 2")
        expect(self.page.get_by_text("8 notes played in")).to_be_visible()
        self.press("a")
        expect(self.page.get_by_text("notes played in to Bittern")).to_have_count(0)
        played = Session.objects.get(name="Low Water").tracks.get(name="Bittern")
        self.assertEqual(len(notes_of(played)), 8)
        self.press("Control+z")
        self.see("Undone: Played in to Bittern.")
        played.refresh_from_db()
        self.assertEqual(len(notes_of(played)), 0)
        self.press("p")
        self.page.get_by_label("To the track").select_option(label="Sedge lower")
        self.page.locator("#id_last_bar").fill("1")
        self.page.get_by_label("Click on this page, too").check()
        self.button("Count in and play")
        expect(self.page.locator("body[data-clicked]")).to_have_count(1)
        self.see("played in to Sedge lower")
