"""Steps 2 and 4: defining an instrument, and trying it."""

from playwright.sync_api import expect

from tests.browser.base import BrowserTest


class InstrumentTest(BrowserTest):
    def test_what_is_missing_or_doubly_used_is_said_at_the_spot(self):
        self.go("instruments:home")
        self.see("Withy has no way home")
        self.page.get_by_role("link", name="Bittern", exact=True).click()
        self.unfold("Definition")
        self.page.get_by_role("link", name="Change the definition").click()
        self.page.get_by_label("Channel", exact=True).fill("17")
        self.page.get_by_label("Name", exact=True).fill("Bittern low")
        self.button("Keep")
        self.see("Ensure this value is less than or equal to 16.")
        expect(self.page.get_by_label("Name", exact=True)).to_have_value("Bittern low")
        self.page.get_by_label("Channel", exact=True).fill("1")
        self.button("Keep")
        self.see("Channel 1 of Junction out 2 is used twice.")
        expect(self.page.locator(".channel-ruler .shared")).to_have_count(1)

    def test_a_note_is_played_and_what_came_back_is_seen_and_heard(self):
        self.go("instruments:home")
        self.page.get_by_role("link", name="Alder kit", exact=True).click()
        self.page.get_by_label("Stand-in only").check()
        self.button("Play the note")
        self.see("It came home on line in 7–8.")
        self.see("99 26 64")
        sounded = self.page.evaluate(
            "async () => (await (await fetch(document.querySelector('audio').src)).arrayBuffer()).byteLength"
        )
        self.assertGreater(sounded, 48_000)

    def test_where_nothing_comes_back_the_causes_are_named_and_a_panel_can_be_looked_at(self):
        self.go("instruments:home")
        self.page.get_by_role("link", name="Sedge lower", exact=True).click()
        self.unfold("More")
        self.page.get_by_role("link", name="Front panel of the stand-in’s Sedge").click()
        self.page.get_by_label("Receive channel, part 2").fill("9")
        self.button("Set on the box")
        self.see("Sedge is set, as if on the box")
        self.go("instruments:home")
        self.page.get_by_role("link", name="Sedge lower", exact=True).click()
        self.button("Play the note")
        self.see("Nothing came home on line in 1–2.")
        self.see("Sedge receives on another channel than 2")

    def test_a_whole_kit_of_voices_is_typed_in_one_go(self):
        self.go("instruments:home")
        self.page.get_by_role("link", name="Bittern", exact=True).click()
        self.unfold("Parts and returns")
        self.page.get_by_role("link", name="Voices").click()
        rows = range(1, 8)
        for row in rows:
            expect(self.page.get_by_label(f"Voice of row {row + 1}", exact=True)).to_be_hidden()
            self.page.get_by_label(f"Note of row {row}", exact=True).fill(str(35 + row))
            self.page.get_by_label(f"Voice of row {row}", exact=True).fill(f"drum {row}")
        self.button("Keep the voices")
        self.unfold("Parts and returns")
        self.page.get_by_role("link", name="Voices").click()
        for row in rows:
            expect(self.page.get_by_label(f"Voice of row {row}", exact=True)).to_have_value(f"drum {row}")
        expect(self.page.get_by_label("Voice of row 9")).to_be_hidden()
