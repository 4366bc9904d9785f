"""Installed like any Python application: the wheel in a fresh environment, and the first ten minutes there."""

import re
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.request
import venv
import zipfile
from contextlib import closing
from pathlib import Path

from django.test import SimpleTestCase

from tests.hammer.studio import Browser, free_port, own_environment
from tests.web.test_start import wait_for

ROOT = Path(__file__).parents[2]
SHIPPED = (
    "hypotaxis/web/templates/web/base.html",
    "hypotaxis/steps/rig/templates/rig/home.html",
    "hypotaxis/web/static/web/scripts/shared.js",
    "hypotaxis/web/static/web/styles/palette.css",
    "hypotaxis/web/static/vendor/LICENSE-bootstrap",
    "hypotaxis/core/formats/faces/barlow-400.ttf",
    "hypotaxis/demo/saltmarsh-room.json",
    "hypotaxis/demo/tide-tables.mid",
    "hypotaxis/demo/alder.midnam",
    "hypotaxis/records/migrations/0001_initial.py",
)
NOT_ON_WINDOWS = ("fcntl", "resource", "pwd", "grp", "termios")


class InstalledTest(SimpleTestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        # What is there to be built, and nothing that an earlier build left.
        listed = ["git", "ls-files", "--cached", "--others", "--exclude-standard"]
        for name in subprocess.run(listed, cwd=ROOT, capture_output=True, text=True).stdout.splitlines():
            if name.startswith(("hypotaxis/", "requirements/", "LICENSE", "README", "pyproject", "MANIFEST")):
                (cls.folder / "source" / name).parent.mkdir(parents=True, exist_ok=True)
                (cls.folder / "source" / name).write_bytes((ROOT / name).read_bytes())
        build = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(cls.folder)]
        subprocess.run([*build, str(cls.folder / "source")], check=True, capture_output=True)
        (cls.wheel,) = cls.folder.glob("*.whl")

    def at_home(self, **more: str) -> dict[str, str]:
        """For what is installed: its data lie in a home of its own, and nothing of Python's is set."""
        found = own_environment(XDG_DATA_HOME=str(self.folder / "home"), **more)
        return {name: value for name, value in found.items() if not name.startswith("PYTHON")}

    def run_in(self, *words: str, **kwargs) -> subprocess.CompletedProcess:
        environment = self.at_home(VIRTUAL_ENV=str(self.folder / "env"))
        return subprocess.run(
            words, cwd=self.folder, env=environment, capture_output=True, text=True, timeout=900, **kwargs
        )

    def test_the_wheel_holds_all_that_the_pages_need(self):
        with zipfile.ZipFile(self.wheel) as wheel:
            inside = set(wheel.namelist())
            meta = next(name for name in inside if name.endswith("/METADATA"))
            told = wheel.read(meta).decode()
        self.assertLessEqual(set(SHIPPED), inside)
        self.assertEqual([name for name in inside if name.startswith("tests/") or name.endswith(".pyc")], [])
        self.assertIn("Requires-Python: >=3.11", told)
        self.assertIn("Requires-Dist: Django<5.3,>=5.2", told)
        there = {str(path.relative_to(ROOT)) for path in (ROOT / "hypotaxis").rglob("*") if path.is_file()}
        self.assertEqual({name for name in there if not name.endswith(".pyc")} - inside, set())

    def test_installed_it_plays_records_and_keeps(self):
        venv.create(self.folder / "env", with_pip=False)
        python, command = (self.folder / "env" / "bin" / name for name in ("python", "hypotaxis"))
        pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--python", str(python)]
        # The versions that were tried, each by its hash; then the program without a look at what it needs.
        locked = str(ROOT / "requirements" / "runtime.txt")
        self.assertEqual(self.run_in(*pip, "install", "--require-hashes", "-r", locked).returncode, 0)
        self.assertEqual(self.run_in(*pip, "install", "--no-deps", str(self.wheel)).returncode, 0)
        self.assertIn("No broken requirements", self.run_in(*pip, "check").stdout)
        for name in ("align", "wire", "rigcheck", "patchlist", "clock", "misstep", "devices", "sound", "start"):
            answer = self.run_in(str(command), name, "--help")
            self.assertIn(f"usage: hypotaxis {name}", answer.stdout, answer.stderr)
        port, data = free_port(), self.folder / "home" / "hypotaxis"
        for time_round in (1, 2):
            program = subprocess.Popen(
                [str(command), "demo", "--port", str(port)],
                cwd=self.folder,
                env=self.at_home(),
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                text=True,
            )
            browser = Browser(port)
            try:
                page = wait_for(lambda browser=browser: browser.get("/rig/"), 120)
                self.assertIn("Saltmarsh Room", page)
                style = re.search(r'href="(/static/web/styles/palette\.[0-9a-f]+\.css)"', page)[1]
                with urllib.request.urlopen(f"http://127.0.0.1:{port}{style}") as answer:
                    self.assertIn("--paper", answer.read().decode())
                if time_round == 1:
                    self.record(browser, data)
                self.assertIn("Alder kit", browser.get("/handover/"))
                self.assertEqual(self.takes(data), 1)
            finally:
                program.send_signal(signal.SIGINT)
                program.communicate(timeout=60)
        # Removed cleanly: the program goes, the data stay.
        removed = self.run_in(*pip, "uninstall", "--yes", "hypotaxis")
        self.assertEqual(removed.returncode, 0)
        self.assertFalse(command.exists())
        self.assertEqual(list((self.folder / "env").rglob("*/hypotaxis/*.py")), [])
        self.assertEqual(self.takes(data), 1)

    def record(self, browser: Browser, data: Path) -> None:
        with closing(sqlite3.connect(data / "hypotaxis.sqlite3", timeout=20)) as base, base:
            base.execute("UPDATE records_track SET armed = 1 WHERE name = 'Alder kit'")
        browser.get("/session/")
        wish = {"first_bar": "1", "last_bar": "2", "fast": "on", "place": "on"}
        self.assertEqual(browser.send("/session/pass/", **wish), 302)
        wait_for(lambda: self.takes(data) == 1, 120)
        time.sleep(0.2)

    def takes(self, data: Path) -> int:
        with closing(sqlite3.connect(data / "hypotaxis.sqlite3", timeout=20)) as base:
            return base.execute("SELECT count(*) FROM records_take WHERE placement IS NOT NULL").fetchone()[0]

    def test_it_begins_where_the_modules_of_unix_are_missing(self):
        told = (
            "import sys\n"
            f"for name in {NOT_ON_WINDOWS!r}: sys.modules[name] = None\n"
            "import os, socket\n"
            "for name in ('nice', 'pread', 'getppid'): delattr(os, name)\n"
            "del socket.AF_UNIX\n"
            "import hypotaxis.__main__, hypotaxis.core.apart\n"
            "os.environ['DJANGO_SETTINGS_MODULE'] = 'hypotaxis.web.settings'\n"
            "import django; django.setup()\n"
            "from django.core.management import load_command_class\n"
            "for name in ('start', 'worker', 'devices', 'sound', 'backup', 'restore'):\n"
            "    load_command_class('hypotaxis.web', name)\n"
            "import hypotaxis.web.urls, hypotaxis.standin.run, hypotaxis.devices.process, hypotaxis.records.writing\n"
            "from hypotaxis.devices.panic import call, listen_at\n"
            "assert listen_at('/tmp/x') is None and call('/tmp/x') is False\n"
            "hypotaxis.core.apart._limit(memory=1, seconds=1, writes=0)\n"
            "print('begun')\n"
        )
        with tempfile.TemporaryDirectory() as data:
            answer = subprocess.run(
                [sys.executable, "-c", told],
                cwd=ROOT,
                env=own_environment(HYPOTAXIS_DATA=data),
                capture_output=True,
                text=True,
                timeout=120,
            )
        self.assertEqual(answer.stdout, "begun\n", answer.stderr)
