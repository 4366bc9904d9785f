"""`manage.py wire`: what waits on one DIN wire when a MIDI file is played over it? Without a database."""

import json
from dataclasses import asdict

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.core.formats.smf import MAX_BYTES
from hypotaxis.core.formats.smf_traffic import read_traffic
from hypotaxis.core.midi.wire import send
from hypotaxis.core.timing.wires import wire_report
from hypotaxis.records.shell import bytes_of, refuse


class Command(BaseCommand):
    help = "Tells how long the messages of a MIDI file wait on one DIN wire (31,250 baud). Exit 2: cannot be read."
    requires_system_checks: list = []
    requires_migrations_checks = False

    def add_arguments(self, parser) -> None:
        parser.add_argument("--score", required=True, metavar="FILE", help="Standard MIDI File, type 0 or 1")
        parser.add_argument("--running-status", action="store_true", help="a repeated status byte is left out")
        parser.add_argument("--clock", action="store_true", help="24 clocks a quarter go between the bytes")
        parser.add_argument("--json", action="store_true", help="one JSON object on standard output, nothing else")

    def handle(self, *args, **options) -> None:
        try:
            traffic = read_traffic(bytes_of(options["score"], MAX_BYTES), clock=options["clock"])
        except HypotaxisError as error:
            refuse(self, error, as_json=options["json"])
        report = wire_report(send(traffic, running_status=options["running_status"]))
        if options["json"]:
            self.stdout.write(json.dumps(asdict(report)))
        else:
            self.stdout.write("\n".join(report.lines()))
