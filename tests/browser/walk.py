"""`make walk`: from an empty desk to the first placed take, a further box, and one part recorded again.

Walks the real interface as a musician does and counts moves: a click, a field filled, a key. Time is what was waited
for, plus two seconds a move for finding and reaching it.
"""

import time

import numpy as np
from playwright.sync_api import Page, sync_playwright

from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from tests.browser.chromium import CHROMIUM, DESK
from tests.browser.screenshots import application

MOVE_S = 2.0
TARGETS = {
    "first placed take": (25, 240),
    "a further box with its instrument": (8, 20),
    "one part recorded again": (1, 60),
}
"""Moves and seconds that a walk may take."""
PATIENCE_MS = 60_000


class Walker:
    """Does what a person does, and counts it."""

    def __init__(self, page: Page) -> None:
        self.page, self.moves, self.begun = page, 0, time.monotonic()

    def begin(self) -> None:
        self.moves, self.begun = 0, time.monotonic()

    def link(self, name: str) -> None:
        self.moves += 1
        self.page.get_by_role("link", name=name).first.click()
        self.page.wait_for_load_state()

    def button(self, name: str) -> None:
        self.moves += 1
        self.page.get_by_role("button", name=name).first.click()
        self.page.wait_for_load_state()

    def fill(self, label: str, value: str) -> None:
        self.moves += 1
        self.page.get_by_label(label, exact=True).fill(value)

    def tick(self, name: str) -> None:
        self.moves += 1
        self.page.get_by_role("checkbox", name=name).last.click()
        self.page.wait_for_load_state("networkidle")

    def key(self, name: str) -> None:
        self.moves += 1
        self.page.keyboard.press(name)
        self.page.wait_for_load_state()

    def file(self, label: str, name: str, data: bytes) -> None:
        self.moves += 1
        self.page.get_by_label(label).set_input_files({"name": name, "mimeType": "audio/midi", "buffer": data})

    def go(self, key: str, step: str) -> None:
        """To a step by its number."""
        self.key(key)
        self.page.wait_for_url(f"**/{step}/**")
        self.page.wait_for_load_state()

    def see(self, text: str) -> None:
        self.page.get_by_text(text).first.wait_for()

    def told(self, what: str) -> bool:
        """Prints what it took; whether that is within the target."""
        seconds = time.monotonic() - self.begun + MOVE_S * self.moves
        moves_at_most, seconds_at_most = TARGETS[what]
        held = self.moves <= moves_at_most and seconds <= seconds_at_most
        print(
            f"{what}: {self.moves} moves (at most {moves_at_most}), {seconds:.0f} s (at most {seconds_at_most}): "
            f"{'held' if held else 'missed'}"
        )
        return held


def four_bars(name: str) -> bytes:
    """A MIDI file of uneven notes, four bars at 120 BPM."""
    steps = [0, 3, 4, 7, 10, 12, 14, 15, 16, 19, 22, 23, 26, 28, 30, 33, 36, 38, 39, 42, 44, 47, 48, 50, 53, 56, 58, 61]
    notes = np.zeros(len(steps), NOTE)
    notes["tick"], notes["duration"] = np.array(steps) * 120, 100
    notes["note"], notes["velocity"] = 60, 100
    return write_smf(Score(TempoMap(), (ScorePart(name, 1, notes, no_controls()),), 4 * 1920))


def first_take(walk: Walker) -> None:
    walk.link("Add your interface")
    walk.fill("Name", "Pier")
    walk.button("Add to the rig")
    walk.link("Add a box that sounds")
    walk.fill("Name", "Sandpiper")
    walk.button("Add to the rig")
    walk.button("Cable Pier MIDI out to Sandpiper MIDI in")
    walk.button("Cable Sandpiper L to Pier line in 1")
    walk.link("Make Sandpiper an instrument")
    walk.button("Define it")
    walk.button("Play the note")
    walk.see("It came home on line in 1–2.")
    walk.go("5", "session")
    walk.link("Import a MIDI file")
    walk.file("Standard MIDI File", "ebb.mid", four_bars("Ebb"))
    walk.button("As a session of its own")
    walk.tick("Arm")
    walk.key("r")
    walk.see("1 take measured, placed.")


def a_further_box(walk: Walker) -> None:
    walk.go("1", "rig")
    walk.begin()
    walk.key("a")
    walk.fill("Name", "Dunlin")
    walk.button("Add to the rig")
    walk.button("Cable Sandpiper thru to Dunlin MIDI in")
    walk.button("Cable Dunlin L to Pier line in 3")
    walk.link("Make Dunlin an instrument")
    walk.button("Define it")
    walk.see("Dunlin is defined.")


def recorded_again(walk: Walker) -> None:
    # As the program says next, on the box itself: otherwise both answer channel 1, and the take is doubtful.
    walk.page.locator("summary", has_text="More").click()
    walk.link("Front panel of the stand-in’s Dunlin")
    walk.fill("Receive channel, part 1", "2")
    walk.button("Set on the box")
    walk.go("5", "session")
    walk.begin()
    walk.key("r")
    walk.see("Pass 2: 1 take measured, placed.")


def main() -> None:
    with application() as address, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM)
        page = browser.new_page(viewport=DESK)
        page.set_default_timeout(PATIENCE_MS)
        page.goto(address)
        walk = Walker(page)
        held = []
        for what, way in zip(TARGETS, (first_take, a_further_box, recorded_again), strict=True):
            walk.begin()
            way(walk)
            held.append(walk.told(what))
        browser.close()
    raise SystemExit(0 if all(held) else 1)


if __name__ == "__main__":
    main()
