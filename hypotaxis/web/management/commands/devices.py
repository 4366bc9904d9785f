"""`manage.py devices`: what the computer offers to play and record with. Without a database."""

import json
import sys
from dataclasses import asdict

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import HypotaxisError
from hypotaxis.core.studio import JACK, PORTABLE, Reported
from hypotaxis.records.shell import REFUSED, refuse
from hypotaxis.web.studio_startup import device_studio, devices_found


class Command(BaseCommand):
    help = "Lists ports, inputs and outputs of a studio, or the studios that can be opened. Exit 2: none can."
    requires_system_checks: list = []
    requires_migrations_checks = False

    def add_arguments(self, parser) -> None:
        parser.add_argument("--studio", choices=(JACK, PORTABLE), help="without it: what can be opened")
        parser.add_argument("--server", default="", metavar="NAME", help="of JACK, where several run")
        parser.add_argument("--json", action="store_true", help="one JSON object on standard output, nothing else")

    def handle(self, *args, studio: str | None, server: str, **options) -> None:
        as_json = options["json"]
        if studio is None:
            self._list(server, as_json=as_json)
            return
        try:
            with device_studio(studio, server) as opened:
                reported = opened.reported
        except HypotaxisError as error:
            refuse(self, error, as_json=as_json)
        self.stdout.write(json.dumps(_plain(reported), ensure_ascii=False) if as_json else _told(reported))

    def _list(self, server: str, *, as_json: bool) -> None:
        found = devices_found(server)
        if as_json:
            rows = [{"studio": kind, "opens": not why, "reason": why} for kind, why in found]
            self.stdout.write(json.dumps({"studios": rows}, ensure_ascii=False))
        else:
            for kind, why in found:
                self.stdout.write(f"{kind}: {why or 'can be opened'}")
        if all(why for _, why in found):
            sys.exit(REFUSED)


def _plain(reported: Reported) -> dict:
    ends = {
        name: [{"name": end.name, "key": end.key} for end in getattr(reported, name)] for name in ("inputs", "outputs")
    }
    ports = [
        {"name": port.system_name, "key": port.key, "direction": port.direction, "taken": port.taken}
        for port in reported.ports
    ]
    return asdict(reported) | {"ports": ports} | ends


def _told(reported: Reported) -> str:
    rights = {True: "with real-time rights", False: "without real-time rights", None: "real-time rights unknown"}
    lines = [f"{reported.studio} “{reported.server}”: {reported.rate} Hz, {reported.buffer} frames a period, "]
    lines[0] += rights[reported.realtime]
    lines += [f"MIDI {port.direction}  {port.system_name}" for port in reported.ports]
    lines += [f"input   {end.name}" for end in reported.inputs]
    lines += [f"output  {end.name}" for end in reported.outputs]
    return "\n".join(lines)
