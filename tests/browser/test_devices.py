"""From the Studio sheet to the handed-over take, on a JACK server with a synthesizer that knows nothing of us."""

import io
import time

import numpy as np
import soundfile
from playwright.sync_api import expect

from hypotaxis.core.errors import ServerGone
from hypotaxis.core.studio import JACK, Wanted
from hypotaxis.devices.process import DeviceProcess
from hypotaxis.records.models import Instrument, Job, Rig, Take
from hypotaxis.records.plan import load_plan
from hypotaxis.web import studio_startup
from tests.browser.base import PATIENCE_MS, BrowserTest
from tests.devices.desk import PATIENCE_S, PERIOD, RATE, Server, Synthesizer
from tests.rooms import uid_of


class OnJackTest(BrowserTest):
    @classmethod
    def setUpClass(cls):
        # First, since a class that fails behind the database's beginning takes the others along.
        cls.server = Server()
        cls.addClassCleanup(cls.server.end)
        super().setUpClass()

    def setUp(self):
        super().setUp()
        synthesizer = Synthesizer(self.server)
        self.addCleanup(synthesizer.end)
        self.addCleanup(self.let_go)
        self.wait_for_it(synthesizer)

    def wait_for_it(self, synthesizer: Synthesizer) -> None:
        process = DeviceProcess(Wanted(kind=JACK, server=self.server.name))
        until = time.monotonic() + PATIENCE_S
        try:
            while synthesizer.notes not in [port.system_name for port in process.look().ports]:
                if time.monotonic() > until:
                    raise ServerGone("The synthesizer did not come.")
                time.sleep(0.05)
        finally:
            process.close()

    def let_go(self):
        if studio_startup._devices:
            studio_startup._devices.close()
            studio_startup._devices = None

    def until_it_plays(self) -> None:
        """Before anything has left there is nothing to be silenced."""
        until = time.monotonic() + PATIENCE_S
        while not Job.objects.filter(kind="pass", state=Job.RUNNING, progress__gt=0).exists():
            self.assertLess(time.monotonic(), until, "The pass does not begin.")
            self.page.wait_for_timeout(50)

    def choose(self, socket: str, name: str) -> None:
        self.page.locator(f"[name=match_{socket}]").select_option(name)

    def test_a_musician_plugs_in_and_goes_the_whole_way(self):
        plan = load_plan(Rig.objects.get())
        send = Instrument.objects.get(name="Bittern").send_uid
        self.arm("Bittern")
        self.go("rig:home")
        self.page.get_by_role("link", name="stand-in").click()
        self.page.get_by_role("radio", name="JACK").check()
        self.page.get_by_label("Name of the server").fill(self.server.name)
        self.button("Use this studio")
        self.see(f"server “{self.server.name}”, running")
        self.page.get_by_role("link", name="Match ports").click()
        self.choose(send, Synthesizer.notes)
        self.button("Keep")
        self.go("rig:inputs")
        self.choose(uid_of(plan, "Quayside 18", "line in 3"), Synthesizer.left)
        self.button("Keep")
        self.go("session:home")
        expect(self.page.get_by_label("stand-in only: faster")).to_have_count(0)
        self.page.get_by_label("from bar").fill("1")
        self.page.get_by_label("to bar").fill("4")
        self.button("Record 1 armed")
        # The pass is played in real time, and begins when the machine gets round to it.
        self.see("hits used", patience_ms=5 * PATIENCE_MS)
        # It starts notes with periods, so its hits spread too far to be placed without a look.
        self.button("Place the take")
        self.see("placed by −")
        self.assertLess(abs(Take.objects.get().placement), 8 * PERIOD)
        self.press("6")
        self.unfold("Single files")
        with self.page.expect_download() as wave:
            self.page.get_by_role("link", name="With its time reference").click()
        with open(wave.value.path(), "rb") as stream:
            sound, rate = soundfile.read(io.BytesIO(stream.read()))
        self.assertEqual(rate, RATE)
        self.assertGreater(float(np.abs(sound).max()), 0.01)
        self.go("session:home")
        self.button("Record 1 armed")
        self.see("is recording")
        self.until_it_plays()
        self.press("Escape")
        self.see("All notes are off, on every port that notes have left by.")
