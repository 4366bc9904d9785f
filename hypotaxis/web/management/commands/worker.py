"""`manage.py worker`: owns the studio and does the background work; a second one is kept out."""

import fcntl
import logging
import os
import signal
import threading
import time
from typing import TextIO

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError
from django.db import close_old_connections
from django.utils.module_loading import autodiscover_modules
from huey.contrib.djhuey import HUEY

from hypotaxis.core.studio import STAND_IN
from hypotaxis.records.jobs import Healer, mark_interrupted
from hypotaxis.records.plan import studio_row
from hypotaxis.records.studio import look_again, look_round, own_studio
from hypotaxis.steps.session.services.importing import forget_interrupted_imports
from hypotaxis.steps.session.services.playing_in import lay_in_rescued
from hypotaxis.steps.session.services.recording import rescue_partial_takes
from hypotaxis.web.stand.keys import listen_while_idle

log = logging.getLogger(__name__)
HEAL_EVERY_S = 3.0
LOOK_EVERY_S, LOOK_FOR_THE_LOST_EVERY_S = 4.0, 20.0
"""How often what is plugged in is looked at; and a studio that does not answer."""


def take_lock() -> TextIO | None:
    """The data folder's one lock, held until the returned file is closed or the process ends; None when it is taken.

    The file names the process that took it last.
    """
    lock = open(settings.DATA / "worker.lock", "a+")  # noqa: SIM115 - its owner closes it
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        lock.close()
        return None
    lock.truncate(0)
    lock.write(str(os.getpid()))
    lock.flush()
    return lock


class Command(BaseCommand):
    help = "Runs the background work. `make demo` starts it; a second one is refused."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--parent", type=int, help="end when this process is gone")

    def handle(self, *args, parent: int | None, **options) -> None:
        lock = take_lock()
        if lock is None:
            raise CommandError("A worker is already running on this data folder. One is enough.")
        autodiscover_modules("tasks")
        own_studio()
        mark_interrupted()
        rescue_partial_takes()
        lay_in_rescued()
        forget_interrupted_imports()
        HUEY.flush_locks()
        if studio_row().kind != STAND_IN:
            look_again()
        threading.Thread(target=_heal, daemon=True).start()
        threading.Thread(target=_look_round, daemon=True).start()
        threading.Thread(target=listen_while_idle, daemon=True).start()
        consumer = HUEY.create_consumer(**settings.HUEY["consumer"])
        logging.getLogger("huey").setLevel(logging.WARNING)
        if parent:
            threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
        self.stdout.write("worker ready")
        consumer.run()


def _heal() -> None:
    healer = Healer()
    while True:
        time.sleep(HEAL_EVERY_S)
        try:
            healer.look()
        except Exception:
            # A queue that cannot be read now can be read later.
            log.exception("the look round failed")


def _look_round() -> None:
    while True:
        time.sleep(LOOK_FOR_THE_LOST_EVERY_S if studio_row().trouble else LOOK_EVERY_S)
        try:
            look_round()
        except Exception:
            log.exception("the look at what is plugged in failed")
        close_old_connections()


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(0.5)
    os.kill(os.getpid(), signal.SIGTERM)
