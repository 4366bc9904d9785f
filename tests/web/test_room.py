"""The gate between the room and the application, and the owner's page."""

from unittest import mock

from django.conf import settings
from django.test import Client, SimpleTestCase
from django.urls import reverse

from hypotaxis.core.errors import RoomTrouble
from hypotaxis.core.room import Room
from hypotaxis.web.room import door as doors
from hypotaxis.web.room.door import MARK, door
from tests.web.base import DemoTest

WORDS = "tidal reed marsh heron lantern quay"
HOST = "192.168.7.2:8000"


class RoomTest(DemoTest):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.object(doors, "addresses", return_value=["192.168.7.2"]))
        self.enterContext(mock.patch("hypotaxis.web.room.views.addresses", return_value=["192.168.7.2"]))
        self.enterContext(mock.patch.object(door, "_listen"))
        self.enterContext(mock.patch.object(doors, "passphrase", return_value=WORDS))
        self.addCleanup(door.close)
        self.hosts = list(settings.ALLOWED_HOSTS)
        self.addCleanup(lambda: settings.ALLOWED_HOSTS.__setitem__(slice(None), self.hosts))
        self.tablet = Client(HTTP_HOST=HOST, REMOTE_ADDR="192.168.7.30", **{MARK: True})

    def open(self, **more: str):
        asked = {"to": "open", "address": "192.168.7.2"} | more
        return self.client.post(reverse("room:home"), asked, SERVER_PORT="8000", follow=True)

    def come_in(self, words: str = WORDS, client: Client | None = None):
        return (client or self.tablet).post(reverse("room:enter"), {"words": words, "name": "Tablet"})


class GateTest(RoomTest):
    def test_it_is_closed_until_it_is_opened(self):
        for path in ("/", "/stand/", "/room/enter/", "/static/web/styles/stand.css"):
            self.assertEqual(self.tablet.get(path).status_code, 400)
        self.open()
        self.assertRedirects(self.tablet.get("/stand/"), "/room/enter/", fetch_redirect_response=False)
        door.close()
        self.assertEqual(self.tablet.get("/stand/").status_code, 400)

    def test_only_the_rooms_own_name_is_answered_there_and_never_on_loopback(self):
        self.open()
        for name in ("evil.example", "127.0.0.1:8000", "localhost", "192.168.7.2", "192.168.7.2:9000", ""):
            answer = self.tablet.get("/stand/", HTTP_HOST=name)
            self.assertEqual((answer.status_code, answer.content), (400, b"Hypotaxis does not answer by this name."))
            self.assertIn("frame-ancestors 'none'", answer["Content-Security-Policy"])
        self.assertEqual(self.client.get("/stand/", HTTP_HOST=HOST).status_code, 400)

    def test_the_passphrase_lets_a_device_in_with_a_strict_cookie(self):
        self.open()
        self.assertEqual(self.tablet.get("/stand/state/", headers={"X-Fragment": "1"}).status_code, 401)
        answer = self.come_in("tidal reed")
        self.assertContains(answer, "That is not the passphrase of this opening", status_code=403)
        answer = self.come_in()
        self.assertRedirects(answer, "/stand/", fetch_redirect_response=False)
        cookie = answer.cookies["hypotaxis-room"]
        self.assertEqual((cookie["httponly"], cookie["samesite"], cookie["secure"]), (True, "Strict", ""))
        self.assertEqual(self.tablet.get("/stand/").status_code, 200)
        self.assertEqual(self.tablet.get("/stand/state/").json()["title"], "Ready")
        for _ in range(5):
            answer = self.come_in("x", Client(HTTP_HOST=HOST, REMOTE_ADDR="192.168.7.66", **{MARK: True}))
        self.assertContains(answer, "no more tries for ten minutes", status_code=403)

    def test_the_room_plays_and_records_and_changes_nothing_else(self):
        self.open()
        self.come_in()
        for path in ("/stand/", "/stand/state/"):
            self.assertEqual(self.tablet.get(path).status_code, 200)
        self.assertEqual(self.tablet.post("/stand/act/", {"act": "panic"}).json()["told"], "What played is ended.")
        for path in ("/session/", "/instruments/", "/handover/", "/room/", "/stand/keys/", "/rig/rigs/"):
            answer = self.tablet.get(path)
            self.assertContains(answer, "From the room you can play and record.", status_code=403)
            self.assertEqual(self.tablet.post(path, {"to": "close"}).status_code, 403)
        self.assertEqual(self.tablet.get("/nowhere/").status_code, 404)
        self.assertIsNotNone(door.room)

    def test_nothing_of_the_rig_is_told_to_who_is_not_in_whatever_goes_wrong(self):
        self.open()
        strict = Client(HTTP_HOST=HOST, enforce_csrf_checks=True, **{MARK: True})
        answers = [self.tablet.get("/static/nothing.css"), self.tablet.get("/nowhere/"), strict.post("/room/enter/")]
        self.come_in()
        answers += [self.tablet.get("/static/nothing.css"), self.tablet.get("/session/")]
        with mock.patch("hypotaxis.web.stand.views.shown", side_effect=RoomTrouble("It broke.")):
            answers.append(self.tablet.get("/stand/state/"))
        self.assertEqual([one.status_code for one in answers], [404, 404, 403, 404, 403, 409])
        for answer in answers:
            self.assertNotContains(answer, "Saltmarsh", status_code=answer.status_code)

    def test_everything_is_allowed_but_the_owners_own_page(self):
        self.open(everything="on")
        self.come_in()
        page = self.tablet.get("/session/")
        self.assertContains(page, "Open to the room at")
        self.assertNotContains(page, "Devices and passphrase")
        self.assertEqual(self.tablet.post("/room/", {"to": "close"}).status_code, 403)
        self.assertIsNotNone(door.room)

    def test_a_foreign_page_cannot_press_for_a_device(self):
        self.open()
        strict = Client(HTTP_HOST=HOST, enforce_csrf_checks=True, **{MARK: True})
        self.assertEqual(strict.post("/room/enter/", {"words": WORDS}).status_code, 403)

    def test_behind_a_proxy_it_goes_by_its_name_and_its_cookies_are_secure(self):
        with self.settings(PROXY="https://studio.home.arpa", ALLOWED_HOSTS=["testserver", "studio.home.arpa"]):
            tablet = Client(HTTP_HOST="studio.home.arpa")
            self.assertEqual(tablet.get("/stand/", secure=True).status_code, 403)
            self.open(address="https://studio.home.arpa")
            self.assertEqual(tablet.get("/stand/", secure=True).status_code, 302)
            answer = tablet.post("/room/enter/", {"words": WORDS}, secure=True)
            self.assertTrue(answer.cookies["hypotaxis-room"]["secure"])
            self.assertEqual(tablet.get("/stand/", secure=True).status_code, 200)
            self.assertEqual(tablet.get("/session/", secure=True).status_code, 403)


class OwnerTest(RoomTest):
    def test_the_owner_sees_address_words_code_and_a_notice_on_every_page(self):
        page = self.open()
        for text in ("http://192.168.7.2:8000/stand/", WORDS, "None is in yet.", "nothing is encrypted", "<svg"):
            self.assertContains(page, text)
        for path in ("/rig/", "/session/", "/handover/"):
            self.assertContains(self.client.get(path), "Open to the room at")
        self.client.post(reverse("room:home"), {"to": "close"})
        self.assertNotContains(self.client.get("/rig/"), "Open to the room at")
        self.assertEqual(settings.ALLOWED_HOSTS, self.hosts)

    def test_devices_are_listed_and_ended(self):
        self.open()
        self.come_in()
        self.assertContains(self.client.get("/room/"), "192.168.7.30")
        (device,) = door.room.devices
        self.client.post(reverse("room:home"), {"to": "end", "device": device.uid})
        self.assertEqual(self.tablet.get("/stand/state/", headers={"X-Fragment": "1"}).status_code, 401)
        self.come_in()
        self.tablet.post(reverse("room:leave"))
        self.assertEqual(door.room.devices, [])

    def test_what_cannot_be_listened_on_is_told_and_stays_closed(self):
        told = "192.168.7.2 cannot be listened on"
        with mock.patch.object(door, "_listen", side_effect=RoomTrouble(told)):
            self.assertContains(self.open(), told)
        self.assertContains(self.open(address="8.8.8.8"), "This computer has no such address any more.")
        self.assertIsNone(door.room)

    def test_a_new_opening_has_new_words_and_no_devices(self):
        self.open()
        self.come_in()
        with mock.patch.object(doors, "passphrase", return_value="other words"):
            self.open()
        self.assertEqual((door.room.words, door.room.devices), ("other words", []))
        self.assertIsInstance(door.room, Room)


class PassphraseTest(SimpleTestCase):
    def test_six_plain_words_are_drawn_anew_each_time(self):
        first, second = doors.passphrase(), doors.passphrase()
        self.assertRegex(first, r"^([a-z]{4,7} ){5}[a-z]{4,7}$")
        self.assertNotEqual(first, second)
