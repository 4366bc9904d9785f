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
        self.press("m")
        self.choose(self.score, self.recording)
        self.see("It comes home")
        found = Sounding.objects.get().measured
        figures = self.page.locator(".to-type .trip-figure")
        expect(figures.nth(0)).to_have_text(f"+{found.lateness_ms:.2f}")
        expect(figures.nth(2)).to_have_text(f"−{found.lateness_ms:.2f}")
        self.context.grant_permissions(["clipboard-read", "clipboard-write"])
        self.page.get_by_label(f"Copy -{found.lateness_ms:.2f} ms").click()
        expect(self.page.get_by_label(f"Copy -{found.lateness_ms:.2f} ms")).to_have_text("Copied")
        copied = self.page.evaluate("navigator.clipboard.readText()")
        self.assertEqual(copied, f"-{found.lateness_ms:.2f}", "with the minus that a field takes")
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


class SoundingTest(BrowserTest):
    def take(self, name: str) -> None:
        self.page.locator("select[name=trip]").select_option(label=name)
        self.page.locator("select[name=hits]").select_option("16")
        self.page.get_by_label("Stand-in only").check()
        self.page.get_by_role("button", name="Take a sounding").click()

    def test_a_sounding_its_trip_and_another_buffer(self):
        self.go("timing:home")
        self.see("expected about +13.3 ±3.7 ms")
        self.take("Bittern")
        self.see("16 of 16")
        self.see("It comes home")
        self.page.get_by_text("thru of Sedge").wait_for()
        self.see("All soundings are of one buffer and rate.")
        self.go("rig:rigs")
        self.page.get_by_label("Buffer").first.select_option("512")
        self.page.get_by_role("button", name="Keep", exact=True).click()
        self.go("timing:home")
        self.see("buffer 256, now 512")
        self.page.get_by_role("link", name="Bittern", exact=True).click()
        self.page.get_by_label("Stand-in only").check()
        self.page.locator("select[name=hits]").select_option("16")
        self.page.get_by_text("Playing together").click()
        self.press("t")
        self.see("Lateness follows the buffer by")

    def test_all_in_a_row_can_be_stopped(self):
        self.go("timing:home")
        self.page.get_by_role("button", name="Sound all").click()
        self.see("Keep faders and cables as they are.")
        self.page.get_by_role("button", name="Stop").click()
        expect(self.page.get_by_role("button", name="Take a sounding")).to_be_visible()
        self.assertFalse(Sounding.objects.filter(measurement__isnull=False).exists())

    def test_the_wires_and_playing_together(self):
        self.go("timing:wires")
        self.page.get_by_label("Notes are late beyond").fill("1")
        self.press("Enter")
        self.page.get_by_role("link", name="Junction out 2").click()
        self.see("Sedge on a wire of its own")
        self.press("Escape")
        self.take("Bittern")
        self.see("16 of 16")
        self.page.get_by_role("button", name="Sent earlier").click()
        self.see("Each is sent earlier by its own lateness")
        self.page.locator("#undo").click()
        self.see("Notes are sent when they are written")
