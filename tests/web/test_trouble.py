"""When the disk, the data folder or the database are not as they should be: a sentence that says what, where and what
to do, and nothing that could be lost is touched."""

import errno
import io
import os
import sqlite3
import subprocess
import sys
import tempfile
from collections import namedtuple
from contextlib import closing
from pathlib import Path
from unittest import mock

import numpy as np
from django.conf import settings
from django.core.management.base import CommandError
from django.db import OperationalError
from django.test import Client, SimpleTestCase, override_settings
from django.urls import reverse

from hypotaxis.records import audio
from hypotaxis.records.models import Job
from hypotaxis.records.trouble import told_of
from hypotaxis.web import folder, readiness, studio_startup
from tests.hammer.studio import own_environment
from tests.web.base import DemoTest

ROOT = Path(__file__).parents[2]
Usage = namedtuple("Usage", "total used free")


def made(path: Path, name: str = "records_rig") -> None:
    """A sound database with a table that says who it is."""
    with closing(sqlite3.connect(path)) as base:
        base.execute("PRAGMA journal_mode=WAL")
        base.execute(f"CREATE TABLE {name} (name TEXT)")
        base.executemany(f"INSERT INTO {name} VALUES (?)", [(f"row {n}" * 50,) for n in range(500)])
        base.commit()


class FolderTest(SimpleTestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.data = Path(holder.name) / "data"

    def told(self, *words: str) -> str:
        """What the command says, which ends with 1."""
        answer = subprocess.run(
            [sys.executable, "-m", "hypotaxis", *words],
            cwd=ROOT,
            env=own_environment(HYPOTAXIS_DATA=str(self.data)),
            capture_output=True,
            text=True,
            timeout=120,
        )
        self.assertEqual(answer.returncode, 1, answer.stderr)
        self.assertNotIn("Traceback", answer.stderr)
        return answer.stderr

    def test_a_file_in_the_folders_place_is_left_and_told(self):
        self.data.write_text("mine")
        self.assertIn(f"{self.data}: there is a file of this name. Move it, or name another", self.told("start"))
        self.assertEqual(self.data.read_text(), "mine")
        self.data = self.data / "below"
        self.assertIn(f"The data folder cannot be {self.data}", self.told("start"))

    def test_ports_are_numbered(self):
        for port in ("0", "70000"):
            self.assertIn(
                f"There is no port {port}: ports are numbered from 1 to 65535", self.told("start", "--port", port)
            )

    def test_an_empty_key_is_made_anew_and_a_key_stays(self):
        self.data.mkdir()
        (self.data / "secret.key").write_text("\n")
        key = folder.secret_key(self.data)
        self.assertGreater(len(key), 40)
        self.assertEqual(folder.secret_key(self.data), key)
        self.assertEqual([path.name for path in self.data.iterdir()], ["secret.key"])
        (self.data / "secret.key").write_bytes(b"\xff\xfe")
        with self.assertRaisesRegex(folder.Unusable, "secret.key cannot be read or written: it is no text"):
            folder.secret_key(self.data)

    def test_a_full_or_read_only_disk_is_told_before_anything_is_begun(self):
        self.data.mkdir()
        with (
            mock.patch.object(folder.shutil, "disk_usage", return_value=Usage(1, 1, 3_000_000)),
            self.assertRaisesRegex(folder.Unusable, "has room for 3 MB, and 21 MB are needed"),
        ):
            folder.check_writable(self.data)
        for number, word in ((errno.ENOSPC, "No space left"), (errno.EROFS, "Read-only file system")):
            refused = OSError(number, os.strerror(number))
            with (
                mock.patch.object(folder.os, "fsync", side_effect=refused),
                self.assertRaisesRegex(folder.Unusable, f"Nothing can be written into .*{word}"),
            ):
                folder.check_writable(self.data)

    def test_installed_the_data_lie_where_the_system_keeps_them(self):
        with mock.patch.dict(os.environ, {"HYPOTAXIS_DATA": "", "XDG_DATA_HOME": "/home/me/.local/share"}):
            self.assertEqual(folder.data_folder(ROOT), ROOT / "data")
            self.assertEqual(folder.data_folder(self.data), Path("/home/me/.local/share/hypotaxis"))


class ReadinessTest(SimpleTestCase):
    def setUp(self):
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.data = Path(holder.name)
        self.base = self.data / "hypotaxis.sqlite3"
        (self.data / "uploads").mkdir()
        changed = override_settings(
            DATA=self.data,
            AUDIO=self.data / "audio",
            FILE_UPLOAD_TEMP_DIR=self.data / "uploads",
            HUEY={"filename": str(self.data / "queue.sqlite3")},
        )
        changed.enable()
        self.addCleanup(changed.disable)
        self.enterContext(mock.patch.dict(settings.DATABASES["default"], NAME=self.base))
        self.said = io.StringIO()

    def look(self, *, from_copy: bool = False) -> None:
        readiness.look_over(self.said, from_copy=from_copy)

    def damage(self, path: Path) -> None:
        with path.open("r+b") as stream:
            stream.seek(4096)
            stream.write(b"\x5a" * (path.stat().st_size - 8192))
        for ending in ("-wal", "-shm"):
            path.with_name(path.name + ending).unlink(missing_ok=True)

    def test_what_kills_left_goes_and_nothing_else(self):
        left = [
            "uploads/a.upload",
            "audio/takes/b.wav.part",
            "audio/archives/c.zip.part",
            "copies/d.part/hypotaxis.sqlite3",
        ]
        stays = ["audio/takes/e.wav", "audio/partial/f.f32", "copies/2026-01-02/hypotaxis.sqlite3", "notes.txt"]
        for name in [*left, "uploads/folder/g", *stays]:
            (self.data / name).parent.mkdir(parents=True, exist_ok=True)
            (self.data / name).write_text("")
        self.look()
        there = {str(path.relative_to(self.data)) for path in self.data.rglob("*") if path.is_file()}
        self.assertEqual(there, set(stays))

    def test_a_damaged_database_stays_and_the_newest_sound_copy_is_offered(self):
        made(self.base)
        for day, whole in (("2026-11-01", True), ("2026-11-02", False)):
            (self.data / "copies" / day).mkdir(parents=True)
            made(copy := self.data / "copies" / day / "hypotaxis.sqlite3", "of_the_day")
            if not whole:
                self.damage(copy)
        self.damage(self.base)
        before = self.base.read_bytes()
        with self.assertRaisesRegex(CommandError, r"is damaged .*There is a copy of 01 November 2026: --from-copy"):
            self.look()
        self.assertEqual(self.base.read_bytes(), before)
        self.look(from_copy=True)
        with closing(sqlite3.connect(self.base)) as base:
            self.assertEqual(base.execute("SELECT count(*) FROM of_the_day").fetchone(), (500,))
        (aside,) = self.data.glob("damaged-*/hypotaxis.sqlite3")
        self.assertEqual(aside.read_bytes(), before)

    def test_no_database_an_empty_one_and_one_that_is_none(self):
        self.look()
        self.base.write_bytes(b"")
        self.look()
        (self.data / "audio" / "takes").mkdir(parents=True)
        (self.data / "audio" / "takes" / "a.wav").write_bytes(b"RIFF")
        with self.assertRaisesRegex(CommandError, "it is empty, and there are takes.*--fresh begins anew"):
            self.look()
        self.base.write_bytes(b"nothing of the kind" * 500)
        with self.assertRaisesRegex(CommandError, "damaged .file is not a database"):
            self.look(from_copy=True)

    def test_a_later_version_is_named(self):
        made(self.base)
        with closing(sqlite3.connect(self.base)) as base:
            base.execute("CREATE TABLE django_migrations (app TEXT, name TEXT)")
            base.execute("INSERT INTO django_migrations VALUES ('records', '9999_later'), ('elsewhere', '1')")
            base.commit()
        with self.assertRaisesRegex(CommandError, r"used by a later version of Hypotaxis \(9999_later\)"):
            self.look()

    def test_a_damaged_queue_is_begun_anew(self):
        made(path := self.data / "queue.sqlite3")
        self.damage(path)
        self.look()
        self.assertFalse(path.exists())
        self.assertIn("is begun anew; nothing is lost", self.said.getvalue())

    def test_who_holds_the_database_is_waited_for_and_then_named(self):
        made(self.base)
        other = sqlite3.connect(self.base, isolation_level=None, check_same_thread=False)
        self.addCleanup(other.close)
        other.execute("BEGIN IMMEDIATE")
        with (
            mock.patch.object(readiness, "WAITS_S", 0),
            self.assertRaisesRegex(CommandError, "Another program holds the database .*Close it"),
        ):
            self.look()
        self.enterContext(mock.patch.object(self.said, "write", side_effect=lambda _: other.execute("ROLLBACK")))
        self.look()


class PageTest(DemoTest):
    def test_what_disk_and_database_refuse_is_told_on_the_page(self):
        cases = {
            OperationalError("database is locked"): "Another program holds the database",
            OperationalError("attempt to write a readonly database"): "Nothing can be written into the data folder",
            OperationalError("database or disk is full"): "The disk is full",
            OperationalError("database disk image is malformed"): "offers the newest copy",
            OSError(errno.ENOSPC, "No space left on device"): "The disk is full",
            OSError(errno.EROFS, "Read-only file system"): "Nothing can be written",
        }
        client = Client(raise_request_exception=False)
        for error, told in cases.items():
            with (
                mock.patch("hypotaxis.steps.rig.views.sheet.still_free", side_effect=error),
                self.assertLogs("hypotaxis.web.middleware", "ERROR"),
            ):
                self.assertContains(client.get(reverse("rig:home")), told, status_code=503)
        self.assertEqual(
            [told_of(OperationalError("no such table: x")), told_of(OSError(2, "")), told_of(KeyError())], [""] * 3
        )

    def test_work_says_what_the_disk_refused(self):
        with (
            mock.patch(
                "hypotaxis.steps.session.services.recording.studio_for", side_effect=OSError(errno.ENOSPC, "No space")
            ),
            self.assertLogs("hypotaxis.records.jobs", "ERROR"),
        ):
            self.record("Bittern")
        self.assertIn("The disk is full", Job.objects.get(kind="pass").message)

    def broken_disk(self, most: int = 2**30, piece: int = 2**20):
        """Passes write to a disk that breaks behind so many bytes, and takes at most a piece at a time."""
        real = audio.partial_path

        class Broken(type(Path())):
            def open(self, mode="r", **how):
                stream = super().open(mode, **how)
                return Breaking(stream, most, piece) if "w" in mode else stream

        return mock.patch.object(audio, "partial_path", lambda uid: Broken(real(uid)))

    def test_a_disk_that_takes_a_block_in_pieces_shifts_nothing(self):
        with mock.patch.object(studio_startup, "_runs", 0):
            whole = self.record("Bittern").takes.get()
        with mock.patch.object(studio_startup, "_runs", 0), self.broken_disk(piece=1001):
            pieces = self.record("Bittern").takes.get()
        one, other = (audio.read_frames(take.file, 0, take.frames) for take in (whole, pieces))
        np.testing.assert_array_equal(other, one)

    def test_of_a_pass_on_a_disk_that_breaks_stays_what_was_written(self):
        a_second = 48_000 * 4
        with self.broken_disk(most=3 * a_second), self.assertLogs("hypotaxis.records.jobs", "ERROR"):
            run = self.record("Bittern", bars=(1, 4))
        self.assertIn("the disk or the database is damaged", run.job.message)
        take = run.takes.get()
        self.assertEqual((take.frames, take.complete), (3 * 48_000, False))
        self.assertEqual(self.record("Bittern").job.state, Job.DONE)


class Breaking:
    """A file on a disk that breaks."""

    def __init__(self, stream, most: int, piece: int) -> None:
        self._stream, self._left, self._piece = stream, most, piece

    def __enter__(self):
        return self

    def __exit__(self, *_) -> None:
        self._stream.close()

    def write(self, data) -> int:
        if not self._left:
            raise OSError(errno.EIO, "Input/output error")
        taken = self._stream.write(data[: min(self._left, self._piece)])
        self._left -= taken
        return taken
