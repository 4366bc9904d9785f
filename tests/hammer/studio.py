"""A program of its own on a data folder of its own, as a person starts it, and what must hold of that folder."""

import hashlib
import os
import re
import resource
import signal
import socket
import sqlite3
import subprocess
import sys
import time
import urllib.error
import urllib.request
from contextlib import closing, suppress
from http.cookiejar import CookieJar
from pathlib import Path
from urllib.parse import urlencode

from hypotaxis.core.formats.wave import HEAD_BYTES

ROOT = Path(__file__).parents[2]
START_S, END_S = 120, 60
ANSWERED = (200, 204, 302, 400, 403, 404, 409, 503)
"""What may be answered; anything else is an error of ours."""


class Broken(AssertionError):
    """What was promised does not hold."""


class Browser:
    """Sends requests, with its cookies and the token of the pages' forms."""

    def __init__(self, port: int) -> None:
        self._base = f"http://127.0.0.1:{port}"
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()), _Stay())
        self._token = ""

    def get(self, address: str) -> str:
        """A page; "" where nobody answers."""
        with suppress(OSError), self._opener.open(self._base + address, timeout=60) as answer:
            page = answer.read().decode()
            if found := re.search(r'name="csrfmiddlewaretoken" value="(\w+)"', page):
                self._token = found[1]
            return page
        return ""

    def send(self, address: str, **fields: str) -> int:
        """What is answered to a form, 0 where nobody answers. Raises Broken for an error of ours."""
        form = urlencode({"csrfmiddlewaretoken": self._token, **fields}).encode()
        try:
            with self._opener.open(self._base + address, form, timeout=60) as answer:
                status = answer.status
        except urllib.error.HTTPError as error:
            status = error.code
        except OSError:
            return 0
        if status not in ANSWERED:
            raise Broken(f"{address} answered {status}")
        return status


class _Stay(urllib.request.HTTPRedirectHandler):
    """A redirect is an answer: what was sent is confirmed by it."""

    def redirect_request(self, *_):
        return None


class OwnStudio:
    """The program on a folder."""

    def __init__(self, data: Path) -> None:
        self.data, self.port = data, free_port()
        self.process: subprocess.Popen | None = None

    def start(self, most_bytes: int = 0) -> Browser | None:
        """Start it, and wait until it answers; None where it ends with a sentence instead. most_bytes: how large any
        file may grow, which to it is a full disk."""
        command = [sys.executable, "-m", "hypotaxis", "start", "--demo", "--port", str(self.port)]
        self.process = subprocess.Popen(
            command,
            cwd=ROOT,
            env=own_environment(HYPOTAXIS_DATA=str(self.data)),
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            preexec_fn=(lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (most_bytes, most_bytes)))
            if most_bytes
            else None,
        )
        browser, until = Browser(self.port), time.monotonic() + START_S
        while time.monotonic() < until:
            if browser.get("/rig/"):
                return browser
            if self.process.poll() is not None:
                told = self.process.stdout.read()
                if "Traceback" in told:
                    raise Broken(f"it did not start:\n{told}")
                return None
            time.sleep(0.05)
        raise Broken("it did not start in time")

    def kill(self, *, worker: bool) -> None:
        """End the worker, or everything, without a word."""
        with suppress(ProcessLookupError, ValueError, FileNotFoundError):
            os.kill(int((self.data / "worker.pid").read_text()), signal.SIGKILL)
        if not worker:
            self.process.kill()
            self._gone()

    def end(self) -> None:
        """End it as a person does."""
        if self.process and self.process.poll() is None:
            self.process.send_signal(signal.SIGINT)
        self._gone()

    def _gone(self) -> None:
        if self.process:
            with suppress(subprocess.TimeoutExpired):
                self.process.communicate(timeout=END_S)
            self.process.kill()
            self.process = None

    def query(self, sql: str) -> list[tuple]:
        """Of the database as it stands."""
        with closing(sqlite3.connect(self.data / "hypotaxis.sqlite3", timeout=30)) as base:
            return base.execute(sql).fetchall()

    def settled(self) -> None:
        """Wait until no work is left. Raises Broken where some never ends."""
        until = time.monotonic() + START_S
        while left := self.query("SELECT kind, state FROM records_job WHERE state IN ('waiting', 'running')"):
            if time.monotonic() > until:
                raise Broken(f"work that never ends: {left}")
            time.sleep(0.1)

    def check(self) -> None:
        """What must hold at any time, running or not. Raises Broken."""
        for name in ("hypotaxis.sqlite3", "queue.sqlite3"):
            if (self.data / name).exists():
                with closing(sqlite3.connect(self.data / name, timeout=30)) as base:
                    if (state := base.execute("PRAGMA integrity_check").fetchone()) != ("ok",):
                        raise Broken(f"{name}: {state[0]}")
        if loose := self.query("PRAGMA foreign_key_check"):
            raise Broken(f"rows that belong to nothing: {loose[:3]}")
        for number, file in self.query("SELECT number, file FROM records_take"):
            path = self.data / "audio" / "takes" / file
            if not path.exists():
                raise Broken(f"the sound of take {number} is gone")
            if _name_of(path) != path.stem:
                raise Broken(f"the sound of take {number} is not what was recorded")

    def errors(self) -> list[str]:
        """Of ours, that it noted."""
        log = self.data / "hypotaxis.log"
        noted = log.read_text().splitlines() if log.exists() else []
        return [line for line in noted if "Internal Server Error" in line]


def _name_of(path: Path) -> str:
    """What a take's file must be called: by its checksum, its head counted last, as it was written last."""
    content = path.read_bytes()
    return hashlib.sha256(content[HEAD_BYTES:] + content[:HEAD_BYTES]).hexdigest()[:40]


def own_environment(**more: str) -> dict[str, str]:
    """For a program of its own: what is set here for ours is not."""
    return {k: v for k, v in os.environ.items() if not k.startswith(("HYPOTAXIS", "DJANGO"))} | more


def free_port() -> int:
    """A port that nobody listens at."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]
