"""Every page: shortcuts, day and night, and what an accessibility checker says."""

from tests.browser.base import BrowserTest

STEPS = ("rig", "instruments", "sync", "timing", "session", "handover")
SHEETS = (
    "handover:sheet",
    "rig:add",
    "rig:startup",
    "rig:rigs",
    "rig:ports",
    "rig:panels",
    "rig:printed-cables",
    "rig:printed-labels",
    "timing:new",
    "timing:wires",
    "session:import",
    "session:new",
    "session:bars",
    "session:play-in",
    "instruments:new",
    "instruments:lists",
    "instruments:new-loop",
)


class FrameTest(BrowserTest):
    def test_shortcuts_lead_through_the_steps_and_are_listed(self):
        self.go("rig:home")
        self.press("?")
        self.see("add a box")
        self.press("Escape")
        for number, step in [*enumerate(STEPS[1:], start=2), (1, "rig")]:
            self.press(str(number))
            self.page.wait_for_url(f"**/{step}/")

    def test_night_is_kept_from_page_to_page_and_follows_the_system(self):
        self.go("rig:home")
        paper = "getComputedStyle(document.querySelector('.title-row')).backgroundColor"
        self.assertEqual(self.page.evaluate(paper), "rgb(237, 239, 233)")
        self.page.emulate_media(color_scheme="dark")
        self.assertEqual(self.page.evaluate(paper), "rgb(18, 22, 27)")
        self.page.emulate_media(color_scheme="light")
        self.button("Night")
        self.press("2")
        self.page.wait_for_url("**/instruments/")
        self.assertEqual(self.page.evaluate(paper), "rgb(18, 22, 27)")

    def test_the_accessibility_checker_finds_nothing(self):
        # axe-core 4, its rules for WCAG 2 A and AA; at night only what its colours can change.
        for step in (*STEPS, *SHEETS):
            with self.subTest(step=step):
                self.go(step if ":" in step else f"{step}:home")
                self.nothing_is_found()
        self.go("rig:home")
        self.button("Night")
        for step in STEPS:
            with self.subTest(step=step, theme="night"):
                self.go(f"{step}:home")
                self.nothing_is_found()
        self.go("timing:home")
        self.page.get_by_role("link", name="Alder kit").click()
        self.see("Where it comes from")
        self.nothing_is_found()
        self.go("instruments:home")
        self.page.get_by_role("link", name="Alder kit").click()
        self.see("Comes home")
        self.nothing_is_found()
        self.unfold("Parts and returns")
        self.page.get_by_role("link", name="Voices").click()
        self.see("Take over from")
        self.nothing_is_found()
