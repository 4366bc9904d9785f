"""The demo as rows, for tests of forms, services and views. Tasks run at once, and nobody waits for real time."""

import html
import io
import re
import zipfile
from unittest import mock

from django.core.management import call_command
from django.test import Client, TestCase
from django.urls import reverse

from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.session.handover import Wish
from hypotaxis.core.timing.applied import KnownLateness
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import Rig, Session, Track
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.handover import archive
from hypotaxis.steps.rig.services import connect
from hypotaxis.steps.session.services.recording import start_pass
from hypotaxis.web import studio_startup
from tests.rooms import instrument_named, uid_of


class Reader(Client):
    """A client that reads pages as a browser shows them: where a line ends in the markup is a space."""

    def request(self, **request):
        answer = super().request(**request)
        if answer.get("Content-Type", "").startswith("text/html") and not answer.streaming:
            answer.content = re.sub(rb"\s+", b" ", answer.content)
        return answer


class DemoTest(TestCase):
    """The Saltmarsh Room and Tide Tables; Sluice's way home is still unplugged."""

    client_class = Reader
    runs_before = 0

    @classmethod
    def setUpClass(cls):
        # Real time and fast mode give the same samples (core.standin tells so); only the waiting is left out.
        cls.enterClassContext(mock.patch("hypotaxis.standin.run.wait_until"))
        super().setUpClass()

    @classmethod
    def setUpTestData(cls):
        call_command("loaddemo", stdout=io.StringIO())
        with mock.patch.object(studio_startup, "_runs", 0):
            cls().before_all()
            cls.runs_before = studio_startup._runs

    def before_all(self) -> None:
        """What stands before all tests of a class: made once, its rows are as they were for each test. What is changed
        outside the database, a test puts back."""

    def setUp(self):
        super().setUp()
        # The stand-in's jitter is drawn by the runs before: each test has the same draws, in any order.
        self.enterContext(mock.patch.object(studio_startup, "_runs", self.runs_before))

    @property
    def rig(self) -> Rig:
        return Rig.objects.get()

    @property
    def plan(self) -> Plan:
        return load_plan(self.rig)

    @property
    def session(self) -> Session:
        return Session.objects.get()

    def instrument(self, name: str) -> Instrument:
        return instrument_named(self.plan, name)

    def known(self, name: str = "Bittern") -> KnownLateness:
        """What stands as the lateness of an instrument or effect loop."""
        plan = self.plan
        one = next(one for one in (*plan.instruments, *plan.loops) if one.name == name)
        return known_latenesses(plan)[one.uid]

    def track(self, name: str) -> Track:
        return self.session.tracks.get(name=name)

    def socket(self, box: str, label: str) -> str:
        return uid_of(self.plan, box, label)

    def plug_sluice(self) -> None:
        connect(self.rig, self.plan, self.socket("Sluice", "out"), self.socket("Quayside 18", "line in 4"))

    def arm(self, *names: str) -> None:
        self.session.tracks.update(armed=False)
        self.session.tracks.filter(name__in=names).update(armed=True)

    def record(self, *names: str, bars: tuple[int, int] = (1, 2), place: bool = True):
        """A fast pass of these tracks; its row."""
        self.arm(*names)
        run = start_pass(self.session, self.plan, first_bar=bars[0], last_bar=bars[1], fast=True, place_takes=place)
        run.refresh_from_db()
        run.job.refresh_from_db()
        return run

    def handed_over(self, **wish) -> zipfile.ZipFile:
        """The archive that such a wish comes to."""
        job = archive.start(self.session, self.plan, Wish(**wish))
        job.refresh_from_db()
        made = archive.came_of(job)
        self.assertIsNotNone(made, job.message)
        return zipfile.ZipFile(archive.path_of(made))

    def page(self, name: str, *args, **query) -> str:
        """The page's text, which must be there."""
        answer = self.client.get(reverse(name, args=args), query)
        self.assertEqual(answer.status_code, 200)
        return html.unescape(answer.content.decode())

    def told(self, answer) -> str:
        """What a followed answer tells in its messages."""
        return " ".join(str(message) for message in answer.context["messages"])
