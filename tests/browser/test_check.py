"""The line check in the real interface: a slipped setting is found, the plan follows in one move, heard again."""

from playwright.sync_api import expect

from hypotaxis.records.models import FrontPanel, Rig
from hypotaxis.records.plan import load_plan
from tests.browser.base import BrowserTest
from tests.rooms import box_named


class LineCheckTest(BrowserTest):
    def check(self) -> None:
        self.page.get_by_role("checkbox", name="stand-in only: faster").check()
        self.button("Check 8 lines")

    def test_a_box_on_another_channel_is_found_and_its_line_checked_again_alone(self):
        box = box_named(load_plan(Rig.objects.get()), "Bittern")
        FrontPanel.objects.update_or_create(box_uid=box.uid, defaults={"settings": {"channels": [9]}})
        self.go("rig:home")
        self.page.get_by_role("link", name="Line check").click()
        self.see("0 of 8 lines checked")
        self.nothing_is_found()
        self.check()
        self.see("Silent on channel 3; it answers on channel 9.")
        # The page comes anew when the check has ended.
        expect(self.page.get_by_role("button", name="Check 8 lines")).to_be_visible()
        self.see("8 of 8 lines checked")
        self.nothing_is_found()
        self.page.get_by_role("link", name="Let Bittern be sent on channel 9").click()
        self.see("1 change in the plan; the rig check then finds nothing new.")
        self.button("Do it")
        self.see("Done: Let Bittern be sent on channel 9.")
        self.button("Check again: Bittern")
        row = self.page.get_by_role("row").filter(has_text="Bittern")
        expect(row).to_contain_text("As planned.")
        expect(row).to_contain_text("ch 9")
        self.page.set_viewport_size({"width": 390, "height": 800})
        wide = self.page.evaluate("document.documentElement.scrollWidth")
        self.assertLessEqual(wide, 390)
