"""Step 2: sounds named, found, called up; instruments copied and moved on the ruler."""

from playwright.sync_api import expect

from hypotaxis.records.models import Instrument, PatchList
from tests.browser.base import BrowserTest
from tests.web.instruments.test_patches import PASTE


class PatchesTest(BrowserTest):
    def open(self, name: str) -> None:
        self.go("instruments:home")
        self.page.get_by_role("link", name=name, exact=True).click()
        self.page.wait_for_url("**/instruments/*-*/")

    def test_a_list_is_pasted_looked_at_kept_and_used(self):
        self.open("Bittern")
        self.page.get_by_role("link", name="Patch lists").first.click()
        self.page.get_by_label("Or text pasted from a manual").fill(PASTE)
        self.button("Look at it")
        self.see("Line 4")
        self.see("Missing between others of Bank A: 3")
        self.page.get_by_label("Name of the list").fill("Marsh")
        self.button("Keep this list")
        self.see("Marsh is kept: 3 sounds")
        self.open("Bittern")
        self.page.get_by_label("Named by").select_option(label="Marsh")
        self.page.get_by_role("button", name="2 Mud").click()
        self.see("B2 00 51 · B2 20 00 · C2 01")
        self.see("It came home on line in 3.")
        self.assertEqual(PatchList.objects.get(name="Marsh").patches.exclude(used=None).get().name, "Mud")

    def test_a_sound_is_found_while_it_is_typed_and_the_next_one_tried_by_a_key(self):
        self.open("Sedge upper")
        self.press("f")
        self.page.keyboard.type("bell ii")
        expect(self.page.locator(".found button")).to_have_count(2)
        self.page.get_by_role("button", name="Buoy bell II").click()
        self.see("C0 0B")
        self.see("It came home on line in 1–2.")
        self.press(".")
        expect(self.page.locator(".sound-now")).to_contain_text("Salt pluck II")
        self.button("Favourite")
        expect(self.page.get_by_role("button", name="Favourite ✓")).to_be_visible()

    def test_an_instrument_is_copied_and_its_cell_dragged_on_the_ruler(self):
        self.open("Bittern")
        self.unfold("Definition")
        self.page.get_by_role("link", name="Another one like it").click()
        expect(self.page.get_by_label("Name", exact=True)).to_have_value("Bittern 2")
        self.button("Define it")
        self.see("Bittern 2 is defined")
        self.unfold("Channels")
        mine, goal = self.page.locator(".channel-ruler [data-mine]"), self.page.get_by_label("Channel 9: free")
        self.drag(mine, goal)
        # The page comes back at the ruler, opened.
        expect(self.page.get_by_label("Channel 9: Bittern 2")).to_be_visible()
        self.assertEqual(Instrument.objects.get(name="Bittern 2").channel, 9)
        self.page.get_by_label("Channel 11: free").focus()
        self.press("Enter")
        expect(self.page.get_by_label("Channel 11: Bittern 2")).to_be_visible()

    def test_keys_locked_to_a_scale_and_named_pads_are_played(self):
        self.open("Sedge upper")
        self.page.get_by_label("Stand-in only").check()
        self.page.get_by_label("Scale").select_option(label="minor pentatonic")
        expect(self.page.get_by_label("C♯3, note 61")).to_be_disabled()
        self.page.get_by_label("Stand-in only").check()
        self.page.wait_for_load_state()
        self.page.get_by_label("Keys; z x c").press("c")
        self.see("90 35")
        self.open("Alder kit")
        self.page.get_by_role("button", name="Snare").click()
        self.see("99 26")
        self.see("It came home on line in 7–8.")
