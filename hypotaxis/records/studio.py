"""Who may talk to the studio: one process, the worker, one run at a time."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from django.conf import settings
from django.utils.module_loading import import_string

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.core.plan import Plan
from hypotaxis.core.studio import Port, Studio

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
        yield import_string(settings.STUDIO_OPENER)(plan)


def look(plan: Plan) -> tuple[Port, ...] | None:
    """The ports the studio reports now; looking disturbs nobody, so any process may. None when it cannot be asked."""
    try:
        return import_string(settings.STUDIO_OPENER)(plan).ports()
    except StudioTrouble:
        return None
