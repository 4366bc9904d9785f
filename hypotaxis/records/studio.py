"""Who may talk to the studio: one process, the worker, one run at a time."""

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from django.conf import settings
from django.utils.module_loading import import_string

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.core.plan import Plan
from hypotaxis.core.studio import Message, Port, RunSetup, Studio, Written

CALL_GAP_NS = 4_000_000
"""Between messages that call up a sound: bank and program take 2.56 ms on a DIN wire."""
_one_run = threading.Lock()
_owner = False


def own_studio() -> None:
    """Declare this process the owner; the worker calls it once at its start."""
    global _owner
    _owner = True


@contextmanager
def studio_for(plan: Plan) -> Iterator[Studio]:
    """The studio, set up for this plan and held until the end of the block.

    Raises StudioTrouble in a process that does not own it.
    """
    if not _owner and not settings.HUEY["immediate"]:
        raise StudioTrouble("Only the worker talks to the studio.")
    with _one_run:
        studio = import_string(settings.STUDIO_OPENER)(plan)
        try:
            yield studio
        finally:
            studio.close()


def send_apart(studio: Studio, calls: Sequence[tuple[str, bytes]], *, fast: bool) -> None:
    """Send messages by ports (system names), each a gap behind the one before; of none nothing is sent."""
    sent = [Message(place * CALL_GAP_NS, port, data) for place, (port, data) in enumerate(calls)]
    if sent:
        frames = round((sent[-1].time_ns / 1e9 + 0.1) * studio.sample_rate)
        for _ in studio.run(Written(sent), RunSetup(frames=frames, fast=fast)):
            pass


def look(plan: Plan) -> tuple[Port, ...] | None:
    """The ports the studio reports now; looking disturbs nobody, so any process may. None when it cannot be asked."""
    try:
        return import_string(settings.STUDIO_OPENER)(plan).ports()
    except StudioTrouble:
        return None
