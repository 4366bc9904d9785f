"""`manage.py misstep`: how far a pattern parts from a loop, wrap by wrap? Without a database."""

import json
from fractions import Fraction

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import CannotSchedule, HypotaxisError
from hypotaxis.core.sync.misstep import Misstep, missteps, told
from hypotaxis.core.sync.values import WRAPS
from hypotaxis.records.shell import refuse


class Command(BaseCommand):
    help = "Tells how far a pattern is ahead of where the host counts it after each wrap. Exit 2: makes no sense."
    requires_system_checks: list = []
    requires_migrations_checks = False

    def add_arguments(self, parser) -> None:
        parser.add_argument("--loop-from", required=True, metavar="S", help="bar at which the loop begins, from 1")
        parser.add_argument("--loop-bars", required=True, metavar="L", help="its length in bars, also as 5/2 or 2.5")
        parser.add_argument("--pattern-bars", required=True, metavar="P", help="the pattern's length in bars")
        parser.add_argument("--times", required=True, metavar="K", help="how many wraps")
        parser.add_argument("--wrap", required=True, metavar="|".join(WRAPS), help="what is sent there")
        parser.add_argument("--meter", default="4/4", help="of the song, 4/4 where nothing is said")
        parser.add_argument("--json", action="store_true", help="one JSON object on standard output, nothing else")

    def handle(self, *args, times: str, wrap: str, meter: str, **options) -> None:
        try:
            found = missteps(
                **{name: _fraction(name, options[name]) for name in ("loop_from", "loop_bars", "pattern_bars")},
                times=_whole("--times", times),
                wrap=wrap,
                meter=_meter(meter),
            )
        except HypotaxisError as error:
            refuse(self, error, as_json=options["json"])
        if options["json"]:
            self.stdout.write(json.dumps({"rows": [_plain(one) for one in found]}))
        else:
            self.stdout.write("\n".join(f"wrap {one.wrap}: {told(one)}" for one in found))


def _fraction(name: str, text: str) -> Fraction:
    try:
        return Fraction(text.strip())
    except (ValueError, ZeroDivisionError) as error:
        option = "--" + name.replace("_", "-")
        raise CannotSchedule(f"{option} is “{text}”; write a number of bars, like 4, 2.5 or 5/2.") from error


def _whole(option: str, text: str) -> int:
    try:
        return int(text)
    except ValueError as error:
        raise CannotSchedule(f"{option} is “{text}”; write a whole number.") from error


def _meter(text: str) -> tuple[int, int]:
    over, slash, under = text.partition("/")
    if not slash:
        raise CannotSchedule(f"--meter is “{text}”; write it like 4/4 or 7/8.")
    return _whole("--meter", over), _whole("--meter", under)


def _plain(one: Misstep) -> dict:
    def number(value: Fraction) -> int | float:
        return int(value) if value.denominator == 1 else float(value)

    return {
        "wrap": one.wrap,
        "misstep_ticks": number(one.ticks),
        "misstep_bars": float(one.bars),
        "misstep_sixteenths": float(one.sixteenths),
        "in_step": one.in_step,
    }
