"""`manage.py align`: how late is a recording of one's own against a MIDI file? Without a database."""

import json

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.core.timing.apart import measure_apart
from hypotaxis.core.timing.report import one_line
from hypotaxis.records.shell import file_named, refuse


class Command(BaseCommand):
    help = "Tells how late a recording is against its MIDI file, and what to type into a host. Exit 2: no answer."
    requires_system_checks: list = []
    requires_migrations_checks = False

    def add_arguments(self, parser) -> None:
        parser.add_argument("--score", required=True, metavar="FILE", help="Standard MIDI File, type 0 or 1")
        parser.add_argument("--recording", required=True, metavar="FILE", help="WAV, AIFF, FLAC or Ogg")
        parser.add_argument("--against", metavar="FILE", help="another recording of the same notes, to compare with")
        parser.add_argument("--track", type=int, help="from 1, in file order, the conductor track included")
        parser.add_argument("--channel", type=int, choices=range(1, 17), metavar="1-16")
        parser.add_argument("--input", choices=("left", "right", "mix", "auto"), default="auto", help="side of a pair")
        parser.add_argument("--json", action="store_true", help="one JSON object on standard output, nothing else")

    def handle(self, *args, **options) -> None:
        try:
            score, recording = file_named(options["score"]), file_named(options["recording"])
            result = measure_apart(
                score,
                recording,
                track=options["track"],
                channel=options["channel"],
                side=options["input"],
                against=file_named(options["against"]) if options["against"] else None,
            ).report
        except HypotaxisError as error:
            refuse(self, error, as_json=options["json"])
        self.stdout.write(json.dumps(result, allow_nan=False) if options["json"] else one_line(result))
