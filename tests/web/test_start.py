"""The start command as a person uses it: its own processes, a real kill, the data kept."""

import os
import re
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.request
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urlencode

from django.test import SimpleTestCase

from tests.hammer.studio import free_port, own_environment

ROOT = Path(__file__).parents[2]


def wait_for(what, seconds: float = 30):
    """The first true answer of `what`."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if answer := what():
            return answer
        time.sleep(0.1)
    raise AssertionError("it did not come about")


def parent_of(pid: int) -> int:
    """The parent of a living process, 0 for one that has ended."""
    try:
        state, parent = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[:2]
    except OSError:
        return 0
    return 0 if state == "Z" else int(parent)


class StartTest(SimpleTestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.data = Path(holder.name) / "data"
        self.port = free_port()
        self.environment = own_environment(HYPOTAXIS_DATA=str(self.data))

    @contextmanager
    def started(self, *options: str):
        command = [sys.executable, "manage.py", "start", "--port", str(self.port), "--demo", *options]
        process = subprocess.Popen(
            command, cwd=ROOT, env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        try:
            wait_for(lambda: process.poll() is not None or self.get("/rig/"))
            yield process
        finally:
            if process.poll() is None:
                process.send_signal(signal.SIGINT)
            process.communicate(timeout=30)

    def get(self, path: str) -> str:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{self.port}{path}", timeout=10) as answer:
                return answer.read().decode()
        except OSError:
            return ""

    def worker_of(self, process) -> int:
        """The worker's number, once it holds the lock."""
        lock = self.data / "worker.pid"
        owner = int(lock.read_text() or 0) if lock.exists() else 0
        return owner if parent_of(owner) == process.pid else 0

    def manage(self, *words: str) -> str:
        """What a command that is refused says."""
        command = [sys.executable, "manage.py", *words]
        answer = subprocess.run(command, cwd=ROOT, env=self.environment, capture_output=True, text=True, timeout=60)
        self.assertNotEqual(answer.returncode, 0)
        return answer.stderr

    def query(self, sql: str):
        with sqlite3.connect(self.data / "hypotaxis.sqlite3", timeout=20) as base:
            return base.execute(sql).fetchall()

    def test_it_serves_the_demo_and_ends_everything_it_started(self):
        with self.started() as process:
            page = self.get("/rig/")
            self.assertIn("Saltmarsh Room", page)
            style = re.search(r'href="(/static/web/styles/palette\.[0-9a-f]+\.css)"', page).group(1)
            with urllib.request.urlopen(f"http://127.0.0.1:{self.port}{style}") as answer:
                self.assertIn("max-age=31536000", answer.headers["Cache-Control"])
            self.assertEqual(self.query("pragma journal_mode"), [("wal",)])
            self.assertEqual((self.data / "secret.key").stat().st_mode & 0o777, 0o600)
            worker = wait_for(lambda: self.worker_of(process))
            # Half a request, and then nothing, from many: the owner is still answered.
            waiting = [socket.create_connection(("127.0.0.1", self.port)) for _ in range(60)]
            for one in waiting:
                self.addCleanup(one.close)
                one.sendall(b"POST /rig/add/ HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 9\r\n\r\nha")
            self.assertIn("Saltmarsh Room", self.get("/rig/"))
            self.assertIn("A worker is already running", self.manage("worker"))
            self.assertIn("already running on this data folder", self.manage("start", "--port", str(free_port())))
            process.send_signal(signal.SIGINT)
            told = process.communicate(timeout=30)[0]
            self.assertIn(f"http://127.0.0.1:{self.port}/", told)
            self.assertEqual(parent_of(worker), 0)
        with sqlite3.connect(self.data / "hypotaxis.sqlite3") as base:
            base.execute("update records_rig set name = 'Mine now'")
        # As power leaves it that goes in the middle of a start: files that are there, and empty.
        (self.data / "static.whole").unlink()
        for path in (self.data / "static" / "staticfiles.json", self.data / style.lstrip("/")):
            path.write_bytes(b"")
        with self.started():
            self.assertIn("Mine now", self.get("/rig/"))
            self.assertIn("--paper", self.get(style))
        with self.started("--fresh"):
            self.assertIn("Saltmarsh Room", self.get("/rig/"))
        (aside,) = self.data.parent.glob("data-*")
        with sqlite3.connect(aside / "hypotaxis.sqlite3") as base:
            self.assertEqual(base.execute("select name from records_rig").fetchall(), [("Mine now",)])

    def test_a_port_in_use_is_said_with_what_to_do(self):
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", self.port))
            taken.listen()
            told = self.manage("start", "--port", str(self.port))
        self.assertIn(f"Port {self.port} cannot be used", told)
        self.assertIn(f"PORT={self.port + 1} make demo", told)

    def test_a_worker_killed_in_mid_plan_loses_nothing_it_had_recorded_and_the_plan_goes_on(self):
        with self.started() as process:
            worker = wait_for(lambda: self.worker_of(process))
            opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
            page = opener.open(f"http://127.0.0.1:{self.port}/session/plan/").read().decode()
            token = re.search(r'name="csrfmiddlewaretoken" value="(\w+)"', page).group(1)

            def send(**fields):
                form = urlencode({"csrfmiddlewaretoken": token, **fields}).encode()
                opener.open(f"http://127.0.0.1:{self.port}/session/plan/", form)

            def done() -> int:
                return self.query("select count(*) from records_job where kind = 'pass' and state = 'done'")[0][0]

            # Two parts of one return: a pass each.
            self.query("update records_track set away = 1 where name not like 'Sedge%'")
            send(to="anew", first_bar=1, last_bar=1, gap_s=0)
            send(to="start")
            wait_for(lambda: done() == 1)
            partials = self.data / "audio" / "partial"
            wait_for(lambda: sum(p.stat().st_size for p in partials.glob("*.f32")) > 1.5 * 48000 * 8)
            os.kill(worker, signal.SIGKILL)
            takes = wait_for(lambda: self.query("select frames from records_take where complete = 0"))
            self.assertGreater(takes[0][0], 1.5 * 48000)
            self.assertEqual(self.query("select state from records_job where kind = 'pass plan'"), [("interrupted",)])
            self.assertNotEqual(wait_for(lambda: self.worker_of(process)), worker)
            send(to="start")
            wait_for(lambda: done() == 2)
            recorded = self.query("select planned_id, count(*) from records_pass group by planned_id")
            self.assertEqual(sorted(count for _, count in recorded), [1, 2], "what was done is not done again")
