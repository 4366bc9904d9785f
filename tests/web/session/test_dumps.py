"""Memories of boxes through the page: asked for, waited for, read from a file, sent back, held against, archived."""

from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from hypotaxis.core.rig.change import add_socket, connect, set_up
from hypotaxis.core.session.handover import SESSION
from hypotaxis.records.jobs import Reporter
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Dump, FrontPanel, Session
from hypotaxis.records.plan import load_plan
from hypotaxis.standin.desk import Desk
from hypotaxis.standin.memory import BY_PANEL, HURRIED, Memory
from hypotaxis.steps.handover import archive
from hypotaxis.steps.handover.opening import Wish, open_archive
from hypotaxis.steps.session.services.recalling import RecallPage
from tests.rooms import box_named, uid_of
from tests.web.base import DemoTest


class DumpsTest(DemoTest):
    def setUp(self):
        super().setUp()
        plan = self.plan
        for name, port in (("Alder", "in 5"), ("Sedge", "in 2")):
            box = box_named(plan, name)
            plan = add_socket(plan, box.uid, label="MIDI out", kind="midi", direction="out", connector="din")
            plan, _ = connect(plan, uid_of(plan, name, "MIDI out"), uid_of(plan, "Junction 6", port))
        for name in ("Alder", "Sedge"):
            plan = set_up(plan, self.box(name).uid, dump_request=self.request_of(name))
        change_plan(self.rig, "ways back", self.plan, plan)

    def box(self, name: str):
        return box_named(self.plan, name)

    def model(self, name: str) -> int:
        return Desk(self.plan.rig).identity(self.box(name)).model

    def request_of(self, name: str) -> str:
        return bytes([0xF0, 0x7D, self.model(name) & 0x7F, 0x10, 0xF7]).hex(" ")

    def send(self, name: str, **asked):
        address = reverse("session:memory", args=[self.box(name).uid])
        return self.client.post(address, {"fast": "on"} | asked, follow=True)

    def memory(self, name: str):
        return next(one for one in RecallPage(self.session, self.plan).memories if one.box.name == name)

    def told(self, name: str) -> str:
        job = self.memory(name).job
        return job.message or self.memory(name).done.told

    def test_it_is_asked_for_kept_sent_back_and_found_the_same(self):
        self.send("Sedge", to="receive")
        self.assertIn("Kept: 568 bytes in 8 messages", self.told("Sedge"))
        dump = Dump.objects.get()
        sound = Memory(self.box("Sedge").uid, self.model("Sedge"), dumps=HURRIED, content="").sent()
        self.assertEqual(list(dump.messages), sound)
        FrontPanel.objects.update_or_create(box_uid=self.box("Sedge").uid, defaults={"memory": "00" * 512})
        self.send("Sedge", to="send", dump=str(dump.uid))
        self.assertIn("it holds the same: 568 bytes", self.told("Sedge"))
        dump.refresh_from_db()
        self.assertIsNotNone(dump.verified)
        self.assertIn("sent back and found the same", self.page("session:recall"))
        answer = self.client.get(reverse("session:dump", args=[dump.uid]))
        self.assertEqual(answer.content, b"".join(sound))
        self.assertIn("tide-tables-sedge.syx", answer["Content-Disposition"])

    def test_it_writes_while_it_goes_on_and_not_for_every_block(self):
        with mock.patch.object(Reporter, "due", return_value=False), CaptureQueriesContext(connection) as asked:
            self.send("Sedge", to="receive")
        written = [one for one in asked if one["sql"].startswith("UPDATE") and "records_job" in one["sql"]]
        self.assertEqual(Dump.objects.count(), 1)
        self.assertLess(len(written), 8, "begun, told what came, ended")

    def test_a_hurried_box_is_told_and_a_longer_pause_mends_it(self):
        self.send("Alder", to="receive")
        dump = Dump.objects.get()
        FrontPanel.objects.update_or_create(box_uid=self.box("Alder").uid, defaults={"memory": "00" * 512})
        change_plan(self.rig, "x", self.plan, set_up(self.plan, self.box("Alder").uid, dump_pause_ms=0.0))
        self.send("Alder", to="send", dump=str(dump.uid))
        self.assertIn("loses some when they come too fast", self.told("Alder"))
        self.assertFalse(self.memory("Alder").done.fine)
        change_plan(self.rig, "x", self.plan, set_up(self.plan, self.box("Alder").uid, dump_pause_ms=50.0))
        self.send("Alder", to="send", dump=str(dump.uid), token="again")
        self.assertIn("it holds the same", self.told("Alder"))

    def test_one_that_sends_from_its_panel_is_waited_for_and_one_that_says_nothing_told(self):
        change_plan(self.rig, "x", self.plan, set_up(self.plan, self.box("Sedge").uid, dump_request=""))
        panel = {"channels": [1, 2], "dumps": BY_PANEL, "sends_memory": True}
        FrontPanel.objects.update_or_create(box_uid=self.box("Sedge").uid, defaults={"settings": panel})
        self.assertIn("Receive", self.page("session:recall"))
        self.send("Sedge", to="receive")
        self.assertIn("Kept: 568 bytes", self.told("Sedge"))
        self.send("Sedge", to="send", dump=str(Dump.objects.get().uid))
        self.assertIn("It cannot be asked", self.told("Sedge"))
        FrontPanel.objects.update_or_create(
            box_uid=self.box("Alder").uid, defaults={"settings": {"channels": [10], "dumps": BY_PANEL}}
        )
        self.send("Alder", to="receive")
        self.assertIn("It did not answer", self.told("Alder"))
        self.assertEqual(Dump.objects.count(), 1)

    def test_files_are_checked(self):
        def keep(data: bytes) -> str:
            answer = self.send("Sedge", to="file", dump=SimpleUploadedFile("a.syx", data))
            return " ".join(map(str, answer.context["messages"]))

        self.assertIn("its F7 is missing", keep(b"\xf0\x7d\x01"))
        self.assertIn("another box's dump", keep(b"\xf0\x41\x01\xf7"))
        self.assertIn("Choose a .syx file", " ".join(map(str, self.send("Sedge", to="file").context["messages"])))
        self.assertFalse(Dump.objects.exists())
        self.assertIn("4 bytes in 1 message", keep(b"\xf0\x7d\x01\xf7"))
        self.send("Sedge", to="gone", dump=str(Dump.objects.get().uid))
        self.assertFalse(Dump.objects.exists())

    def test_the_archive_brings_them_along(self):
        self.send("Sedge", to="receive")
        bundle = self.handed_over(items=(SESSION,))
        self.assertIn("session/dumps/1 Sedge.syx", bundle.namelist())
        path = archive.path_of(archive.came_of(archive.newest(self.session)))
        opened = open_archive(path, Wish("", "", own_rig=True))
        session = Session.objects.get(uid=opened.session)
        (mine,), old = session.dumps.all(), self.session_of("Tide Tables").dumps.get()
        self.assertEqual((bytes(mine.data), mine.made), (bytes(old.data), old.made))
        self.assertEqual(load_plan(session.rig).rig.box(mine.box_uid).name, "Sedge")

    def session_of(self, name: str) -> Session:
        return Session.objects.filter(name=name).order_by("created").first()

    @property
    def rig(self):
        return Session.objects.order_by("created").first().rig

    @property
    def session(self):
        return Session.objects.order_by("created").first()

    def test_a_request_that_is_none_is_refused_in_the_boxs_settings(self):
        uid = self.box("Sedge").uid
        page = self.client.get(reverse("rig:setup", args=[uid]))
        self.assertContains(page, "What asks it for its memory")
        answer = self.client.post(reverse("rig:setup", args=[uid]), {"set_by": "menu", "dump_request": "F0 7D"})
        self.assertContains(answer, "its F7 is missing")
        self.client.post(reverse("rig:setup", args=[uid]), {"set_by": "menu", "dump_request": "f07d1110F7"})
        self.assertEqual(self.box("Sedge").setup.dump_request, "F0 7D 11 10 F7")
