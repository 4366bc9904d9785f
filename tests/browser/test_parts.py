"""A part of one's own in the real interface: programmed in a grid, played from by a generator, mended note by note."""

import re

from django.urls import reverse
from playwright.sync_api import expect

from hypotaxis.core.grid.values import Step
from hypotaxis.core.session.arrange import empty
from hypotaxis.records.models import Rig, Session, Track
from hypotaxis.records.plan import load_plan, notes_of, part_of
from hypotaxis.steps.session.services.arranging import new_session
from hypotaxis.steps.session.services.grids import grid_of
from tests.browser.base import BrowserTest


class GridTest(BrowserTest):
    def setUp(self):
        super().setUp()
        rig = Rig.objects.get()
        piece = empty(bpm=96, beats=4, unit=4, bars=2)
        song = new_session(rig, load_plan(rig), piece, name="Programmed", tracks=True)
        self.uid = song.tracks.get(name="Alder kit").uid
        self.page.goto(f"{self.live_server_url}{reverse('session:grid', args=[self.uid])}")

    @property
    def kit(self) -> Track:
        return Track.objects.select_related("session").get(uid=self.uid)

    def cell(self, voice: str, step: int):
        return self.page.get_by_role("group", name=voice, exact=True).locator(".step-cell").nth(step - 1)

    def shows(self, voice: str, step: int, what: str) -> None:
        expect(self.cell(voice, step)).to_have_attribute("aria-label", f"{voice}, step {step}: {what}")

    def test_a_pattern_with_swing_is_programmed_heard_printed_and_brought_back(self):
        self.see("2 of 2 bars have a pattern")
        for step in (1, 2):
            self.cell("Closed hat", step).click()
            self.shows("Closed hat", step, "velocity 100")
        self.press("ArrowRight")
        self.press("Enter")
        self.shows("Closed hat", 3, "velocity 100")
        self.press("Shift+ArrowDown")
        self.shows("Closed hat", 3, "velocity 92")
        box = self.cell("Closed hat", 1).bounding_box()
        self.page.mouse.move(box["x"] + 10, box["y"] + 10)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + 10, box["y"] + 50, steps=4)
        self.page.mouse.up()
        self.shows("Closed hat", 1, "velocity 60")
        self.page.get_by_label("Swing of Closed hat").fill("58")
        self.press("Enter")
        self.cell("Closed hat", 2).click()
        self.see("+25.0")
        self.page.get_by_label("Repeats", exact=True).fill("2")
        self.button("Keep the step")
        self.shows("Closed hat", 2, "velocity 100, 2 times")
        self.nothing_is_found()
        self.press("p")
        self.see("Pattern A plays on Alder kit")
        self.cell("Snare", 5).click()
        self.shows("Snare", 5, "velocity 100")
        self.press("s")
        self.see("Play pattern A")
        self.assertEqual(grid_of(self.kit).pattern("A").row(42).steps, (Step(0, 60), Step(1, repeats=2), Step(2, 92)))
        self.button("Print 2 bars to notes")
        self.see("10 notes of Alder kit printed, and its patterns off.")
        self.assertEqual(len(part_of(self.kit).notes), 10)
        self.press("Control+z")
        self.see("Undone: Print Alder kit.")
        self.assertEqual((len(part_of(self.kit).notes), len(notes_of(self.kit))), (0, 10))

    def test_patterns_are_laid_along_the_bars_and_rows_are_grown(self):
        self.page.get_by_role("link", name="Grow rows").click()
        self.page.get_by_role("checkbox", name="Kick").check()
        self.button("Grow them")
        self.see("1 row of pattern A grown from seed 1.")
        self.press("Escape")
        self.button("Copy A")
        self.see("Pattern B is there.")
        self.page.get_by_label("Bar 2: pattern A").click()
        expect(self.page.get_by_label("Bar 2: pattern B")).to_be_visible()
        self.assertEqual(grid_of(self.kit).order, ("A", "B"))
        self.page.set_viewport_size({"width": 390, "height": 844})
        wide = "document.documentElement.scrollWidth <= document.documentElement.clientWidth"
        self.assertTrue(self.page.evaluate(wide))


class NotesTest(BrowserTest):
    def test_notes_are_chosen_moved_copied_and_played_from(self):
        track = Session.objects.get().tracks.get(name="Bittern")
        self.page.goto(f"{self.live_server_url}{reverse('session:notes', args=[track.uid])}?bar=1&bars=2")
        notes = self.page.locator(".roll-note")
        count = len(part_of(track).notes)
        shown = notes.count()
        field = self.page.locator(".roll-field").bounding_box()
        self.page.mouse.move(field["x"] + 2, field["y"] + 2)
        self.page.mouse.down()
        self.page.mouse.move(field["x"] + field["width"] - 4, field["y"] + field["height"] - 4, steps=4)
        self.page.mouse.up()
        self.see(f"{shown} notes")
        self.press("Control+c")
        self.page.get_by_label("Bar to lay in at").fill("9")
        self.button("Lay in at bar")
        expect(self.page.get_by_text(f"{count + shown} in all")).to_be_visible()
        self.page.get_by_label("Choose bar 2").click()
        told = self.page.locator("[data-chosen-told]")
        expect(told).not_to_have_text(f"{shown} notes")
        first = self.page.locator(".roll-note.chosen").first
        before = int(first.get_attribute("data-note"))
        self.press("ArrowUp")
        expect(self.page.locator(".roll-note.chosen").first).to_have_attribute("data-note", str(before + 1))
        self.nothing_is_found()
        self.button("Take away")
        self.see("taken away; undo brings them back.")
        self.press("Control+z")
        self.see("Undone: Notes away of Bittern.")
        self.page.goto(f"{self.live_server_url}{reverse('session:part', args=[track.uid])}")
        self.unfold("Generator")
        self.page.get_by_label("Generator", exact=True).select_option("repeat")
        self.button("Let it play")
        self.see("Bittern plays its notes as repeat now.")
        self.nothing_is_found()
        self.button("Print to notes")
        self.see("and its generator off. Undo brings both back.")


class TakesTest(BrowserTest):
    def test_takes_are_heard_compared_and_let_stand_by_bars(self):
        session = Session.objects.get()
        self.arm("Bittern")
        for last in ("4", "2"):
            self.go("session:home")
            self.page.get_by_label("to bar").fill(last)
            self.page.get_by_label("stand-in only: faster").check()
            self.button("Record 1 armed track")
            self.see("1 take measured, placed.")
        self.page.get_by_role("link", name="Bittern, side by side").click()
        self.see("Takes of Bittern")
        expect(self.page.get_by_text("over no onset")).to_have_count(1)
        strip = self.page.get_by_role("img", name="Take 1", exact=True)
        box = strip.bounding_box()
        self.page.mouse.move(box["x"] + box["width"] * 0.08, box["y"] + 20)
        self.page.mouse.down()
        self.page.mouse.move(box["x"] + box["width"] * 0.10, box["y"] + 20, steps=3)
        self.page.mouse.up()
        expect(self.page.locator("#stand-first")).to_have_value("2")
        self.button("Let it stand")
        self.see("Take 1 stands in bars 2 to 2.")
        self.press("Alt+2")
        self.see("Take 2 stands in bars 1 to 2.")
        self.button("Let the newest stand again")
        self.see("The newest good takes of Bittern stand.")
        self.button("Compare them")
        self.see("The same sound.")
        self.nothing_is_found()
        # One goes on where the other was.
        self.page.get_by_role("button", name="Hear", exact=True).first.click()
        heard = self.page.locator("[data-heard]")
        expect(heard).to_have_text(re.compile("0:0[1-9]"))
        self.page.get_by_role("button", name="Hear", exact=True).last.click()
        expect(heard).to_have_text(re.compile("0:0[2-9]"))
        self.press("Space")
        self.assertEqual(session.tracks.get(name="Bittern").chosen, [])


class MixTest(BrowserTest):
    def test_what_stands_is_heard_together_and_goes_on_while_it_is_set(self):
        self.arm("Bittern", "Alder kit")
        self.go("session:home")
        self.page.get_by_label("to bar").fill("4")
        self.page.get_by_label("stand-in only: faster").check()
        self.button("Record 2 armed tracks")
        self.see("2 takes measured, placed.")
        self.page.get_by_role("link", name="Heard together").click()
        self.see("2 tracks heard")
        self.nothing_is_found()
        position = self.page.locator("[data-position]")
        expect(position).to_have_text("1.1")
        self.press("h")
        expect(position).to_have_text(re.compile(r"^(1\.[2-4]|[2-4]\.[1-4])$"))
        level = self.page.get_by_role("img", name="Level of Bittern").locator(".level")
        expect(level).to_have_attribute("width", re.compile(r"^[1-9]"))
        self.button("Mute Bittern")
        self.see("1 track heard")
        # It goes on where it was, and not from the beginning.
        expect(position).to_have_text(re.compile(r"^([2-9]|1\d)\.[1-4]$"))
        expect(level).to_have_attribute("width", "0")
        self.button("Stop h")
        self.button("Make the mix")
        self.see("Take the file")


class PlanTest(BrowserTest):
    def test_passes_are_planned_edited_and_recorded_in_a_row(self):
        self.go("session:home")
        self.page.get_by_label("Instrument of a new track").select_option(label="effect Eelgrass delay")
        self.button("Add a track")
        self.see("Choose what is sent through it.")
        # It is kept at once.
        with self.page.expect_navigation():
            self.page.get_by_label("Sent to Eelgrass delay").select_option(label="Alder kit")
        kit = Session.objects.get().tracks.get(name="Alder kit")
        expect(self.page.get_by_label("Sent to Eelgrass delay")).to_have_value(str(kit.uid))
        self.page.get_by_role("link", name="Pass plan").click()
        self.see("No plan yet")
        self.page.get_by_label("To bar").fill("2")
        self.page.get_by_label("Stand-in only").check()
        self.button("Plan the fewest passes")
        self.see("the fewest passes")
        self.page.get_by_label("Pass of Bittern").select_option(label="pass 2")
        self.see("Bittern is recorded in pass 2 now.")
        self.page.get_by_label("Pass of Sedge lower").select_option(label="pass 1")
        self.see("They need a pass each.")
        self.nothing_is_found()
        waits = self.page.get_by_role("group", name="Bittern, waits")
        waits.focus()
        self.press("ArrowLeft")
        self.see("Bittern is recorded in pass 1 now.")
        rests = self.page.get_by_role("row", name="line in 3").locator("td")
        self.drag(waits.locator(".plan-cell-head"), rests.nth(1))
        self.see("Bittern is recorded in pass 2 now.")
        self.button("in a row")
        self.see("All passes are done.")
        self.see("done, good")
        self.assertEqual(len({take.track_id for take in Session.objects.get().takes.all()}), 6)
        (wet,) = Session.objects.get().takes.filter(track__fed_by=kit)
        self.assertFalse(wet.silent, "what stands of the kit went through the effect and came home")
