"""`manage.py patchlist`: which sounds does a file name? Converts between the formats. Without a database."""

import json
from pathlib import Path

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.patchfile import WRITERS, read_patch_file, summary
from hypotaxis.core.formats.text import MAX_TEXT_BYTES
from hypotaxis.records.shell import bytes_of, refuse


class Command(BaseCommand):
    help = "Reads a patch list (name document, table, program list, pasted text). Exit 2: it cannot be read."
    requires_system_checks: list = []
    requires_migrations_checks = False

    def add_arguments(self, parser) -> None:
        parser.add_argument("file", help="MIDI name document, CSV or TSV, ProgramList JSON, or text from a manual")
        parser.add_argument("--pasted", action="store_true", help="read it as text pasted from a manual")
        parser.add_argument("--to", choices=tuple(WRITERS), help="write it in this format instead of a JSON summary")
        parser.add_argument("--out", metavar="FILE", help="write there instead of to standard output")

    def handle(self, *args, file: str, pasted: bool, to: str | None, out: str | None, **options) -> None:
        try:
            kind, found = read_patch_file(bytes_of(file, MAX_TEXT_BYTES), pasted=pasted)
            text = WRITERS[to](found.patches) if to else json.dumps(summary(kind, found), ensure_ascii=False)
            if out:
                self._write(out, text)
        except UnreadableFile as error:
            refuse(self, error, as_json=to is None)
        if not out:
            self.stdout.write(text, ending="" if text.endswith("\n") else "\n")

    @staticmethod
    def _write(name: str, text: str) -> None:
        try:
            Path(name).write_text(text, encoding="utf-8", newline="")
        except OSError as error:
            raise UnreadableFile(f"{name} cannot be written: {error.strerror}.") from error
