"""Has anything in the database changed since? Asked of SQLite itself, which costs next to nothing.

`PRAGMA data_version` (SQLite's documentation) says on one connection whether any other has committed meanwhile; so one
connection of our own is kept for it, that never writes.
"""

import sqlite3
import threading

from django.db import connection

_lock = threading.Lock()
_watching: tuple[str, sqlite3.Connection] | None = None


def data_version() -> tuple[str, int] | None:
    """What stays the same as long as nothing is committed, by whatever process; None inside a transaction, whose own
    changes it does not see."""
    global _watching
    if connection.in_atomic_block:
        return None
    name = str(connection.settings_dict["NAME"])
    with _lock:
        if _watching is None or _watching[0] != name:
            if _watching:
                _watching[1].close()
            _watching = name, sqlite3.connect(name, check_same_thread=False, isolation_level=None)
        (version,) = _watching[1].execute("PRAGMA data_version").fetchone()
    return name, version
