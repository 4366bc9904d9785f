"""A recording of one's own, dropped on the timing step."""

import tempfile
from pathlib import Path

from playwright.sync_api import expect

from hypotaxis.records.models import Sounding
from tests.browser.base import BrowserTest
from tests.core.timing.files import pair_of_files


class OwnRecordingTest(BrowserTest):
    def setUp(self):
        super().setUp()
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.score, self.recording, self.true_ms = pair_of_files(Path(holder.name), name="bittern.wav", jitter_ms=0.3)

    def choose(self, score: Path, recording: Path) -> None:
        self.page.get_by_label("Score (.mid)").set_input_files(score)
        self.page.get_by_label("Recording: what came back").set_input_files(recording)
        self.page.get_by_role("button", name="Measure", exact=True).click()

    def test_two_files_dropped_give_the_number_to_type(self):
        self.go("timing:home")
        self.page.keyboard.press("m")
        self.choose(self.score, self.recording)
        self.see("It comes home")
        found = Sounding.objects.get().result
        expect(self.page.locator(".to-type .trip-figure")).to_contain_text(f"−{found['offset_ms']:.2f} ms")
        self.page.get_by_role("link", name="My field asks how late it is").click()
        expect(self.page.locator(".to-type .trip-figure")).to_contain_text(f"+{found['offset_ms']:.2f} ms")
        self.page.get_by_label("hit at").nth(5).click()
        self.see("The recording around hit 6 of 32")
        for _ in range(4):
            before = self.page.locator(".wave").inner_html()
            self.page.get_by_title("Closer, to single samples").click()
            self.page.wait_for_function("html => document.querySelector('.wave').innerHTML !== html", arg=before)
        expect(self.page.locator(".wave .sample").first).to_be_visible()

    def test_a_wrong_file_is_explained_and_what_was_chosen_stays(self):
        self.go("timing:new")
        self.choose(self.recording, self.recording)
        self.see("begin with MThd")
        kept = "document.querySelector('[name=recording]').files[0].name"
        self.assertEqual(self.page.evaluate(kept), "bittern.wav")
        self.assertFalse(Sounding.objects.exists())
        # The browser tells of the refused request; that is no fault of the page.
        self.complaints = [text for text in self.complaints if "400 (Bad Request)" not in text]

    def test_a_recording_of_something_else_is_refused_with_a_reason(self):
        self.go("timing:new")
        score, _, _ = pair_of_files(self.score.parent, name="other.wav", seed=44)
        self.choose(score, self.recording)
        self.see("What came back does not follow")
        self.see("no answer: open to see why")
