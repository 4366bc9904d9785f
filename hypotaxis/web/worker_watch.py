"""Is the worker there? Starts it, starts it again when it dies, and says so on every page meanwhile."""

import subprocess
import sys
import threading
import time

from django.conf import settings

FIRST_WAIT_S, LONGEST_WAIT_S = 1.0, 60.0
"""Before it is started again: twice as long each time, so that one that cannot live does not wear the machine down."""
LIVED_S = 60.0
"""One that lived so long died of something new."""


class WorkerWatch:
    """The worker process. Called by the start command; `trouble` is asked by the pages of the same process."""

    def __init__(self, command: list[str] | None = None) -> None:
        self._command = command or [sys.executable, "-m", "hypotaxis", "worker", "--led"]
        self._process: subprocess.Popen | None = None
        self._ending = threading.Event()
        self._again_at: float | None = None
        self._deaths = 0

    def start(self) -> None:
        """Start it, and watch it from now on."""
        global _watch
        _watch = self
        self._launch()
        threading.Thread(target=self._watch, daemon=True).start()

    def stop(self) -> None:
        """End it for good."""
        self._ending.set()
        if self._process and self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(timeout=10)
            except subprocess.TimeoutExpired:
                self._process.kill()

    @property
    def told(self) -> str:
        """What the pages say while it is gone; "" while it is there."""
        if self._again_at is None:
            return ""
        wait = max(1, round(self._again_at - time.monotonic()))
        often = f" for the {self._deaths}. time in a row" if self._deaths > 1 else ""
        return (
            f"The part of Hypotaxis that plays, records and measures ended{often}. It is started again in {wait} s; "
            "what was recorded is kept. If it goes on, look into hypotaxis.log in the data folder."
        )

    def _launch(self) -> None:
        # In a session of its own, so that Ctrl-C reaches it through us only, in order.
        self._process = subprocess.Popen(
            self._command,
            cwd=settings.BASE,
            start_new_session=True,
            # It ends when we let go of this.
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
        )

    def _watch(self) -> None:
        while True:
            born = time.monotonic()
            self._process.wait()
            if self._ending.is_set():
                return
            self._deaths = 1 if time.monotonic() - born > LIVED_S else self._deaths + 1
            wait = min(LONGEST_WAIT_S, FIRST_WAIT_S * 2 ** (self._deaths - 1))
            self._again_at = time.monotonic() + wait
            print(f"The worker ended; it is started again in {wait:g} s.", file=sys.stderr)
            if self._ending.wait(wait):
                return
            self._launch()
            self._again_at = None


_watch: WorkerWatch | None = None


def trouble() -> str:
    """What is to be said of the worker of this program; "" where nothing is."""
    return _watch.told if _watch else ""
