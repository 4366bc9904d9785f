"""`python -m tests.hammer SECONDS FROM`: rounds from number FROM on, for so many seconds; ends with 1 if one fails."""

import random
import sqlite3
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from tests.hammer.studio import Broken, Browser, OwnStudio

PASS = {"first_bar": "1", "last_bar": "4", "fast": "on", "place": "on"}
SHAPES = ("poly-synth", "mono-synth", "drum-machine", "effect", "mixer", "keyboard")


class Round:
    """One round on a folder that lives from round to round."""

    def __init__(self, studio: OwnStudio, number: int) -> None:
        self.studio, self.draw, self.number = studio, random.Random(number), number
        self.confirmed: set[str] = set()
        self.broken: list[Broken] = []

    # --- what a person does

    def add_boxes(self, browser: Browser, count: int, who: str = "") -> None:
        """Add boxes; those whose adding was confirmed must be there ever after."""
        for place in range(count):
            name = f"Box {self.number}{who}.{place}"
            if browser.send("/rig/add/", shape=self.draw.choice(SHAPES), name=name) == 302:
                self.confirmed.add(name)

    def record(self, browser: Browser) -> None:
        """Record a pass; where one runs already, it is refused."""
        browser.get("/session/")
        browser.send("/session/pass/", **PASS)

    # --- what goes wrong

    def kills(self) -> None:
        """The worker, or all of it, at any moment of a pass."""
        browser = self.started()
        for _ in range(self.draw.randint(1, 3)):
            self.record(browser)
            self.add_boxes(browser, self.draw.randint(0, 2), who=f"k{_}")
            time.sleep(self.draw.uniform(0, 2.5))
            worker = self.draw.random() < 0.5
            self.studio.kill(worker=worker)
            browser = browser if worker else self.started()
            self.holds()
        self.studio.settled()

    def full_disk(self) -> None:
        """No file may grow beyond a size that some reach."""
        grown = [path.stat().st_size for path in self.studio.data.rglob("*") if path.is_file()]
        most = max(4096, int(max(grown, default=500_000) * self.draw.uniform(0.6, 1.4)))
        browser = self.studio.start(most_bytes=most)
        if browser:
            browser.get("/session/")
            self.add_boxes(browser, self.draw.randint(1, 4))
            self.record(browser)
            time.sleep(self.draw.uniform(0.5, 3))
        self.studio.end()
        self.started()
        self.studio.settled()

    def crossing(self) -> None:
        """Several windows at once: boxes are added and removed, steps taken back and repeated, passes begun."""
        self.started()
        windows = [threading.Thread(target=self._window, args=(which,)) for which in range(self.draw.randint(2, 6))]
        for one in windows:
            one.start()
        for one in windows:
            one.join()
        if self.broken:
            raise self.broken[0]
        self.studio.settled()

    def _window(self, which: int) -> None:
        draw, browser = random.Random(f"{self.number} {which}"), Browser(self.studio.port)
        try:
            browser.get("/session/")
            for place in range(draw.randint(4, 12)):
                act = draw.choice(("add", "undo", "redo", "record", "settings", "look"))
                if act == "add":
                    browser.send("/rig/add/", shape=draw.choice(SHAPES), name=f"Window {self.number}.{which}.{place}")
                elif act == "record":
                    self.record(browser)
                elif act == "settings":
                    browser.send("/session/pass/settings/", first_bar=str(draw.randint(-3, 9)))
                elif act == "look":
                    browser.get(draw.choice(("/rig/", "/instruments/", "/timing/", "/handover/", "/stand/state/")))
                else:
                    browser.send(f"/rig/{act}/")
        except Broken as error:
            self.broken.append(error)

    # --- what holds

    def started(self) -> Browser:
        """The program, which must start, with a track to record."""
        browser = self.studio.start()
        if browser is None:
            raise Broken("it did not start again")
        return browser

    def holds(self) -> None:
        """Nothing is lost."""
        self.studio.check()
        there = {name for (name,) in self.studio.query("SELECT name FROM records_box")}
        if lost := self.confirmed - there:
            raise Broken(f"confirmed, and lost: {sorted(lost)}")

    def play(self) -> str:
        """Let something go wrong and look what is left; what it was."""
        happens: Callable[[], None] = self.draw.choice((self.kills, self.full_disk, self.crossing))
        before = self.studio.query("SELECT uid, file FROM records_take")
        try:
            happens()
        finally:
            self.studio.end()
        self.holds()
        after = dict(self.studio.query("SELECT uid, file FROM records_take"))
        if any(after.get(uid) != file for uid, file in before):
            raise Broken("a take that was there is gone, or another")
        if errors := self.studio.errors():
            raise Broken(f"an error of ours: {errors[-1]}")
        return happens.__name__


def main(seconds: float, first: int) -> int:
    """How many rounds failed."""
    told, failed, number = Counter(), 0, first
    with tempfile.TemporaryDirectory(prefix="hypotaxis-hammer-") as folder:
        studio = OwnStudio(Path(folder) / "data")
        if studio.start() is None:
            print("It does not start at all.")
            return 1
        studio.end()
        arm(studio)
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            try:
                told[Round(studio, number).play()] += 1
            except Broken as error:
                failed += 1
                print(f"round {number}: {error}")
            number += 1
        takes = studio.query("SELECT count(*) FROM records_take")[0][0]
        boxes = studio.query("SELECT count(*) FROM records_box")[0][0]
    rounds = ", ".join(f"{count} of {name.replace('_', ' ')}" for name, count in sorted(told.items()))
    print(f"rounds {first} to {number - 1}: {rounds}; {failed} failed; {takes} takes and {boxes} boxes at the end")
    return failed


def arm(studio: OwnStudio) -> None:
    """A track that every pass records."""
    with closing(sqlite3.connect(studio.data / "hypotaxis.sqlite3")) as base, base:
        base.execute("UPDATE records_track SET armed = 1 WHERE name = 'Alder kit'")


if __name__ == "__main__":
    sys.exit(1 if main(float(sys.argv[1]), int(sys.argv[2])) else 0)
