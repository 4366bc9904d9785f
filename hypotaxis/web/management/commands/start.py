"""`manage.py start`: everything at once, on this machine only, until Ctrl-C."""

import os
import shutil
import signal
import socket
import time
from datetime import datetime
from pathlib import Path

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError
from django.db import connections
from django.utils.module_loading import autodiscover_modules

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.records.backup import copies_kept, copy_of_the_day, pending, restore
from hypotaxis.records.jobs import mark_not_begun
from hypotaxis.web.alone import take_lock
from hypotaxis.web.readiness import look_over
from hypotaxis.web.worker_watch import WorkerWatch

HOST = "127.0.0.1"
MOST_PORTS = 65535
MOST_CONNECTIONS, IDLE_S, CLEANUP_S = 400, 30, 5
BEHIND_A_PROXY = {"trusted_proxy": HOST, "trusted_proxy_headers": {"x-forwarded-proto", "x-forwarded-for"}}
"""What a proxy in front says of its visitors counts only where the owner has set one up."""
PATIENCE = 20
"""How often, every 0.2 s, a lock that is taken is asked for again."""


class Command(BaseCommand):
    help = "Sets up the data, then runs the worker and the server on 127.0.0.1 until Ctrl-C."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--port", type=int, default=8000, help="1 to 65535")
        parser.add_argument("--demo", action="store_true", help="load the demo into an empty data folder")
        parser.add_argument("--fresh", action="store_true", help="move old data aside and start over")
        parser.add_argument(
            "--from-copy", action="store_true", help="go on with the newest copy of the day where the data is damaged"
        )

    def handle(self, *args, port: int, demo: bool, fresh: bool, from_copy: bool, **options) -> None:
        _check_port(port)
        check_alone()
        if fresh:
            self._move_aside()
        look_over(self.stdout, from_copy=from_copy)
        self._bring_back()
        call_command("migrate", verbosity=0, interactive=False)
        self._copy_of_the_day()
        collect_static()
        autodiscover_modules("tasks")
        if demo:
            call_command("loaddemo", stdout=self.stdout)
        mark_not_begun()
        worker = WorkerWatch()
        # A plain kill ends everything too, as Ctrl-C does.
        signal.signal(signal.SIGTERM, lambda *_: (_ for _ in ()).throw(KeyboardInterrupt))
        try:
            worker.start()
            self.stdout.write(f"\n  Hypotaxis is at  http://{HOST}:{port}/\n  Ctrl-C ends it.\n")
            self.stdout.flush()
            _serve(port)
        except KeyboardInterrupt:
            self.stdout.write("\nEnding.")
        finally:
            worker.stop()

    def _bring_back(self) -> None:
        """A backup that was sent to the page is brought back now, while nothing runs on the data."""
        waits = pending()
        if not waits.exists():
            return
        connections.close_all()
        try:
            aside = restore(waits, settings.DATA)
        except (HypotaxisError, OSError) as error:
            waits.replace(waits.with_suffix(".refused"))
            self.stdout.write(f"The backup was not brought back: {error} Everything is as it was.")
            return
        settings.FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)
        self.stdout.write("The backup is brought back.")
        if aside:
            (aside / waits.name).unlink(missing_ok=True)
            self.stdout.write(f"What was there before is kept in {Path(os.path.relpath(aside))}.")

    def _copy_of_the_day(self) -> None:
        try:
            copy_of_the_day(copies_kept())
        except (HypotaxisError, OSError) as error:
            # Nothing that is worth not starting for.
            self.stdout.write(f"There is no copy of the day: {error}")

    def _move_aside(self) -> None:
        data = settings.DATA
        if not any(path.name.endswith(".sqlite3") for path in data.iterdir()):
            return
        connections.close_all()
        aside = data.with_name(f"{data.name}-{datetime.now():%Y%m%d-%H%M%S}")
        aside.mkdir()
        for path in data.iterdir():
            path.rename(aside / path.name)
        settings.FILE_UPLOAD_TEMP_DIR.mkdir()
        (data / "secret.key").write_text((aside / "secret.key").read_text())
        (data / "secret.key").chmod(0o600)
        self.stdout.write(f"The old data is kept in {Path(os.path.relpath(aside))}.")


def collect_static() -> None:
    """Put styles and scripts where they are served from. What power, or a kill, left of an earlier time is made anew: a
    file may then be there and empty."""
    whole = settings.DATA / "static.whole"
    if not whole.exists():
        shutil.rmtree(settings.STATIC_ROOT, ignore_errors=True)
    whole.unlink(missing_ok=True)
    call_command("collectstatic", verbosity=0, interactive=False, clear=False)
    if hasattr(os, "sync"):
        os.sync()
    whole.touch()


def _check_port(port: int) -> None:
    if not 1 <= port <= MOST_PORTS:
        raise CommandError(f"There is no port {port}: ports are numbered from 1 to 65535. 8000 is usual.")
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((HOST, port))
        except OSError as error:
            another = port + 1 if port < MOST_PORTS else port - 1
            made = settings.COMMAND == "manage.py"
            again = f"PORT={another} make demo" if made else f"hypotaxis demo --port {another}"
            raise CommandError(f"Port {port} cannot be used ({error.strerror}). Choose another: {again}") from error


def check_alone() -> None:
    """A start whose parent was killed takes a moment to let go, so a taken lock is asked for again."""
    for _ in range(PATIENCE):
        if lock := take_lock():
            lock.release()
            return
        time.sleep(0.2)
    raise CommandError(
        "Hypotaxis is already running on this data folder. Use the window in which it runs, or end it there with "
        "Ctrl-C. HYPOTAXIS_DATA names another folder."
    )


def _serve(port: int) -> None:
    from waitress import serve

    from hypotaxis.web.wsgi import application

    serve(
        application,
        host=HOST,
        port=port,
        threads=8,
        ident="Hypotaxis",
        max_request_body_size=settings.MAX_REQUEST_BYTES,
        # Who sends half a request and waits is let go, and cannot take all the room there is.
        connection_limit=MOST_CONNECTIONS,
        channel_timeout=IDLE_S,
        cleanup_interval=CLEANUP_S,
        _quiet=True,
        **(BEHIND_A_PROXY if settings.PROXY else {}),
    )
