"""Backing everything up: asked for on a page, made by the worker."""

from pathlib import Path

from django.conf import settings

from hypotaxis.core.errors import CannotHandOver
from hypotaxis.records import audio, jobs
from hypotaxis.records.backup import size_of_all, write_backup
from hypotaxis.records.jobs import ask, running, work
from hypotaxis.records.models import Job

KIND, FOLDER = "backup", "backups"
KEPT = 1
"""Backups that stay in the data folder, until they are taken elsewhere."""


def start(*, token: str = "") -> Job:
    """Let the worker make one. Raises CannotHandOver where there is no room."""
    free, needed = audio.free_bytes(), size_of_all()
    if free < needed:
        raise CannotHandOver(
            f"The disk has room for {free / 1e6:,.0f} MB, and the backup needs {needed / 1e6:,.0f}. Free some, or let "
            f"{settings.COMMAND} backup write it to another disk."
        )
    return ask(KIND, about="", request={}, token=token)


def newest() -> Job | None:
    """The last one that was asked for."""
    return jobs.newest(KIND, "")


def made(job: Job | None) -> Path | None:
    """Where it is, once it is done and while it is there."""
    path = audio.folder(FOLDER) / f"{job.uid}.zip" if job and job.state == Job.DONE else None
    return path if path and path.exists() else None


@work(KIND, resumed=True)
def back_up(job_uid: str) -> None:
    """The task."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        audio.forget_old(FOLDER, "*.zip", KEPT - 1)
        path = audio.folder(FOLDER) / f"{job_uid}.zip"
        audio.write_whole(FOLDER, ".zip", lambda stream: write_backup(stream, reporter.tell)).replace(path)
