"""Background work as rows: asked for, begun, reported, cancelled, interrupted; it always ends.

The row is the truth and the queue only wakes the worker: a job is claimed by its row, so a task that comes twice does
nothing, and one that never came is queued again by the worker's look round (`Healer`). A task calls `running` around
its work and `report` on its way; it ends as done, cancelled or failed, with the reason of a named error as its message.
What was running when the worker died becomes interrupted, or is taken up once more where that disturbs nobody.
"""

import logging
import time
import uuid
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager

from django.db import transaction
from django.db.models import F
from django.utils import timezone
from huey.contrib.djhuey import HUEY, db_task

from hypotaxis.core.errors import HypotaxisError, NotBegun
from hypotaxis.records.models import Job
from hypotaxis.records.trouble import told_of

log = logging.getLogger(__name__)

LONG_TOKEN = 64
MOST_ATTEMPTS = 2
"""How often work that is taken up by itself may be begun: what ended the worker twice would end it again."""
OVER = "The program was stopped while this was running. It can be repeated."
NEVER_BEGAN = "The program was ended before this began. It can be repeated."
_functions: dict[str, Callable[[str], None]] = {}
_resumed: set[str] = set()
_sounding: set[str] = set()
_at_work: set[str] = set()


class Cancelled(Exception):
    """Raised inside a task when the person cancelled it."""


def work(kind: str, *, resumed: bool = False, sounds: bool = True) -> Callable:
    """Decorate the worker's function for jobs of a kind; it is called with a job's uid. resumed: it goes on by itself
    when it was interrupted, since it neither sounds nor needs anyone; sounds: a panic ends it, as all that is not
    resumed and does more than listen."""

    def register(function: Callable[[str], None]) -> Callable[[str], None]:
        _functions[kind] = db_task(name=f"work_{kind}")(function)
        if resumed:
            _resumed.add(kind)
        if sounds and not resumed:
            _sounding.add(kind)
        return _functions[kind]

    return register


def begin(kind: str, *, about: str = "", request: dict | None = None, token: str = "") -> Job:
    """The row of new work. token: of the form that asks for it, so that what is sent twice is done once; ask
    `asked_before` inside the same transaction. Call `hand_over` once everything is stored."""
    return Job.objects.create(kind=kind, about=about, request=request or {}, token=token[:LONG_TOKEN] or None)


def asked_before(token: str) -> Job | None:
    """The job that the same form has already asked for."""
    return Job.objects.filter(token=token[:LONG_TOKEN]).first() if token else None


def ask(kind: str, *, about: str, request: dict, token: str = "") -> Job:
    """Begin work and hand it over; a form that is sent twice has one job. Not inside a transaction, which the worker
    would not see the end of."""
    with transaction.atomic():
        if before := asked_before(token):
            return before
        job = begin(kind, about=about, request=request, token=token)
    hand_over(job)
    return job


def newest(kind: str, about: str) -> Job | None:
    """The last one of a kind that was asked for."""
    return Job.objects.filter(kind=kind, about=about).last()


def newest_of(kind: str, abouts: Collection[str]) -> dict[str, Job]:
    """The same of each that it was asked for, in two queries."""
    last = dict(Job.objects.filter(kind=kind, about__in=abouts).order_by("made").values_list("about", "uid"))
    rows = Job.objects.in_bulk(last.values())
    return {about: rows[uid] for about, uid in last.items() if uid in rows}


def under_way(kind: str, about: str) -> Job | None:
    """The newest one of a kind, while it waits or runs; None where it has ended, or there is none."""
    job = newest(kind, about)
    return job if job and not job.finished else None


def hand_over(job: Job) -> None:
    """Queue a job's work, after the transaction that stored it. Where that fails the job is failed, and NotBegun says
    so; nothing waits for a worker that will never hear of it."""
    try:
        _functions[job.kind](str(job.uid))
    except Exception as error:
        log.exception("job %s of kind %s could not be queued", job.uid, job.kind)
        told = "It could not be handed to the worker: the data folder cannot be written to, or is full. Try again."
        Job.objects.filter(uid=job.uid, state=Job.WAITING).update(state=Job.FAILED, message=told)
        raise NotBegun(told) from error


def wait_again(job: Job, kind: str, request: dict | None = None) -> None:
    """Let a job that has ended wait for further work, as if it had not begun, and queue it."""
    fresh = {"kind": kind, "request": request or {}, "state": Job.WAITING, "progress": 0.0, "remaining_s": None}
    if (
        Job.objects.filter(uid=job.uid)
        .exclude(state__in=Job.UNFINISHED)
        .update(**fresh, message="", cancel=False, attempts=0)
    ):
        job.refresh_from_db()
        hand_over(job)


class Reporter:
    """Writes progress at most every 0.15 s and says whether to stop. whole_s: how long all of it takes at most, where
    that is known; the time that is left is never more."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.whole_s: float | None = None
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
        if remaining is not None and self.whole_s is not None:
            remaining = min(remaining, self.whole_s * (1 - progress))
        told = {"progress": progress, "remaining_s": remaining, "reported": timezone.now()}
        row = Job.objects.filter(uid=self.job.uid)
        if not row.filter(cancel=False).update(**told) and row.filter(cancel=True).exists():
            raise Cancelled


@contextmanager
def running(uid: str) -> Iterator[Reporter | None]:
    """Run a job's work. Yields None when there is nothing to do: it is gone, done, cancelled or begun already."""
    claimed = Job.objects.filter(uid=uid, state=Job.WAITING).update(state=Job.RUNNING, attempts=F("attempts") + 1)
    if not claimed:
        yield None
        return
    _at_work.add(uid)
    try:
        yield from _run(uid)
    finally:
        _at_work.discard(uid)


def _run(uid: str) -> Iterator[Reporter]:
    job = Job.objects.get(uid=uid)
    try:
        yield Reporter(job)
        ended = {"state": Job.DONE, "progress": 1.0, "remaining_s": 0}
    except Cancelled:
        ended = {"state": Job.CANCELLED, "remaining_s": None}
    except HypotaxisError as error:
        ended = {"state": Job.FAILED, "message": str(error), "remaining_s": None}
    except Exception as error:
        log.exception("job %s of kind %s failed", uid, job.kind)
        ours = "An internal error stopped it; the details are in hypotaxis.log. Nothing recorded before is lost."
        reason = told_of(error) or ours
        ended = {"state": Job.FAILED, "message": reason, "remaining_s": None}
    Job.objects.filter(uid=uid).update(**ended)


def ask_to_cancel(uid: str) -> bool:
    """Ask a job to stop. True: it had not begun and never will."""
    if Job.objects.filter(uid=uid, state=Job.WAITING).update(state=Job.CANCELLED, cancel=True):
        return True
    Job.objects.filter(uid=uid, state=Job.RUNNING).update(cancel=True)
    return False


def sounding() -> frozenset[str]:
    """Kinds of work that may sound."""
    return frozenset(_sounding)


def end_what_sounds() -> None:
    """Ask all work that may sound to stop."""
    for uid in Job.objects.filter(kind__in=_sounding, state__in=Job.UNFINISHED).values_list("uid", flat=True):
        ask_to_cancel(str(uid))


def mark_not_begun() -> None:
    """At the start of the program: what waits and would sound is interrupted, since nobody expects it any more."""
    waiting = Job.objects.filter(state=Job.WAITING).exclude(kind__in=_resumed)
    waiting.update(state=Job.INTERRUPTED, message=NEVER_BEGAN)


def mark_interrupted() -> None:
    """At the start of the worker: what was running is interrupted, or waits once more."""
    _end_dead(Job.objects.filter(state=Job.RUNNING))


def _end_dead(dead) -> None:
    with transaction.atomic():
        again = dead.filter(kind__in=_resumed, attempts__lt=MOST_ATTEMPTS, cancel=False)
        again.update(state=Job.WAITING, progress=0.0, remaining_s=None)
        dead.filter(cancel=True).update(state=Job.CANCELLED, remaining_s=None)
        dead.update(state=Job.INTERRUPTED, message=OVER, remaining_s=None)


class Healer:
    """The worker's look round, every few seconds: what waits without being queued is queued, what is said to run and
    does not is ended. Only what is found so twice, since a moment lies between each row and its task."""

    def __init__(self) -> None:
        self._lost: set[uuid.UUID] = set()
        self._dead: set[uuid.UUID] = set()

    def look(self) -> None:
        """Once round."""
        queued = {str(task.args[0]) for task in HUEY.pending() if task.args}
        waiting = {job.uid: job for job in Job.objects.filter(state=Job.WAITING)}
        lost = {uid for uid in waiting if str(uid) not in queued and str(uid) not in _at_work}
        for uid in lost & self._lost:
            log.warning("job %s of kind %s waited without being queued", uid, waiting[uid].kind)
            if waiting[uid].kind in _functions:
                hand_over(waiting[uid])
        self._lost = lost - self._lost
        dead = {uid for uid in Job.objects.filter(state=Job.RUNNING).values_list("uid", flat=True)}
        dead = {uid for uid in dead if str(uid) not in _at_work}
        _end_dead(Job.objects.filter(uid__in=dead & self._dead, state=Job.RUNNING))
        self._dead = dead
