"""Can the program begin with the data that are there? Looked at by the start command before anything is changed.

What can be made again is put aside and made again; what cannot is never touched without being asked for.
"""

import shutil
import sqlite3
import time
from contextlib import closing, suppress
from datetime import datetime
from pathlib import Path
from typing import Protocol

from django.conf import settings
from django.core.management.base import CommandError
from django.db import connections

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.records import audio, backup
from hypotaxis.records.trouble import told_of
from hypotaxis.web.folder import Unusable, check_writable

COMPANIONS = ("", "-wal", "-shm", "-journal")
"""What a database of SQLite is made of, by the ends of the names."""
WAITS_S, ASKED_EVERY_S = 60.0, 0.5
_LEFT_OVER = f"*{audio.PART}"


class Terminal(Protocol):
    """Where is told what happens."""

    def write(self, text: str) -> object: ...


def look_over(terminal: Terminal, *, from_copy: bool) -> None:
    """Look at folder, queue and database, and tidy what a kill left. from_copy: in the place of a damaged database the
    newest copy of the day is put. Raises CommandError, with what to do."""
    try:
        check_writable(settings.DATA)
    except Unusable as error:
        raise CommandError(str(error)) from error
    _tidy(settings.FILE_UPLOAD_TEMP_DIR, "*")
    for name in ("", "copies", "rigs", *(f"audio/{one.name}" for one in _folders(settings.AUDIO))):
        _tidy(settings.DATA / name, _LEFT_OVER)
    _check_queue(terminal)
    _check_database(terminal, from_copy=from_copy)


def _folders(path: Path) -> list[Path]:
    return [one for one in path.iterdir() if one.is_dir()] if path.is_dir() else []


def _tidy(folder: Path, pattern: str) -> None:
    """Remove what was not finished. What cannot be removed disturbs nobody."""
    for path in folder.glob(pattern) if folder.is_dir() else ():
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)
        else:
            with suppress(OSError):
                path.unlink()


def _check_queue(terminal: Terminal) -> None:
    """What is to be done stands in the database; a queue that cannot be read is begun anew."""
    path = Path(settings.HUEY["filename"])
    if path.exists() and _what_is_wrong(path):
        aside = _set_aside(path)
        terminal.write(f"The list of waiting work was damaged and is begun anew; nothing is lost ({aside}).\n")


def _check_database(terminal: Terminal, *, from_copy: bool) -> None:
    path = Path(settings.DATABASES["default"]["NAME"])
    if not path.exists():
        return
    _wait_for(path, terminal)
    if wrong := _what_is_wrong(path):
        sound = (one for one in backup.copies() if not _what_is_wrong(one.path / backup.DATABASE))
        copy = next(sound, None)
        if not from_copy or copy is None:
            raise CommandError(_offer(path, wrong, copy))
        aside = _set_aside(path)
        shutil.copy2(copy.path / backup.DATABASE, path)
        terminal.write(f"The copy of {copy.day:%d %B %Y} is used now; the damaged database lies in {aside}.\n")
    try:
        backup.check_version(path)
    except UnreadableFile as error:
        raise CommandError(
            f"The data folder {settings.DATA} was used by a later version of Hypotaxis ({error}). Start it with that "
            "one, or name another folder in HYPOTAXIS_DATA. Nothing was changed."
        ) from error


def _offer(path: Path, wrong: str, copy: backup.Copied | None) -> str:
    told = f"The database {path} is damaged ({wrong}). Nothing was changed. "
    if copy:
        told += f"There is a copy of {copy.day:%d %B %Y}: --from-copy goes on with it. "
    return f"{told}--fresh begins anew. Both keep the damaged one, and the takes' sound stays where it is."


def _what_is_wrong(path: Path) -> str:
    """With a database, in few words; "" where it is sound."""
    try:
        if path.stat().st_size == 0 and any(settings.AUDIO.glob("takes/*.wav")):
            return "it is empty, and there are takes"
        with closing(sqlite3.connect(path, timeout=5)) as database:
            (state,) = database.execute("PRAGMA quick_check(1)").fetchone()
            return "" if state == "ok" else state.splitlines()[0][:120]
    except (sqlite3.Error, OSError) as error:
        return str(error)


def _wait_for(path: Path, terminal: Terminal) -> None:
    """Wait until nobody else is writing. Raises CommandError where somebody does not end."""
    until, told = time.monotonic() + WAITS_S, False
    while True:
        try:
            with closing(sqlite3.connect(path, timeout=ASKED_EVERY_S, isolation_level=None)) as database:
                database.execute("BEGIN IMMEDIATE")
                database.execute("ROLLBACK")
            return
        except sqlite3.OperationalError as error:
            if "readonly" in str(error):
                raise CommandError(told_of(error)) from error
            if "locked" not in str(error):
                # Damaged: told by what follows.
                return
        except sqlite3.DatabaseError:
            return
        if time.monotonic() > until:
            raise CommandError(
                f"Another program holds the database {path}. Close it, a viewer of databases perhaps, and start again."
            )
        if not told:
            terminal.write(f"Another program holds the database {path}; waiting for it …\n")
            told = True


def _set_aside(path: Path) -> Path:
    """Move a database with all that belongs to it into a folder of its own; that folder."""
    connections.close_all()
    aside = path.with_name(f"damaged-{datetime.now():%Y%m%d-%H%M%S-%f}")
    aside.mkdir()
    for ending in COMPANIONS:
        part = path.with_name(path.name + ending)
        if part.exists():
            part.rename(aside / part.name)
    return aside
