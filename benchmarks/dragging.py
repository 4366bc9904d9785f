"""How smoothly is a cable dragged over the sheet of a large rig? Time between two pictures of the browser while it is
pulled, against the 16.7 ms of a screen that shows sixty a second."""

import statistics

from playwright.sync_api import sync_playwright

from hypotaxis.core.formats.rigfile import write_rig_file
from tests.browser.chromium import CHROMIUM, DESK
from tests.browser.screenshots import application
from tests.rooms import large_room

FRAME_MS = 1000 / 60
_WATCH = """() => {
  window.frames_ms = []; let last = performance.now();
  const next = (now) => { window.frames_ms.push(now - last); last = now; window.watch = requestAnimationFrame(next); };
  window.watch = requestAnimationFrame(next);
}"""


def frames_while_dragging() -> list[float]:
    """Milliseconds between pictures while a cable end is pulled about on the sheet of 200 boxes."""
    with application() as address, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM)
        page = browser.new_page(viewport=DESK)
        page.goto(f"{address}/rig/rigs/")
        file = {"name": "large.json", "mimeType": "application/json", "buffer": write_rig_file(large_room()).encode()}
        page.get_by_label("Rig file").set_input_files(file)
        page.get_by_role("button", name="Read it").click()
        page.wait_for_load_state("networkidle")
        start = page.locator(".socket").nth(4).bounding_box()
        page.mouse.move(start["x"] + start["width"] / 2, start["y"] + start["height"] / 2)
        page.mouse.down()
        page.evaluate(_WATCH)
        for step in range(120):
            page.mouse.move(300 + (step * 37) % 500, 200 + (step * 53) % 400)
        frames = page.evaluate("() => { cancelAnimationFrame(window.watch); return window.frames_ms.slice(2); }")
        page.mouse.up()
        browser.close()
    return frames


def tell_dragging() -> None:
    """One line: the median and the slowest twentieth against one frame."""
    frames = frames_while_dragging()
    median, slow = statistics.median(frames), statistics.quantiles(frames, n=20)[-1]
    print(
        f"dragging on 200 boxes: {median / FRAME_MS:.2f} of a frame (median), {slow / FRAME_MS:.2f} (slowest twentieth)"
    )
