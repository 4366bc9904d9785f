"""One program at a time on a data folder."""

import os

from django.conf import settings
from filelock import FileLock, Timeout

LOCK, OWNER = "worker.lock", "worker.pid"
"""Names in the data folder: of the lock, and of the file that says which process is the worker."""


def take_lock() -> FileLock | None:
    """The data folder's one lock, held until it is released or the process ends; None when it is taken."""
    lock = FileLock(settings.DATA / LOCK, thread_local=False)
    try:
        lock.acquire(timeout=0)
    except Timeout:
        return None
    return lock


def say_who() -> None:
    """Let the file name this process as the worker."""
    (settings.DATA / OWNER).write_text(str(os.getpid()))
