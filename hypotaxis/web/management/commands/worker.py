"""`manage.py worker`: owns the studio and does the background work; a second one is kept out."""

import fcntl
import logging
import os
import signal
import threading
import time

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError
from django.utils.module_loading import autodiscover_modules
from huey.contrib.djhuey import HUEY

from hypotaxis.records.jobs import mark_interrupted
from hypotaxis.records.studio import own_studio
from hypotaxis.steps.session.services.recording import rescue_partial_takes


class Command(BaseCommand):
    help = "Runs the background work. `make demo` starts it; a second one is refused."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--parent", type=int, help="end when this process is gone")

    def handle(self, *args, parent: int | None, **options) -> None:
        lock = open(settings.DATA / "worker.lock", "w")  # noqa: SIM115 - held as long as the process lives
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise CommandError("A worker is already running on this data folder. One is enough.") from error
        autodiscover_modules("tasks")
        own_studio()
        mark_interrupted()
        rescue_partial_takes()
        HUEY.flush_locks()
        consumer = HUEY.create_consumer(**settings.HUEY["consumer"])
        logging.getLogger("huey").setLevel(logging.WARNING)
        if parent:
            threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
        self.stdout.write("worker ready")
        consumer.run()


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(0.5)
    os.kill(os.getpid(), signal.SIGTERM)
