"""Who may talk to the studio: one process, the worker, one run at a time."""

import threading
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace

import numpy as np
from django.conf import settings
from django.db import transaction
from django.utils import timezone
from django.utils.module_loading import import_string

from hypotaxis.core.errors import DoesNotFit, StudioTrouble
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.plan import Plan
from hypotaxis.core.playing.stand_keys import Presses, StandKey, without
from hypotaxis.core.rig.values import Rig as RigValue
from hypotaxis.core.studio import STAND_IN, Block, Message, OwnEnd, Port, RunSetup, Source, Wanted, Written
from hypotaxis.core.studio import Studio as StudioDoor
from hypotaxis.records.jobs import begin, hand_over, running, work
from hypotaxis.records.models import Job, OwnPort, Stand, Studio
from hypotaxis.records.plan import studio_row
from hypotaxis.records.stamps import kept_with

CALL_GAP_NS = 4_000_000
"""Between messages that call up a sound: bank and program take 2.56 ms on a DIN wire."""
_one_run = threading.Lock()
_waiting = 0
"""How many wait for it."""
_owner = False


def own_studio() -> None:
    """Declare this process the owner; the worker calls it once at its start."""
    global _owner
    _owner = True


def wanted_now(row: Studio | None = None) -> Wanted:
    """Which studio is to be opened, and how. row: the studio's, where it has been read."""
    row = row or studio_row()
    fields = ("kind", "server", "input_device", "output_device", "rate", "buffer")
    own = tuple(OwnEnd(*end) for end in OwnPort.objects.order_by("pk").values_list("name", "kind", "direction"))
    return Wanted(**{name: getattr(row, name) for name in fields}, own=own)


@contextmanager
def studio_for(plan: Plan, *, anew: bool = False, keys: bool = True) -> Iterator[StudioDoor]:
    """The studio in use, set up for this plan and held until the end of the block; what its runs say of themselves is
    kept. anew: as if it were opened for the first time, so that what was plugged in meanwhile is seen; keys: those of
    the stand view press its buttons, and are not delivered.

    Raises StudioTrouble in a process that does not own it.
    """
    if not _owner and not settings.HUEY["immediate"]:
        raise StudioTrouble("Only the worker talks to the studio.")
    global _waiting
    row = studio_row()
    _waiting += 1
    try:
        _one_run.acquire()
    finally:
        _waiting -= 1
    try:
        studio = import_string(settings.STUDIO_OPENER)(plan, wanted_now(row), anew=anew)
        try:
            yield _Pressed(studio, stand_keys() if keys else ())
        finally:
            if row.pk and studio.told.seconds:
                Studio.objects.filter(pk=row.pk).update(last_run=to_json(studio.told))
            studio.close()
    finally:
        _one_run.release()


class _Pressed:
    """A studio in whose runs the stand view's keys press its buttons; nothing of them is delivered."""

    def __init__(self, studio: StudioDoor, keys: Sequence[StandKey]) -> None:
        self._studio, self._presses = studio, Presses(keys)

    def __getattr__(self, name: str):
        return getattr(self._studio, name)

    def run(self, source: Source, setup: RunSetup) -> Iterator[Block]:
        """As any studio's."""
        keys = self._presses.kept_out
        if not keys:
            yield from self._studio.run(source, setup)
            return
        with closing(self._studio.run(source, replace(setup, kept_out=keys))) as blocks:
            for block in blocks:
                for act in self._presses.pressed(block.received):
                    # What is pressed may end this very run: it is not waited for here.
                    threading.Thread(target=import_string(settings.STAND_PRESSED), args=(act,), daemon=True).start()
                yield replace(block, received=without(keys, block.received)) if block.received else block


def stand_keys() -> list[StandKey]:
    """The keys that press the stand view's buttons."""
    rows = Stand.objects.values_list("keys", flat=True).first()
    return [from_json(StandKey, one) for one in rows or ()]


class Silence:
    """A source that sends nothing, until it is over: for work that only listens."""

    ports: frozenset[str] = frozenset()

    def __init__(self) -> None:
        self.over = False

    def messages(self, until_ns: int) -> Sequence[Message]:
        """Nothing."""
        return ()

    def sound(self, output: str, start: int, frames: int) -> np.ndarray:
        """Nothing."""
        return np.zeros(frames)

    def ended(self) -> bool:
        """Whether it is over."""
        return self.over


def is_wanted() -> bool:
    """Whether other work waits for the studio: what only listens gives way to it."""
    return _waiting > 0


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
    return kept_with(plan, ("desk",), _ports_of_stand_in)


def _ports_of_stand_in(plan: Plan) -> tuple[Port, ...] | None:
    try:
        return import_string(settings.STUDIO_OPENER)(plan).ports()
    except StudioTrouble:
        return None


def choose(kind: str, server: str = "", **fields) -> Job | None:
    """Use another studio from now on, and look what it offers; nothing has to be looked for on the stand-in. fields:
    those of `core.studio.Wanted`."""
    row = studio_row()
    for name, value in {"kind": kind, "server": server, **fields}.items():
        setattr(row, name, value)
    row.reported, row.looked, row.trouble, row.last_run = None, None, "", None
    row.save()
    return look_again() if kind != STAND_IN else None


def offer(name: str, kind: str, direction: str) -> Job:
    """Have a port, input or output of our own that other programs can connect to. Raises DoesNotFit."""
    if OwnPort.objects.filter(name=name).exists():
        raise DoesNotFit(f"“{name}” is there already. Give each its own name.")
    OwnPort.objects.create(name=name, kind=kind, direction=direction)
    return look_again()


def withdraw(name: str) -> Job:
    """Offer it no longer."""
    OwnPort.objects.filter(name=name).delete()
    return look_again()


def look_again() -> Job:
    """Ask the worker to look what the studio offers now."""
    job = begin("looking")
    hand_over(job)
    return job


@work("looking", sounds=False)
def look_now(job_uid: str) -> None:
    """The task: open the studio, and keep what it says; or why it does not answer."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        _look(anew=True)


def _look(*, anew: bool) -> None:
    """Open the studio, and keep what it says or why it does not answer; nothing of it where another was chosen
    meanwhile."""
    wanted = wanted_now()
    if wanted.kind == STAND_IN:
        return
    said = {"reported": None, "trouble": "", "looked": timezone.now()}
    try:
        with studio_for(Plan(rig=RigValue(uid="", name="")), anew=anew) as studio:
            said["reported"] = to_json(studio.reported)
    except StudioTrouble as error:
        said["trouble"] = str(error)
    with transaction.atomic():
        row = studio_row()
        if wanted_now(row) == wanted and (said["reported"], said["trouble"]) != (row.reported, row.trouble):
            Studio.objects.filter(pk=row.pk).update(**said)


def look_round() -> None:
    """See whether anything was plugged in or out, where real devices are in use and nothing runs. Called by the worker
    every few seconds; it disturbs no run, and does not wait for one."""
    if studio_row().kind == STAND_IN or _one_run.locked():
        return
    _look(anew=False)
