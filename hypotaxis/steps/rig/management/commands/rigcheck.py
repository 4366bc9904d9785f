"""`manage.py rigcheck`: what is wrong in a rig file? Without a database."""

import json
import sys

from django.core.management.base import BaseCommand, CommandError

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.findings.finding import WRONG, Finding
from hypotaxis.core.findings.rules import RULES, check, name_of
from hypotaxis.core.formats.rigfile import MAX_BYTES, read_rig_file
from hypotaxis.core.plan import Plan
from hypotaxis.records.shell import bytes_of, refuse

FOUND = 1


class Command(BaseCommand):
    help = "Checks a rig file. Exit 1: something is wrong; exit 2: the file cannot be read."
    requires_system_checks: list = []

    def add_arguments(self, parser) -> None:
        parser.add_argument("file", nargs="?", help="rig file (JSON, see docs/formats/rig.md)")
        parser.add_argument("--json", action="store_true", help="one JSON object on standard output, nothing else")
        parser.add_argument("--rules", action="store_true", help="list the rules instead")

    def handle(self, *args, file: str | None, **options) -> None:
        if options["rules"]:
            self._list_rules(options["json"])
            return
        if not file:
            raise CommandError("Name a rig file to check, or ask for --rules.")
        try:
            plan = read_rig_file(_text_of(file))
        except UnreadableFile as error:
            refuse(self, error, as_json=options["json"])
        findings = check(plan)
        if options["json"]:
            rows = [_row(plan, finding) for finding in findings]
            self.stdout.write(json.dumps({"findings": rows}, ensure_ascii=False))
        else:
            for finding in findings:
                self.stdout.write(f"{finding.severity}: {finding.title}. {finding.message} {finding.remedy}")
            if not findings:
                self.stdout.write("Nothing is wrong with the plan.")
        if any(finding.severity == WRONG for finding in findings):
            sys.exit(FOUND)

    def _list_rules(self, as_json: bool) -> None:
        rules = {name_of(rule): (rule.__doc__ or "").strip().splitlines()[0] for rule in RULES}
        if as_json:
            self.stdout.write(json.dumps({"rules": rules}, ensure_ascii=False))
            return
        for name, what in rules.items():
            self.stdout.write(f"{name}: {what}")


def _row(plan: Plan, finding: Finding) -> dict:
    thing = plan.rig.box(finding.about) or plan.instrument(finding.about)
    return {
        "rule": finding.rule,
        "severity": finding.severity,
        "about": thing.name if thing else "",
        "uid": finding.about,
        "message": f"{finding.title}. {finding.message}",
        "remedy": finding.remedy,
    }


def _text_of(name: str) -> str:
    try:
        return bytes_of(name, MAX_BYTES).decode("utf-8")
    except UnicodeDecodeError as error:
        raise UnreadableFile(f"{name} is not UTF-8: byte {error.start} cannot be read.") from error
