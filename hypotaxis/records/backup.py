"""A copy of everything: the database as it stands at one moment, and the sounds and pictures that it names.

What can be made again (overviews, figures, what was heard) is left out. A backup is a zip whose files are stored as
they are, with a manifest of their checksums; it is brought back only whole, and what was there before is moved aside,
never written over. The copies of the day are the same as folders, their sounds hard links where the file system can.
"""

import hashlib
import json
import os
import re
import shutil
import sqlite3
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import BinaryIO

from django.conf import settings
from django.db import connection
from django.db.migrations.loader import MigrationLoader

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.records import audio

FORMAT, VERSION = "hypotaxis-backup", 1
MANIFEST, DATABASE = "backup.json", "hypotaxis.sqlite3"
SOUNDS = ("takes", "soundings", "bounced")
"""Folders of the audio store that hold what cannot be made again, or was made on purpose."""
PICTURES = "pictures"
_NAME = re.compile(rf"(?:audio/(?:{'|'.join(SOUNDS)})|{PICTURES})/[^/\\]+|{re.escape(DATABASE)}")
MOST_MANIFEST = 64 * 2**20
MOST_COPIES = 99
Tell = Callable[[float], None]


@dataclass(frozen=True)
class Manifest:
    """What a backup holds. made: ISO 8601; files: (name, bytes, SHA-256)."""

    made: str
    files: tuple[tuple[str, int, str], ...]
    format: str = FORMAT
    version: int = VERSION


@dataclass(frozen=True)
class Copied:
    """A copy of the day. size: bytes that it takes by itself, without what it shares with the data."""

    day: date
    path: Path
    size: int


def write_backup(stream: BinaryIO, tell: Tell = lambda share: None) -> int:
    """Write a backup of the data folder; how many files it holds. Raises DiskFull; what is told may raise to end it."""
    with _database() as database, audio.told_when_full(), zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as bundle:
        wanted = [(DATABASE, database), *_files()]
        whole, done, rows = max(1, sum(path.stat().st_size for _, path in wanted)), 0, []
        for name, path in wanted:
            try:
                with path.open("rb") as source:
                    rows.append((name, path.stat().st_size, hashlib.file_digest(source, "sha256").hexdigest()))
                bundle.write(path, name)
            except FileNotFoundError:
                # Thrown away for good meanwhile.
                continue
            done += rows[-1][1]
            tell(done / whole)
        manifest = Manifest(datetime.now().isoformat(timespec="seconds"), tuple(rows))
        bundle.writestr(MANIFEST, json.dumps(to_json(manifest)))
        return len(rows)


def size_of_all() -> int:
    """Bytes of what a backup holds, about."""
    database = Path(connection.settings_dict["NAME"])
    there = [database] if database.exists() else []
    return sum(path.stat().st_size for path in (*there, *(path for _, path in _files())))


def _files() -> Iterator[tuple[str, Path]]:
    """What is kept besides the database: (name in a backup, file)."""
    for name in SOUNDS:
        yield from ((f"audio/{name}/{path.name}", path) for path in _whole_files(audio.folder(name)))
    yield from ((f"{PICTURES}/{path.name}", path) for path in _whole_files(settings.DATA / PICTURES))


def _whole_files(folder: Path) -> list[Path]:
    there = sorted(folder.iterdir()) if folder.exists() else []
    return [path for path in there if path.is_file() and path.suffix != audio.PART]


@contextmanager
def _database() -> Iterator[Path]:
    """The database as it stands at one moment, in a file that is gone afterwards."""
    with tempfile.TemporaryDirectory(dir=settings.DATA, suffix=audio.PART) as folder:
        path = Path(folder) / DATABASE
        copy_database(path)
        yield path


def copy_database(path: Path) -> None:
    """Copy the database while it is in use; SQLite sees to it that the copy is of one moment."""
    # By a connection of its own: one that is in the middle of a change would wait for itself.
    name = connection.settings_dict["NAME"]
    with (
        audio.told_when_full(),
        closing(sqlite3.connect(f"file:{name}?mode=ro", uri=True)) as source,
        closing(sqlite3.connect(path)) as target,
    ):
        source.backup(target)


# --- brought back -------------------------------------------------------------------------------


def restore(path: Path, data: Path, tell: Tell = lambda share: None) -> Path | None:
    """Bring a backup back into a data folder that nothing runs on; where what was there before lies now, None where
    nothing was. Raises UnreadableFile, DiskFull, and then everything is as it was."""
    fresh = Path(tempfile.mkdtemp(prefix=f"{data.name}-restoring-", dir=data.parent))
    fresh.chmod(0o755)
    try:
        _unpack(path, fresh, tell)
        check_database(fresh / DATABASE)
        return _exchange(data, fresh)
    finally:
        shutil.rmtree(fresh, ignore_errors=True)


def look_into(path: Path) -> Manifest:
    """What a backup says that it holds. Raises UnreadableFile."""
    with _opened(path) as bundle:
        return _manifest(bundle)


def _opened(path: Path) -> zipfile.ZipFile:
    try:
        return zipfile.ZipFile(path)
    except (zipfile.BadZipFile, OSError, ValueError) as error:
        raise UnreadableFile(f"This is no backup: {error}. Choose the .zip that Hypotaxis made.") from error


def pending() -> Path:
    """Where a backup waits that is brought back at the next start, when nothing runs on the data."""
    return settings.DATA / "restore.zip"


def take_up(data: BinaryIO) -> Manifest:
    """Let a backup that was sent wait for the next start. Raises UnreadableFile, DiskFull, and then none waits."""

    def write(target: BinaryIO) -> None:
        shutil.copyfileobj(data, target, 1 << 20)

    path = audio.write_whole("restoring", ".zip", write)
    try:
        found = look_into(path)
        audio.check_room(sum(size for _, size, _ in found.files))
        path.replace(pending())
    finally:
        path.unlink(missing_ok=True)
    return found


def _unpack(path: Path, fresh: Path, tell: Tell) -> None:
    with _opened(path) as bundle, audio.told_when_full():
        manifest = _manifest(bundle)
        whole, done = max(1, sum(size for _, size, _ in manifest.files)), 0
        for name, size, digest in manifest.files:
            target = fresh / name
            target.parent.mkdir(parents=True, exist_ok=True)
            if _copied(bundle, name, target, size) != digest:
                raise UnreadableFile(f"{name} is not what was written: its checksum differs. Nothing was brought back.")
            done += size
            tell(done / whole)


def _manifest(bundle: zipfile.ZipFile) -> Manifest:
    try:
        entry = bundle.getinfo(MANIFEST)
        if entry.file_size > MOST_MANIFEST:
            raise UnreadableFile("The list of what is in the backup is too large to be one.")
        plain = json.loads(bundle.read(entry))
        found = from_json(Manifest, plain)
    except UnreadableFile:
        raise
    except KeyError as error:
        raise UnreadableFile(f"This is no backup: {MANIFEST} is not in it.") from error
    except Exception as error:
        raise UnreadableFile(f"{MANIFEST} is damaged: {error}. Take another backup.") from error
    if found.format != FORMAT:
        raise UnreadableFile("This is no backup of Hypotaxis.")
    if found.version > VERSION:
        raise UnreadableFile(
            f"This backup was made by a newer Hypotaxis (version {found.version}); this one reads up to {VERSION}."
        )
    names = [name for name, *_ in found.files]
    odd = next((name for name in names if not _NAME.fullmatch(name) or ".." in name), None)
    if odd is not None or DATABASE not in names or len(set(names)) < len(names):
        raise UnreadableFile(f"{MANIFEST} names what belongs to no backup: {str(odd or 'no database')[:80]}.")
    return found


def _copied(bundle: zipfile.ZipFile, name: str, target: Path, size: int) -> str:
    """Unpack a file of so many bytes; its checksum."""
    digest, left = hashlib.sha256(), size
    try:
        with bundle.open(name) as source, target.open("wb") as kept:
            while data := source.read(1 << 20):
                left -= len(data)
                if left < 0:
                    raise UnreadableFile(f"{name} is larger than the backup says. Nothing was brought back.")
                digest.update(data)
                kept.write(data)
            kept.flush()
            os.fsync(kept.fileno())
    except (KeyError, zipfile.BadZipFile, EOFError, NotImplementedError) as error:
        raise UnreadableFile(f"{name} cannot be unpacked: {error}. Nothing was brought back.") from error
    return digest.hexdigest()


def check_database(path: Path) -> None:
    """Raises UnreadableFile for what is no database of this program, or of a newer one."""
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as database:
            (state,) = database.execute("PRAGMA integrity_check").fetchone()
            done = {tuple(row) for row in database.execute("SELECT app, name FROM django_migrations")}
    except sqlite3.Error as error:
        raise UnreadableFile(
            f"The database in the backup cannot be read: {error}. Nothing was brought back."
        ) from error
    if state != "ok":
        raise UnreadableFile(f"The database in the backup is damaged: {state[:120]}. Nothing was brought back.")
    if newer := _newer(done):
        raise UnreadableFile(
            f"The backup was made by a newer Hypotaxis ({newer}). Bring it back with that one; nothing was changed."
        )


def check_version(path: Path) -> None:
    """Raises UnreadableFile, naming what is not known here, for a database that a newer program has changed."""
    with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)) as database:
        try:
            done = {tuple(row) for row in database.execute("SELECT app, name FROM django_migrations")}
        except sqlite3.OperationalError:
            # Nothing was ever made in it.
            done = set()
    if newer := _newer(done):
        raise UnreadableFile(newer)


def _newer(done: set[tuple[str, str]]) -> str:
    """The last of these migrations that this program does not know; "" where it knows all."""
    known = set(MigrationLoader(None, ignore_no_migrations=True).disk_migrations)
    mine = {app for app, _ in known}
    return max((name for app, name in done if app in mine and (app, name) not in known), default="")


def _exchange(data: Path, fresh: Path) -> Path | None:
    """Put what was unpacked in the place of what is there, in two moves; the secret key stays."""
    aside = data.with_name(f"{data.name}-{datetime.now():%Y%m%d-%H%M%S-%f}")
    if data.exists():
        if (key := data / "secret.key").exists():
            shutil.copy2(key, fresh / key.name)
        data.rename(aside)
    fresh.rename(data)
    if aside.exists() and not any(path.suffix == ".sqlite3" for path in aside.iterdir()):
        shutil.rmtree(aside)
    return aside if aside.exists() else None


# --- of the day ---------------------------------------------------------------------------------


def copies_folder() -> Path:
    """Where the copies of the day are."""
    path = settings.DATA / "copies"
    path.mkdir(exist_ok=True)
    return path


def copies() -> list[Copied]:
    """The copies that are there, the newest first."""
    found = []
    for path in copies_folder().iterdir():
        try:
            day = date.fromisoformat(path.name)
        except ValueError:
            continue
        found.append(Copied(day, path, sum(_own_bytes(file) for file in path.rglob("*") if file.is_file())))
    return sorted(found, key=lambda one: one.day, reverse=True)


def _own_bytes(file: Path) -> int:
    state = file.stat()
    return 0 if state.st_nlink > 1 else state.st_size


def copies_kept() -> int:
    """How many copies are kept: as the owner chose on the page, otherwise as the environment says."""
    try:
        return max(0, min(MOST_COPIES, int(_kept_file().read_text())))
    except (OSError, ValueError):
        return settings.COPIES_KEPT


def keep_copies(count: int) -> None:
    """Keep so many from now on; those beyond them go at the next start."""
    data = str(max(0, min(MOST_COPIES, count))).encode()
    audio.write_whole("restoring", ".txt", lambda stream: stream.write(data)).replace(_kept_file())


def _kept_file() -> Path:
    return copies_folder() / "kept.txt"


def copy_of_the_day(keep: int, today: date | None = None) -> Path | None:
    """Make today's copy unless it is there, and keep the newest few; None where it was there, or none are kept."""
    today = today or date.today()
    target = copies_folder() / today.isoformat()
    made = None
    if keep > 0 and not target.exists():
        part = Path(tempfile.mkdtemp(dir=copies_folder(), suffix=audio.PART))
        try:
            copy_database(part / DATABASE)
            for name, path in _files():
                _link(path, part / name)
            made = part.rename(target)
        finally:
            shutil.rmtree(part, ignore_errors=True)
    for old in copies()[max(0, keep) :]:
        shutil.rmtree(old.path, ignore_errors=True)
    return made


def _link(source: Path, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        os.link(source, target)
    except FileNotFoundError:
        return
    except OSError:
        # A file system without hard links.
        shutil.copy2(source, target)
