"""`manage.py sound`: how late does a trip come home, from a MIDI port or an output to an input? Without a database."""

import json

from django.core.management.base import BaseCommand, CommandError

from hypotaxis.core.errors import HypotaxisError, PortMissing
from hypotaxis.core.studio import JACK, PORTABLE, Reported
from hypotaxis.core.timing.report import one_line, report
from hypotaxis.core.timing.sounded import loop_run, played_run, sound_trip
from hypotaxis.core.timing.wish import Wish
from hypotaxis.records.shell import refuse
from hypotaxis.web.studio_startup import device_studio

MOST_HITS = 512


class Command(BaseCommand):
    help = "Sounds a trip with the test pattern and tells how late it comes home. Exit 2: no answer."
    requires_system_checks: list = []
    requires_migrations_checks = False

    def add_arguments(self, parser) -> None:
        parser.add_argument("--studio", choices=(JACK, PORTABLE), required=True)
        parser.add_argument("--server", default="", metavar="NAME", help="of JACK, where several run")
        way = parser.add_mutually_exclusive_group(required=True)
        way.add_argument("--port", help="name or key of the MIDI port that takes the notes")
        way.add_argument("--loop", metavar="OUTPUT", help="name or key of an audio output, for a loop")
        parser.add_argument("--channel", type=int, choices=range(1, 17), default=1, metavar="1-16")
        parser.add_argument("--note", type=int, choices=range(128), default=60, metavar="0-127")
        parser.add_argument("--input", action="append", required=True, help="name or key; twice: left and right")
        parser.add_argument("--hits", type=int, default=64)
        parser.add_argument("--freewheel", action="store_true", help="faster than real time: for software only")
        parser.add_argument("--json", action="store_true", help="one JSON object on standard output, nothing else")

    def handle(self, *args, **options) -> None:
        if not 8 <= options["hits"] <= MOST_HITS:
            raise CommandError(f"--hits is {options['hits']}; it may be 8 to {MOST_HITS}.")
        if len(options["input"]) > 2:
            raise CommandError("Name one --input, or two for left and right.")
        try:
            result = _sounded(**options)
        except HypotaxisError as error:
            refuse(self, error, as_json=options["json"])
        self.stdout.write(json.dumps(result, allow_nan=False) if options["json"] else one_line(result))


def _sounded(*, studio: str, server: str, port: str | None, loop: str | None, freewheel: bool, **options) -> dict:
    with device_studio(studio, server) as opened:
        there = opened.reported
        inputs = [_named(there, "inputs", one) for one in options["input"]]
        wish = Wish(hits=options["hits"], note=options["note"])
        if loop:
            run = loop_run(wish, outputs=[_named(there, "outputs", loop)], rate=there.rate)
        else:
            name = _named(there, "ports", port)
            run = played_run(wish, port=name, channel=options["channel"], rate=there.rate)
        answer = sound_trip(opened, run, inputs, fast=freewheel)
    return report(answer) | {"track": None}


def _named(there: Reported, what: str, wanted: str) -> str:
    """The system name of what was named by its name or key. Raises PortMissing with what there is."""
    if what == "ports":
        known = {name: port.system_name for port in there.ports for name in (port.key, port.system_name)}
        known = {name: one for name, one in known.items() if any(p.system_name == one for p in _outs(there))}
    else:
        known = {name: end.name for end in getattr(there, what) for name in (end.key, end.name)}
    if wanted not in known:
        words = {"ports": "MIDI port that takes notes", "inputs": "audio input", "outputs": "audio output"}[what]
        offered = ", ".join(dict.fromkeys(known.values())) or "none"
        raise PortMissing(f"The studio reports no {words} “{wanted}”. There is: {offered}.")
    return known[wanted]


def _outs(there: Reported) -> list:
    return [port for port in there.ports if port.direction == "out"]
