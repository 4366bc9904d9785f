"""Backup and restore of everything, and the copies of the day."""

import io
import json
import os
import sqlite3
import tempfile
import time
import zipfile
from contextlib import closing
from datetime import date
from pathlib import Path
from unittest import mock

from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.db import transaction
from django.test import TransactionTestCase
from django.urls import reverse

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.records import audio, backup, space
from hypotaxis.records.backup import copies, copy_of_the_day, restore, write_backup
from hypotaxis.records.models import Rig
from hypotaxis.web.management.commands import start
from tests.web.base import DemoTest


def names_in(database: Path) -> list[str]:
    """The rigs of a database."""
    with closing(sqlite3.connect(database)) as opened:
        return [name for (name,) in opened.execute("SELECT name FROM records_rig")]


class CommittedTest(TransactionTestCase):
    def test_a_backup_holds_the_database_as_it_stands(self):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        call_command("loaddemo", stdout=io.StringIO())
        call_command("backup", str(folder / "all.zip"), stdout=io.StringIO())
        with transaction.atomic():
            Rig.objects.update(name="Not yet")
            call_command("backup", str(folder / "meanwhile.zip"), stdout=io.StringIO())
        for name in ("all", "meanwhile"):
            restore(folder / f"{name}.zip", folder / name)
            self.assertEqual(names_in(folder / name / "hypotaxis.sqlite3"), ["Saltmarsh Room"])


class SpaceTest(DemoTest):
    def test_what_nothing_refers_to_goes_when_asked_for_and_nothing_else(self):
        take = self.record("Bittern").takes.get()
        long_ago = time.time() - 2 * space.YOUNG_S
        stays, goes = [], []
        for folder in ("takes", "peaks", "figures", "soundings", "tryouts"):
            old, young, part = (audio.folder(folder) / f"{name}.wav" for name in ("old", "young", "on-its-way"))
            for path in (old, young, part := part.with_suffix(".wav.part")):
                path.write_bytes(bytes(3 * 2**20))
                self.addCleanup(path.unlink, missing_ok=True)
            os.utime(old, (long_ago, long_ago))
            os.utime(part, (long_ago, long_ago))
            stays, goes = [*stays, young, part], [*goes, old]
        mine = [audio.take_path(take.file), *audio.folder("peaks").glob(f"{take.file}*")]
        self.assertEqual(len(mine), 2)
        for path in mine:
            os.utime(path, (long_ago, long_ago))
        self.assertLessEqual(set(goes), set(space.left_over()))
        page = self.page("handover:backup")
        self.assertRegex(page, r"\d+ files, \d+\.\d MB, that nothing refers to any more")
        self.assertRegex(page, r"Takes</td><td class=\"num\">\d+</td>")
        told = self.client.post(reverse("handover:backup"), {"to": "remove"}, follow=True)
        self.assertRegex(self.told(told), r"\d+ files removed that nothing referred to")
        self.assertEqual([path for path in goes if path.exists()], [])
        self.assertEqual([path for path in (*stays, *mine) if not path.exists()], [])
        again = self.client.post(reverse("handover:backup"), {"to": "remove"}, follow=True)
        self.assertEqual(self.told(again), "Nothing is left over.")


class BackupTest(DemoTest):
    def setUp(self):
        super().setUp()
        folder, sounds = (Path(self.enterContext(tempfile.TemporaryDirectory())) for _ in range(2))
        self.enterContext(self.settings(AUDIO=sounds))
        self.take = self.record("Bittern").takes.get()
        self.file, self.data = folder / "backup.zip", folder / "data"

    def backup(self, **changed: bytes | None) -> Path:
        """A backup of all there is, with some files changed or (None) left out."""
        made = io.BytesIO()
        write_backup(made)
        with zipfile.ZipFile(made) as bundle, zipfile.ZipFile(self.file, "w") as copy:
            for name in bundle.namelist():
                if (data := changed.get(name, bundle.read(name))) is not None:
                    copy.writestr(name, data)
        return self.file

    def manifest(self, **changed) -> bytes:
        with zipfile.ZipFile(self.backup()) as bundle:
            return json.dumps(json.loads(bundle.read("backup.json")) | changed).encode()

    def test_everything_comes_back_into_an_empty_folder_and_a_used_one(self):
        self.assertIsNone(restore(self.backup(), self.data))
        self.assertEqual(names_in(self.data / "hypotaxis.sqlite3"), [])
        sound = self.data / "audio/takes" / self.take.file
        self.assertEqual(sound.read_bytes(), audio.take_path(self.take.file).read_bytes())
        (self.data / "secret.key").write_text("mine")
        aside = restore(self.backup(), self.data)
        self.assertEqual((aside / "audio/takes" / self.take.file).read_bytes(), sound.read_bytes())
        self.assertEqual((self.data / "secret.key").read_text(), "mine")
        self.assertEqual({path.name for path in self.data.parent.iterdir()}, {"backup.zip", "data", aside.name})

    def test_what_is_broken_is_refused_and_all_is_as_it_was(self):
        self.data.mkdir()
        (self.data / "hypotaxis.sqlite3").write_bytes(b"as it was")
        sound = f"audio/takes/{self.take.file}"
        whole = json.loads(self.manifest())

        def of_files(*files) -> dict:
            return {"backup.json": self.manifest(files=[*whole["files"], *files])}

        cases = {
            "checksum differs": {sound: audio.take_path(self.take.file).read_bytes()[:-1] + b"x"},
            "cannot be unpacked": {sound: None},
            "larger than the backup says": {sound: b"x" * 10_000_000},
            "backup.json is not in it": {"backup.json": None},
            "is damaged": {"backup.json": b"{"},
            "no backup of Hypotaxis": {"backup.json": self.manifest(format="other")},
            "newer Hypotaxis .version 7": {"backup.json": self.manifest(version=7)},
            "belongs to no backup: ../": of_files(["../evil", 1, "0"]),
            "belongs to no backup: audio/takes/..": of_files(["audio/takes/..", 1, "0"]),
            "belongs to no backup: secret.key": of_files(["secret.key", 1, "0"]),
        }
        for told, changed in cases.items():
            with self.subTest(told), self.assertRaisesRegex(UnreadableFile, told):
                restore(self.backup(**changed), self.data)
        self.file.write_bytes(b"PK")
        with self.assertRaisesRegex(UnreadableFile, "no backup"):
            restore(self.file, self.data)
        self.assertEqual((self.data / "hypotaxis.sqlite3").read_bytes(), b"as it was")
        self.assertEqual({path.name for path in self.data.parent.iterdir()}, {"backup.zip", "data"})

    def test_a_database_of_a_newer_program_is_refused(self):
        with zipfile.ZipFile(self.backup()) as bundle:
            database = Path(bundle.extract("hypotaxis.sqlite3", self.data))
        backup.check_database(database)
        with closing(sqlite3.connect(database)) as opened, opened:
            opened.execute("INSERT INTO django_migrations (app, name, applied) VALUES ('records', '9999_later', '')")
        with self.assertRaisesRegex(UnreadableFile, "made by a newer Hypotaxis .9999_later"):
            backup.check_database(database)
        database.write_bytes(b"no database")
        with self.assertRaisesRegex(UnreadableFile, "cannot be read"):
            backup.check_database(database)

    def test_on_its_page_it_is_made_and_taken(self):
        page = self.client.post(reverse("handover:backup"), {"to": "make", "token": "once"}, follow=True)
        self.assertContains(page, "Take the backup")
        data = b"".join(self.client.get(reverse("handover:backup-file")).streaming_content)
        with zipfile.ZipFile(io.BytesIO(data)) as bundle:
            self.assertIn(f"audio/takes/{self.take.file}", bundle.namelist())
        self.assertNotIn("secret.key", " ".join(bundle.namelist()))

    def test_from_the_shell(self):
        out = io.StringIO()
        call_command("backup", str(self.file), stdout=out)
        self.assertIn("Bring it back: manage.py restore", out.getvalue())
        with self.assertRaises(SystemExit):
            call_command("backup", str(self.file), stdout=out, stderr=out)
        self.assertIn("is there already", out.getvalue())

    def bring_back(self) -> str:
        told = io.StringIO()
        with self.settings(DATA=self.data), mock.patch.object(start, "connections"):
            start.Command(stdout=told)._bring_back()
        return told.getvalue()

    def test_one_that_is_sent_waits_and_is_brought_back_at_the_next_start(self):
        sent = self.backup().read_bytes()
        self.data.mkdir()
        (self.data / "hypotaxis.sqlite3").write_bytes(b"what was there")
        with self.settings(DATA=self.data):
            upload = SimpleUploadedFile("backup.zip", sent)
            page = self.client.post(reverse("handover:backup"), {"to": "restore", "backup": upload}, follow=True)
            self.assertContains(page, "A backup waits.")
        told = self.bring_back()
        self.assertIn("The backup is brought back.", told)
        backup.check_database(self.data / "hypotaxis.sqlite3")
        self.assertTrue((self.data / "audio/takes" / self.take.file).exists())
        (aside,) = self.data.parent.glob("data-*")
        self.assertEqual((aside / "hypotaxis.sqlite3").read_bytes(), b"what was there")
        self.assertEqual(self.bring_back(), "", "once")

    def test_what_is_no_backup_never_waits_and_what_breaks_at_the_start_changes_nothing(self):
        self.data.mkdir()
        with self.settings(DATA=self.data):
            for sent, told in ((b"PK, not really", "This is no backup"), (None, "Choose the backup first")):
                files = {"backup": SimpleUploadedFile("a.zip", sent)} if sent else {}
                page = self.client.post(reverse("handover:backup"), {"to": "restore"} | files, follow=True)
                self.assertIn(told, self.told(page))
            self.assertFalse(backup.pending().exists())
            backup.pending().write_bytes(self.backup(**{"hypotaxis.sqlite3": b"no database"}).read_bytes())
        self.assertIn("was not brought back", self.bring_back())
        self.assertEqual([path.name for path in self.data.iterdir() if path.is_file()], ["restore.refused"])

    def test_how_many_copies_are_kept_is_said_on_the_page(self):
        self.data.mkdir()
        with self.settings(DATA=self.data, COPIES_KEPT=7):
            self.assertEqual(backup.copies_kept(), 7)
            page = self.client.post(reverse("handover:backup"), {"to": "keep", "kept": "3"}, follow=True)
            self.assertContains(page, "3 copies of the day are kept")
            self.assertEqual(backup.copies_kept(), 3)
            self.client.post(reverse("handover:backup"), {"to": "keep", "kept": "0"})
            self.assertIsNone(copy_of_the_day(backup.copies_kept()))


class CopiesTest(DemoTest):
    def setUp(self):
        super().setUp()
        data = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(self.settings(DATA=data, AUDIO=data / "audio"))

    def test_a_copy_a_day_shares_its_sounds_and_the_newest_stay(self):
        take = self.record("Bittern").takes.get()
        for day in (1, 2, 2, 3):
            there = [one.day.day for one in copies()]
            self.assertEqual(copy_of_the_day(2, date(2026, 11, day)) is None, day in there)
        self.assertEqual([one.day.day for one in copies()], [3, 2])
        mine = copies()[0].path / "audio/takes" / take.file
        self.assertTrue(mine.samefile(audio.take_path(take.file)))
        self.assertLess(copies()[0].size, audio.take_path(take.file).stat().st_size * 5)
        audio.remove_take(take.file)
        self.assertTrue(mine.exists(), "what is thrown away stays in the copy")
        self.assertIsNone(copy_of_the_day(0, date(2026, 11, 4)))
        self.assertEqual(copies(), [])

    def test_where_there_are_no_hard_links_it_is_a_copy(self):
        take = self.record("Bittern").takes.get()
        with mock.patch.object(backup.os, "link", side_effect=PermissionError):
            made = copy_of_the_day(2)
        self.assertFalse((made / "audio/takes" / take.file).samefile(audio.take_path(take.file)))
