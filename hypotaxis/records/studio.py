"""Who may talk to the studio: one process, the worker, one run at a time."""

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from django.conf import settings
from django.utils import timezone
from django.utils.module_loading import import_string

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.values import Rig as RigValue
from hypotaxis.core.studio import Message, Port, RunSetup, Written
from hypotaxis.core.studio import Studio as StudioDoor
from hypotaxis.records.jobs import begin, hand_over, running, work
from hypotaxis.records.models import Job, Studio
from hypotaxis.records.models.studio import STAND_IN
from hypotaxis.records.plan import studio_row

CALL_GAP_NS = 4_000_000
"""Between messages that call up a sound: bank and program take 2.56 ms on a DIN wire."""
_one_run = threading.Lock()
_owner = False


def own_studio() -> None:
    """Declare this process the owner; the worker calls it once at its start."""
    global _owner
    _owner = True


@contextmanager
def studio_for(plan: Plan) -> Iterator[StudioDoor]:
    """The studio in use, set up for this plan and held until the end of the block; what its runs say of themselves is
    kept.

    Raises StudioTrouble in a process that does not own it.
    """
    if not _owner and not settings.HUEY["immediate"]:
        raise StudioTrouble("Only the worker talks to the studio.")
    row = studio_row()
    with _one_run:
        studio = import_string(settings.STUDIO_OPENER)(plan, row.kind, row.server)
        try:
            yield studio
        finally:
            if row.pk and studio.told.seconds:
                Studio.objects.filter(pk=row.pk).update(last_run=to_json(studio.told))
            studio.close()


def send_apart(studio: StudioDoor, calls: Sequence[tuple[str, bytes]], *, fast: bool) -> None:
    """Send messages by ports (system names), each a gap behind the one before; of none nothing is sent."""
    sent = [Message(place * CALL_GAP_NS, port, data) for place, (port, data) in enumerate(calls)]
    if sent:
        frames = round((sent[-1].time_ns / 1e9 + 0.1) * studio.sample_rate)
        for _ in studio.run(Written(sent), RunSetup(frames=frames, fast=fast)):
            pass


def look(plan: Plan) -> tuple[Port, ...] | None:
    """The ports the studio reports now. The stand-in may be asked by any process; of real devices it is what they said
    when the worker looked last. None when nothing is known."""
    if plan.studio_kind != STAND_IN:
        return plan.studio.ports if plan.studio else None
    try:
        return import_string(settings.STUDIO_OPENER)(plan).ports()
    except StudioTrouble:
        return None


def choose(kind: str, server: str = "") -> Job | None:
    """Use another studio from now on, and look what it offers; nothing has to be looked for on the stand-in."""
    row = studio_row()
    row.kind, row.server = kind, server
    row.reported, row.looked, row.trouble, row.last_run = None, None, "", None
    row.save()
    return look_again() if kind != STAND_IN else None


def look_again() -> Job:
    """Ask the worker to look what the studio offers now."""
    job = begin("looking")
    hand_over(job)
    return job


@work("looking")
def look_now(job_uid: str) -> None:
    """The task: open the studio, and keep what it says; or why it does not answer."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        said = {"reported": None, "trouble": "", "looked": timezone.now()}
        try:
            with studio_for(Plan(rig=RigValue(uid="", name=""))) as studio:
                said["reported"] = to_json(studio.reported)
        except StudioTrouble as error:
            said["trouble"] = str(error)
        Studio.objects.filter(pk=studio_row().pk).update(**said)
