"""The stand view in the real interface, on a phone and a tablet, by two browsers at once; and from the room."""

import http.client
from unittest import mock
from urllib.parse import urlsplit

from django.test import override_settings
from django.urls import reverse
from playwright.sync_api import Page, expect

from hypotaxis.records.models import Job, Pass
from hypotaxis.web.room import door as doors
from hypotaxis.web.room.door import door
from tests.browser.base import BrowserTest

PHONE, TABLET = {"width": 390, "height": 844}, {"width": 1024, "height": 768}
SCREENS = (PHONE, TABLET, {"width": 844, "height": 390}, {"width": 768, "height": 1024})


class StandTest(BrowserTest):
    workers = 3

    def shows(self, page: Page, name: str, text: str) -> None:
        expect(page.locator(f"[data-show={name}]")).to_have_text(text)

    def verdict(self, page: Page, text: str) -> None:
        expect(page.locator("[data-verdict=told]")).to_contain_text(text)

    def another_page(self, **how) -> Page:
        context = self.browser.new_context(**how)
        self.addCleanup(context.close)
        return context.new_page()

    def choose(self, *names: str) -> None:
        self.page.get_by_role("button", name="Choose", exact=True).click()
        for name in names:
            switch = self.page.get_by_role("switch", name=name)
            switch.click()
            expect(switch).to_have_attribute("aria-checked", "true")
        self.button("Done")

    def record(self) -> None:
        main = self.page.locator("[data-button=main]")
        expect(main).to_contain_text("Record")
        main.click()
        self.shows(self.page, "title", "Recording")


class PlayerTest(StandTest):
    def test_one_records_the_other_sees_it_and_stops_it(self):
        self.page.set_viewport_size(PHONE)
        self.go("stand:home")
        self.shows(self.page, "sub", "nothing armed")
        self.choose("Bittern", "Sedge upper")
        other = self.another_page(viewport=TABLET)
        other.goto(f"{self.live_server_url}{reverse('stand:home')}")
        self.shows(other, "sub", "for 2 tracks")
        self.record()
        self.shows(other, "title", "Recording")
        self.shows(other, "bar", "1")
        expect(other.locator("[data-row]").first).to_contain_text("Bittern")
        other.locator("[data-button=main]").click()
        for page in (self.page, other):
            self.shows(page, "title", "Ready")
            self.verdict(page, "stopped early. Repeat it, or accept it?")
        self.button("Accept")
        self.verdict(other, "It stands.")

    def test_a_pass_is_ended_and_stands_or_begins_once_more_by_one_touch(self):
        self.go("stand:home")
        self.choose("Bittern")
        self.record()
        self.shows(self.page, "bar", "1")
        self.button("Repeat")
        self.shows(self.page, "sub", "pass 2")
        self.shows(self.page, "bar", "1")
        self.button("Accept")
        self.verdict(self.page, "It stands.")
        self.assertEqual(list(Pass.objects.values_list("accepted", flat=True)), [False, True])

    def test_panic_acts_when_it_is_touched_and_keys_press_buttons(self):
        self.go("stand:home")
        self.choose("Bittern")
        self.record()
        box = self.page.get_by_role("button", name="Panic").bounding_box()
        self.page.mouse.move(box["x"] + 20, box["y"] + 20)
        self.page.mouse.down()
        self.shows(self.page, "title", "Ready")
        self.page.mouse.up()
        self.assertEqual(Job.objects.get(kind="pass").state, Job.CANCELLED)
        self.press("r")
        self.shows(self.page, "title", "Recording")
        self.press("Escape")
        self.shows(self.page, "title", "Ready")

    def test_everything_is_on_the_screen_whichever_way_it_is_turned(self):
        self.go("stand:home")
        self.choose("Bittern", "Alder kit")
        for screen in SCREENS:
            with self.subTest(screen=screen):
                self.page.set_viewport_size(screen)
                for name in ("main", "repeat", "accept", "sound", "check"):
                    self.is_whole(self.page.locator(f"[data-button={name}]"), screen)
                self.is_whole(self.page.get_by_role("button", name="Panic"), screen)
                self.assertEqual(self.page.evaluate("document.documentElement.scrollWidth"), screen["width"])
        for theme in ("day", "night"):
            self.context.add_cookies([{"name": "hypotaxis-theme", "value": theme, "url": self.live_server_url}])
            self.page.reload()
            self.nothing_is_found()

    def is_whole(self, button, screen) -> None:
        box = button.bounding_box()
        self.assertLessEqual(box["y"] + box["height"], screen["height"])
        self.assertGreaterEqual(box["height"], 44, "the smallest target of WCAG 2.5.5 (44 px)")
        name = button.locator("b")
        self.assertEqual(name.evaluate("one => one.scrollHeight <= one.clientHeight + 2"), True, "a name is cut off")


@override_settings(WHITENOISE_USE_FINDERS=True)
class RoomTest(StandTest):
    """The room is another address of this machine's own network."""

    ROOM = "127.0.0.2"

    def setUp(self):
        super().setUp()
        for where in (doors, __import__("hypotaxis.web.room.views", fromlist=["addresses"])):
            self.enterContext(mock.patch.object(where, "addresses", return_value=[self.ROOM]))
        self.addCleanup(door.close)

    def answer(self, host: str) -> int:
        asked = http.client.HTTPConnection(self.ROOM, urlsplit(self.live_server_url).port, timeout=30)
        asked.request("GET", "/stand/", headers={"Host": host})
        status = asked.getresponse().status
        asked.close()
        return status

    def test_a_tablet_comes_in_plays_and_is_ended(self):
        self.go("room:home")
        self.nothing_is_found()
        self.button("Open it")
        self.see("It is open")
        self.nothing_is_found()
        address, words = (self.page.locator(f".room-{one}").inner_text() for one in ("address", "words"))
        self.assertEqual(self.answer("evil.example"), 400)
        tablet = self.another_page(viewport=PHONE)
        tablet.goto(f"{address}#{words.replace(' ', '-')}")
        expect(tablet.get_by_label("The six words")).to_have_value(words)
        tablet.get_by_label("What this device is called").fill("Tablet at the keys")
        tablet.get_by_role("button", name="Come in").click()
        self.shows(tablet, "title", "Ready")
        self.page.reload()
        self.see("Tablet at the keys")
        self.page.get_by_role("button", name="End it").click()
        expect(tablet.get_by_role("heading", name="Come in")).to_be_visible()
        tablet.get_by_label("The six words").fill("not these words")
        tablet.get_by_role("button", name="Come in").click()
        expect(tablet.get_by_role("alert")).to_contain_text("4 more tries")
        self.page.locator(".room-notice").get_by_role("button", name="Close it").click()
        self.see("It is closed")
        with self.assertRaises(ConnectionRefusedError):
            self.answer(self.ROOM)
