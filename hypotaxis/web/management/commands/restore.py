"""`manage.py restore`: bring a backup back into the data folder; what was there is moved aside."""

import os
from pathlib import Path

from django.conf import settings
from django.core.management.base import BaseCommand
from django.db import connections

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.records.backup import restore
from hypotaxis.records.shell import file_named, refuse
from hypotaxis.web.management.commands.start import check_alone


class Command(BaseCommand):
    help = "Brings a backup (.zip) back. Hypotaxis must be ended first. Exit 2: it is refused, and nothing was changed."
    requires_system_checks: list = []

    def add_arguments(self, parser) -> None:
        parser.add_argument("file", help="the backup that Hypotaxis made")

    def handle(self, *args, file: str, **options) -> None:
        check_alone()
        connections.close_all()
        try:
            aside = restore(file_named(file), settings.DATA)
        except HypotaxisError as error:
            refuse(self, error, as_json=False)
        self.stdout.write("Everything is back. Start Hypotaxis as always.")
        if aside:
            self.stdout.write(f"What was there before is kept in {Path(os.path.relpath(aside))}.")
