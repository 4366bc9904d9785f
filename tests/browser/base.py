"""The real interface in headless Chromium, with the demo and a worker beside it.

The worker is a thread that takes tasks from the queue as the real one does, so that progress and stopping are seen.
"""

import contextlib
import io
import os
import signal
import threading
from pathlib import Path

from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from django.core.management import call_command
from django.urls import reverse
from huey.contrib.djhuey import HUEY
from playwright.sync_api import Error as PlaywrightError
from playwright.sync_api import Locator, Page, expect, sync_playwright

from hypotaxis.records.models import Job, Rig, Session
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import own_studio
from hypotaxis.steps.rig.services import connect
from tests.browser.chromium import CHROMIUM, DESK
from tests.rooms import uid_of

# Playwright keeps an event loop in this thread; the ORM is used between its calls only.
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
# A busy machine may take long over a page; what never comes is told all the same.
PATIENCE_MS = 60_000
expect.set_options(timeout=PATIENCE_MS)
AXE = Path(__file__).with_name("axe.min.js")


def end_browsers() -> None:
    """End the browsers that this process has started, by their ids."""
    parents = {}
    for stat in Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError, IndexError, ValueError):
            name, rest = stat.read_text().split("(", 1)[1].rsplit(")", 1)
            parents[int(stat.parent.name)] = (int(rest.split()[1]), name)
    for process, (parent, name) in parents.items():
        # Between this process and the browser stands Playwright's driver.
        if name == "chromium" and parents.get(parent, (0, ""))[0] == os.getpid():
            with contextlib.suppress(ProcessLookupError):
                os.kill(process, signal.SIGTERM)


class BrowserTest(StaticLiveServerTestCase):
    """A page at the demo; whatever the console complains about fails the test."""

    demo = True
    workers = 1
    """Threads that take tasks; the real worker has four."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls._playwright = sync_playwright().start()
        cls.addClassCleanup(cls._playwright.stop)
        cls.addClassCleanup(lambda: cls.browser.close())
        cls.open_browser()

    @classmethod
    def open_browser(cls) -> None:
        """One for all tests of a class, so that fonts, styles and scripts are fetched once."""
        cls.browser = cls._playwright.chromium.launch(executable_path=CHROMIUM)
        cls.context = cls.browser.new_context(viewport=DESK)

    def setUp(self):
        if self.demo:
            call_command("loaddemo", stdout=io.StringIO())
        self.start_worker()
        self.complaints: list[str] = []
        if not self.browser.is_connected():
            self.open_browser()
        self.context.clear_cookies()
        self.page: Page = self.context.new_page()
        self.addCleanup(self.close_page)
        self.page.set_default_timeout(PATIENCE_MS)
        self.page.on("console", lambda m: self.complaints.append(m.text) if m.type in ("error", "warning") else None)
        self.page.on("pageerror", lambda error: self.complaints.append(str(error)))

    def close_page(self) -> None:
        """Close the page. The browser may never answer to that (seen once, behind a download): it is ended then, and
        the next test opens another."""
        impatient = threading.Timer(PATIENCE_MS / 1000, end_browsers)
        impatient.start()
        try:
            self.page.close()
        except PlaywrightError:
            if self.browser.is_connected():
                raise
        finally:
            impatient.cancel()

    def tearDown(self):
        self.assertEqual(self.complaints, [])

    def start_worker(self) -> None:
        own_studio()
        ending = threading.Event()

        def work() -> None:
            while not ending.is_set():
                task = HUEY.dequeue()
                if task is None:
                    ending.wait(0.05)
                else:
                    HUEY.execute(task)

        HUEY.immediate = False
        threads = [threading.Thread(target=work) for _ in range(self.workers)]
        for thread in threads:
            thread.start()

        def end() -> None:
            ending.set()
            # What goes on until it is stopped would keep the worker for ever.
            Job.objects.filter(state__in=Job.UNFINISHED).update(cancel=True)
            for thread in threads:
                thread.join()
            HUEY.flush()
            HUEY.immediate = True

        self.addCleanup(end)

    def go(self, name: str, query: str = "") -> None:
        """Open a page by the name of its address."""
        self.page.goto(f"{self.live_server_url}{reverse(name)}{query}")

    def see(self, text: str, patience_ms: int = PATIENCE_MS) -> None:
        """Wait until the text is visible on the page."""
        expect(self.page.get_by_text(text).locator("visible=true").first).to_be_visible(timeout=patience_ms)

    def button(self, name: str) -> None:
        """Press the button of that name."""
        self.page.get_by_role("button", name=name).click()

    def unfold(self, name: str) -> None:
        """Open what is folded under that name."""
        self.page.locator("summary", has_text=name).first.click()

    def press(self, key: str) -> None:
        """Press a key once the page listens: its text may be seen before its scripts have run."""
        self.page.wait_for_load_state()
        self.page.keyboard.press(key)

    def drag(self, source: Locator, target: Locator) -> None:
        """By pointer from one thing to another, in steps as a hand does."""
        self.page.wait_for_load_state()
        for one in (source, target):
            one.scroll_into_view_if_needed()
        start, end = (one.bounding_box() for one in (source, target))
        mouse = self.page.mouse
        mouse.move(start["x"] + start["width"] / 2, start["y"] + start["height"] / 2)
        mouse.down()
        mouse.move(end["x"] + end["width"] / 2, end["y"] + end["height"] / 2, steps=8)
        mouse.up()

    def plug_sluice(self) -> None:
        rig = Rig.objects.get()
        plan = load_plan(rig)
        connect(rig, plan, uid_of(plan, "Sluice", "out"), uid_of(plan, "Quayside 18", "line in 4"))

    def arm(self, *names: str) -> None:
        Session.objects.get().tracks.filter(name__in=names).update(armed=True)

    def nothing_is_found(self) -> None:
        """Let the accessibility checker look over the page."""
        expect(self.page.locator("main")).to_be_visible()
        self.page.evaluate(AXE.read_text())
        found = self.page.evaluate(
            "async () => (await axe.run({runOnly: ['wcag2a', 'wcag2aa'], resultTypes: ['violations']})).violations"
            ".map(v => v.id + ': ' + v.nodes.map(n => n.target + ' ' + n.failureSummary).join(' | '))"
        )
        self.assertEqual(found, [])
