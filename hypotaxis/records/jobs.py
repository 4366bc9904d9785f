"""Background work as rows: started, reported, cancelled, interrupted.

A task calls `running` around its work and `report` on its way; it ends as done, cancelled or failed, with the reason
of a named error as its message. What was running when the worker died becomes interrupted at the next start.
"""

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.records.models import Job

log = logging.getLogger(__name__)


class Cancelled(Exception):
    """Raised inside a task when the person cancelled it."""


class Reporter:
    """Writes progress at most every 0.15 s and says whether to stop."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.began = self.written = time.monotonic()

    def due(self) -> bool:
        """Whether it is time to report again."""
        return time.monotonic() - self.written >= 0.15

    def tell(self, progress: float) -> None:
        """Report when it is time to, and otherwise do nothing."""
        if self.due():
            self.report(progress)

    def report(self, progress: float) -> None:
        """Store progress (0–1) and the remaining time; raises Cancelled when the person asked for it."""
        self.written = time.monotonic()
        passed = self.written - self.began
        remaining = passed * (1 - progress) / progress if progress > 0.01 else None
        Job.objects.filter(uid=self.job.uid).update(progress=progress, remaining_s=remaining)
        if Job.objects.filter(uid=self.job.uid, cancel=True).exists():
            raise Cancelled


def wait_again(uid: str) -> None:
    """Let a job that has ended wait for its work again, as if it had not begun."""
    Job.objects.filter(uid=uid).update(state=Job.WAITING, progress=0.0, remaining_s=None, message="", cancel=False)


@contextmanager
def running(uid: str) -> Iterator[Reporter | None]:
    """Run a job's work. Yields None when there is nothing to do: it is gone, done or cancelled before it began."""
    claimed = Job.objects.filter(uid=uid, state=Job.WAITING, cancel=False).update(state=Job.RUNNING)
    if not claimed:
        Job.objects.filter(uid=uid, state=Job.WAITING).update(state=Job.CANCELLED)
        yield None
        return
    job = Job.objects.get(uid=uid)
    try:
        yield Reporter(job)
        ended = {"state": Job.DONE, "progress": 1.0, "remaining_s": 0}
    except Cancelled:
        ended = {"state": Job.CANCELLED, "remaining_s": None}
    except HypotaxisError as error:
        ended = {"state": Job.FAILED, "message": str(error), "remaining_s": None}
    except Exception:
        log.exception("job %s of kind %s failed", uid, job.kind)
        reason = "An error of ours stopped it; the details are in hypotaxis.log. Nothing recorded before is lost."
        ended = {"state": Job.FAILED, "message": reason, "remaining_s": None}
    Job.objects.filter(uid=uid).update(**ended)


def ask_to_cancel(uid: str) -> None:
    """Ask a job to stop; one that has not begun never will."""
    Job.objects.filter(uid=uid, state__in=Job.UNFINISHED).update(cancel=True)


def mark_interrupted() -> list[Job]:
    """At the start of the worker: what was running is interrupted. Returns those jobs."""
    left = list(Job.objects.filter(state=Job.RUNNING))
    Job.objects.filter(state=Job.RUNNING).update(
        state=Job.INTERRUPTED, message="The program was stopped while this was running. It can be repeated."
    )
    return left
