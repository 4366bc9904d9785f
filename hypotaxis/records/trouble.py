"""What an error of the disk or the database means for a person, in a sentence: what, where, and what to do."""

import errno
import sqlite3

from django.conf import settings
from django.db import Error as DatabaseError

FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
FORBIDDEN = (errno.EROFS, errno.EACCES, errno.EPERM)
BROKEN = (errno.EIO,)


def told_of(error: BaseException) -> str:
    """In words; "" for an error that is ours."""
    if isinstance(error, DatabaseError | sqlite3.Error):
        said = str(error)
        return next((told() for sign, told in _SIGNS if sign in said), "")
    if isinstance(error, OSError):
        kinds = ((FULL, full), (FORBIDDEN, _forbidden), (BROKEN, _damaged))
        return next((told() for numbers, told in kinds if error.errno in numbers), "")
    return ""


def full() -> str:
    """The disk is."""
    return (
        "The disk is full: there is no room in the data folder. Make room and try again; what was kept before is "
        "still there."
    )


def _forbidden() -> str:
    return (
        f"Nothing can be written into the data folder {settings.DATA}: it is read-only, or another's. Give yourself "
        "the right to write there and try again; what was kept before is still there."
    )


def _locked() -> str:
    name = settings.DATABASES["default"]["NAME"]
    return (
        f"Another program holds the database {name} and does not let go. Close it, a viewer of databases perhaps, and "
        "try again. Nothing was changed."
    )


def _damaged() -> str:
    return (
        f"The data folder {settings.DATA} cannot be read as it should: the disk or the database is damaged. End "
        "Hypotaxis and start it again; it looks at the database then, and offers the newest copy."
    )


_SIGNS = (
    ("locked", _locked),
    ("full", full),
    ("readonly", _forbidden),
    ("unable to open", _forbidden),
    ("malformed", _damaged),
    ("not a database", _damaged),
    ("disk I/O", _damaged),
)
"""Words in what SQLite says (its documentation of result codes), and what they mean."""
