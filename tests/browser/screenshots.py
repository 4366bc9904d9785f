"""`make screenshots`: takes the pictures of docs/screenshots anew from the demo data.

Starts the application in a data folder of its own and walks the job as a person does.
"""

import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from tests.browser.chromium import CHROMIUM, DESK
from tests.devices.desk import a_desk

ROOT = Path(__file__).parents[2]
FOLDER = ROOT / "docs" / "screenshots"
PHONE, TABLET = {"width": 390, "height": 844}, {"width": 1024, "height": 768}
MANUAL = """Bank A (MSB 81, LSB 3)
A11 Salt Pan ...... pad
A12 Low Reed 2 .... bass
A13 12 Tides ...... drum
- 41 -
A14 Mud
This sentence stands beside the list, 12 of them.
A16 Far Bell
Bank B (MSB 81, LSB 4)
B11 Gull
B12 Tern
"""


@contextmanager
def application(*options: str) -> Iterator[str]:
    """The address of a freshly started application."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    address = f"http://127.0.0.1:{port}"
    with tempfile.TemporaryDirectory() as data:
        command = [sys.executable, "manage.py", "start", "--port", str(port), *options]
        environment = os.environ | {"HYPOTAXIS_DATA": data}
        process = subprocess.Popen(command, cwd=ROOT, env=environment, stdout=subprocess.DEVNULL)
        try:
            _wait_for(address)
            yield address
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(timeout=30)


def _wait_for(address: str) -> None:
    for _ in range(200):
        try:
            urllib.request.urlopen(f"{address}/rig/").close()
            return
        except OSError:
            time.sleep(0.1)
    raise SystemExit("The application did not start.")


def keep(page: Page, name: str) -> None:
    """Save what is seen now."""
    page.wait_for_timeout(400)
    page.screenshot(path=FOLDER / f"{name}.png")


def the_rig(page: Page, address: str) -> None:
    page.goto(f"{address}/rig/")
    keep(page, "rig")
    page.get_by_role("link", name="Draw this cable").click()
    page.get_by_role("button", name="Do it").click()
    page.get_by_label("Close this message").click()
    page.locator(".socket[aria-label^='Quayside 18 line in 4']").click()
    page.get_by_text("Withy’s trip").wait_for()
    keep(page, "rig-trip")
    page.locator(".box-link[aria-label^='Junction 6, sends']").click()
    page.get_by_role("link", name="Inside").click()
    for cell in ("in 1 to out 2", "in 1 to out 5", "in 2 to out 5"):
        page.get_by_label(f"{cell}: not joined").click()
    page.get_by_role("link", name="in 1 to out 5", exact=True).click()
    page.get_by_label("Channels that pass").fill("10")
    page.get_by_role("button", name="Keep").click()
    page.get_by_role("link", name="in 1 to out 5, channels 10 only").click()
    for _ in range(4):
        page.locator("#undo").click()
        page.wait_for_load_state("networkidle")


def the_instruments(page: Page, address: str) -> None:
    page.goto(f"{address}/instruments/")
    keep(page, "instruments")
    page.get_by_role("link", name="Sedge upper", exact=True).click()
    page.get_by_role("button", name="Play the note").click()
    page.get_by_text("It came home").wait_for()
    keep(page, "instruments-tryout")
    page.goto(f"{address}/instruments/patches/")
    page.get_by_label("Or text pasted from a manual").fill(MANUAL)
    page.get_by_role("button", name="Look at it").click()
    page.get_by_text("Keep it").wait_for()


def the_session(page: Page, address: str) -> None:
    page.goto(f"{address}/session/")
    for track in range(3):  # kit, kick, Bittern
        page.locator(".arm").nth(track).click()
        page.wait_for_load_state("networkidle")
    page.get_by_label("to bar").fill("4")
    page.get_by_role("button", name="Record 3 armed").click()
    page.get_by_text("hits used").first.wait_for(timeout=60_000)
    page.goto(f"{address}/session/?tick=480")
    keep(page, "session")
    page.get_by_label("Stand-in only").check()
    page.get_by_role("button", name="Record 3 armed").click()
    page.get_by_text("measured, placed").first.wait_for(timeout=60_000)
    page.get_by_label("Stand-in only").uncheck()
    page.get_by_role("link", name="Bittern, side by side").click()
    page.locator("#stand-first").fill("2")
    page.locator("#stand-last").fill("3")
    page.get_by_role("button", name="Let it stand").click()
    page.get_by_role("button", name="Compare them").click()
    page.locator(".take-verdict").wait_for()
    keep(page, "session-takes")
    page.goto(f"{address}/session/")
    page.get_by_label("Instrument of a new track").select_option(label="effect Eelgrass delay")
    page.get_by_role("button", name="Add a track").click()
    page.get_by_label("Sent to Eelgrass delay").select_option(label="Bittern")
    page.wait_for_load_state("networkidle")
    page.goto(f"{address}/session/plan/")
    page.get_by_label("To bar").fill("4")
    page.get_by_label("Stand-in only").check()
    page.get_by_role("button", name="Plan the fewest passes").click()
    page.get_by_role("button", name="in a row").click()
    page.get_by_text("All passes are done.").wait_for(timeout=90_000)
    keep(page, "session-plan")
    page.goto(f"{address}/session/mix/")
    for name in ("Alder kit", "Alder kick"):
        page.get_by_label(f"Group of {name}").fill("drums")
        page.keyboard.press("Tab")
        page.wait_for_load_state("networkidle")
    page.get_by_label("Level of the group drums, dB").wait_for()
    page.get_by_role("button", name="Hear").click()
    page.wait_for_timeout(4000)
    keep(page, "session-mix")
    page.get_by_role("button", name="Stop").click()
    page.goto(f"{address}/session/")
    page.get_by_role("link", name="Bittern", exact=True).click()
    page.get_by_role("link", name="Its notes, to mend").click()
    page.get_by_label("Choose bar 2").click()
    keep(page, "session-notes")


def the_stand(page: Page, address: str) -> None:
    """On a phone by day while it records, on a tablet at night when it has; and the room's page."""
    page.set_viewport_size(PHONE)
    page.goto(f"{address}/stand/")
    page.locator("[data-button=main]").click()
    page.locator("[data-show=bar]", has_text="3").wait_for(timeout=60_000)
    keep(page, "stand-phone")
    page.get_by_text("notes heard").wait_for(timeout=60_000)
    night = {"name": "hypotaxis-theme", "value": "night", "url": address}
    page.context.add_cookies([night])
    page.set_viewport_size(TABLET)
    page.reload()
    keep(page, "stand-tablet")
    page.context.add_cookies([night | {"value": "day"}])
    page.set_viewport_size(DESK)
    page.goto(f"{address}/room/")
    page.get_by_role("button", name="Open it").click()
    page.get_by_text("It is open").wait_for()
    keep(page, "room")
    page.get_by_role("button", name="Close it").first.click()
    page.get_by_text("It is closed").first.wait_for()


def the_patterns(page: Page, address: str) -> None:
    page.goto(f"{address}/session/new/")
    page.get_by_label("Name", exact=True).fill("Spring Tide")
    page.get_by_label("Tempo, BPM").fill("96")
    page.get_by_role("button", name="Begin it").click()
    page.get_by_role("link", name="Alder kit", exact=True).click()
    page.get_by_role("link", name="Patterns in a grid").click()
    for voice, places in (
        ("Kick", (1, 7, 9, 14)),
        ("Snare", (5, 13, 16)),
        ("Clap", (13,)),
        ("Closed hat", range(1, 16, 1)),
    ):
        for place in places:
            page.get_by_role("group", name=voice, exact=True).locator(".step-cell").nth(place - 1).click()
            page.get_by_label(f"{voice}, step {place}: velocity").wait_for()
    for label, value in (("Swing of Closed hat", "58"), ("Shift of Closed hat", "-2"), ("Steps a quarter of Tom", "3")):
        page.get_by_label(label).fill(value)
        page.keyboard.press("Enter")
        page.wait_for_load_state("networkidle")
    for place in (8, 11, 12):
        page.get_by_role("group", name="Tom", exact=True).locator(".step-cell").nth(place - 1).click()
        page.get_by_label(f"Tom, step {place}: velocity").wait_for()
    for place in (2, 4, 6, 8):
        cell = page.get_by_role("group", name="Closed hat", exact=True).locator(".step-cell").nth(place - 1)
        cell.focus()
        for softer in range(4):
            page.keyboard.press("Shift+ArrowDown")
            page.get_by_label(f"Closed hat, step {place}: velocity {92 - 8 * softer}").wait_for()
    page.get_by_role("button", name="Copy A").click()
    page.get_by_label("Bar 4: pattern A").wait_for()
    for bar in (4, 8, 12, 16):
        page.get_by_label(f"Bar {bar}: pattern A").click()
        page.get_by_label(f"Bar {bar}: pattern B").wait_for()
    page.goto(f"{page.url.split('?')[0]}?bar=5&note=42&step=6")
    page.get_by_role("button", name="Play pattern A").click()
    page.wait_for_timeout(3000)
    keep(page, "session-grid")
    page.get_by_role("button", name="Stop").click()
    page.get_by_role("button", name="Play pattern A").wait_for()


def the_recall(page: Page, address: str) -> None:
    page.goto(f"{address}/rig/rigs/")
    page.locator("#id_buffer").select_option("128")
    page.get_by_role("button", name="Keep", exact=True).first.click()
    page.goto(f"{address}/instruments/")
    page.get_by_role("link", name="Bittern", exact=True).first.click()
    page.get_by_text("change, copy, order, remove").click()
    page.get_by_role("link", name="Change the definition").click()
    page.get_by_label("Home trim, dB").fill("-3")
    page.get_by_role("button", name="Keep", exact=True).click()
    page.wait_for_load_state("networkidle")
    page.goto(f"{address}/session/recall/")
    page.locator("#checks").get_by_label("faster").first.check()
    page.locator("#checks").get_by_role("button", name="Play some bars").first.click()
    page.get_by_text("The same sound").first.wait_for(timeout=60_000)
    page.goto(f"{address}/session/recall/?show=all")
    keep(page, "recall")
    page.get_by_role("button", name="Put them back").click()
    page.get_by_text("Nothing has changed").wait_for()


def the_timing(page: Page, address: str) -> None:
    page.goto(f"{address}/timing/")
    page.get_by_label("Stand-in only").check()
    page.get_by_role("button", name="Sound all").click()
    page.get_by_role("button", name="Take a sounding").wait_for(timeout=120_000)
    page.goto(f"{address}/timing/")
    keep(page, "timing")


def the_line_check(page: Page, address: str) -> None:
    page.goto(f"{address}/rig/check/")
    page.get_by_label("stand-in only").check()
    page.get_by_role("button", name="Check 8 lines").click()
    page.get_by_text("8 of 8").wait_for(timeout=60_000)
    page.get_by_role("button", name="Check 8 lines").wait_for()
    keep(page, "line-check")


def the_studio(page: Page, address: str) -> None:
    with a_desk(name="saltmarsh") as (server, _, process):
        process.close()
        page.goto(f"{address}/rig/studio/")
        page.get_by_label("JACK").check()
        page.get_by_label("Name of the server").fill(server.name)
        page.get_by_role("button", name="Use this studio").click()
        page.get_by_text("running").wait_for()
        page.goto(f"{address}/rig/inputs/")
        page.get_by_role("button", name="Match in their order").click()
        page.goto(f"{address}/rig/studio/")
        page.get_by_label("Play C3 on truth:notes").click()
        page.get_by_text("−6.0").wait_for()
        keep(page, "studio")
        page.get_by_label("Stand-in").check()
        page.get_by_role("button", name="Use this studio").click()
        page.get_by_text("Every box of the rig is simulated").wait_for()


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM)
        with application("--demo") as address:
            page = browser.new_page(viewport=DESK)
            the_rig(page, address)
            the_line_check(page, address)
            the_instruments(page, address)
            the_session(page, address)
            the_stand(page, address)
            the_recall(page, address)
            the_timing(page, address)
            for step in ("sync", "handover"):
                page.goto(f"{address}/{step}/")
                keep(page, step)
            the_patterns(page, address)
            the_studio(page, address)
        browser.close()


if __name__ == "__main__":
    main()
