"""`manage.py worker`: owns the studio and does the background work; a second one is kept out."""

import logging
import os
import signal
import sys
import threading
import time
from contextlib import suppress

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
from hypotaxis.web.alone import say_who, take_lock
from hypotaxis.web.stand.keys import listen_while_idle

log = logging.getLogger(__name__)
HEAL_EVERY_S = 3.0
LOOK_EVERY_S, LOOK_FOR_THE_LOST_EVERY_S = 4.0, 20.0
"""How often what is plugged in is looked at; and a studio that does not answer."""


class Command(BaseCommand):
    help = "Runs the background work. `make demo` starts it; a second one is refused."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--led", action="store_true", help="end when the standard input does")

    def handle(self, *args, led: bool, **options) -> None:
        lock = take_lock()
        if lock is None:
            raise CommandError("A worker is already running on this data folder. One is enough.")
        say_who()
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
        if led:
            threading.Thread(target=_end_with_input, daemon=True).start()
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


def _end_with_input() -> None:
    """Whoever began this holds the other end, and lets go of it however it dies."""
    with suppress(OSError):
        # Past any buffer, whose lock nobody could take at the end.
        while os.read(sys.stdin.fileno(), 1024):
            pass
    os.kill(os.getpid(), signal.SIGTERM)
