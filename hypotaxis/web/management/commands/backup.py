"""`manage.py backup`: everything into one file, also while Hypotaxis runs."""

from pathlib import Path

from django.conf import settings
from django.core.management.base import BaseCommand

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.core.units import counted
from hypotaxis.records.backup import write_backup
from hypotaxis.records.shell import refuse


class Command(BaseCommand):
    help = "Writes a backup of everything (.zip) to a file that is not there yet."

    def add_arguments(self, parser) -> None:
        parser.add_argument("file", help="where to; on another disk is best")

    def handle(self, *args, file: str, **options) -> None:
        path = Path(file)
        part = path.with_name(path.name + ".part")
        try:
            if path.exists():
                raise HypotaxisError(f"{file} is there already. Name another file, or take it away first.")
            with part.open("wb") as stream:
                files = write_backup(stream)
            part.rename(path)
        except (HypotaxisError, OSError) as error:
            part.unlink(missing_ok=True)
            refuse(self, error, as_json=False)
        size = f"{path.stat().st_size / 1e6:,.1f} MB"
        self.stdout.write(f"{counted(files, 'file')}, {size}. Bring it back: {settings.COMMAND} restore {file}")
