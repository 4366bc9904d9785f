"""`manage.py sessionfile`: what is in an archive, is it whole, and, asked for, into the data folder with it."""

from pathlib import Path

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.core.units import counted
from hypotaxis.records.shell import refuse
from hypotaxis.steps.handover import opening
from hypotaxis.steps.handover.opening import Wish


class Command(BaseCommand):
    help = "Looks into an archive, and opens it with its own rig. Exit 2: it cannot be opened; nothing is taken in."

    def add_arguments(self, parser) -> None:
        parser.add_argument("file", help="archive (.zip, see docs/formats/session.md)")
        parser.add_argument("--open", action="store_true", help="take the session in, with its rig; of any size")

    def handle(self, *args, file: str, **options) -> None:
        path = Path(file)
        try:
            if options["open"]:
                opened = opening.open_archive(path, Wish("", "", own_rig=True))
                self.stdout.write(opened.told)
                return
            with opening.archive_in(path) as archive:
                archive.check_sounds()
                session, sound = archive.session, archive.sound_bytes
        except HypotaxisError as error:
            refuse(self, error, as_json=False)
        told = f"{counted(len(session.tracks), 'track')}, {counted(len(session.takes), 'take')}"
        self.stdout.write(f"{session.name}: {told}, {sound / 1e6:,.1f} MB of sound; it is whole.")
