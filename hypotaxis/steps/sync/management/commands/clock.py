"""`manage.py clock`: what leaves for boxes that follow while a MIDI file is played, and when? Without a database."""

import json

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import CannotSchedule, HypotaxisError
from hypotaxis.core.formats.smf import MAX_BYTES, read_smf
from hypotaxis.core.session.score import Score
from hypotaxis.core.sync.course import course_of_bars
from hypotaxis.core.sync.sending import Event, events
from hypotaxis.core.sync.timecode import RATES
from hypotaxis.core.sync.values import NOTHING, WRAPS, Sending
from hypotaxis.records.shell import bytes_of, refuse


class Command(BaseCommand):
    help = "Lists clock, start, stop, song position and time code along a MIDI file's tempo. Exit 2: cannot be sent."
    requires_system_checks: list = []
    requires_migrations_checks = False

    def add_arguments(self, parser) -> None:
        parser.add_argument("--score", required=True, metavar="FILE", help="Standard MIDI File, type 0 or 1")
        parser.add_argument("--from", dest="first", type=int, default=1, metavar="BAR", help="from this bar on (1)")
        parser.add_argument("--bars", type=int, metavar="N", help="so many bars; without it: to the end")
        parser.add_argument("--loops", type=int, default=1, metavar="K", help="how often they are played (1)")
        parser.add_argument("--wrap", choices=WRAPS, default=NOTHING, help="what is sent when they begin again")
        parser.add_argument("--timecode", choices=tuple(RATES), default="", help="quarter frames at this rate besides")
        parser.add_argument("--json", action="store_true", help="one JSON object on standard output, nothing else")

    def handle(self, *args, first: int, bars: int | None, loops: int, wrap: str, timecode: str, **options) -> None:
        try:
            score = read_smf(bytes_of(options["score"], MAX_BYTES))
            course = course_of_bars(score.tempo, first_bar=first, bars=_bars(score, first, bars), times=loops)
            sent = events(course, Sending(wrap=wrap, time_code=timecode))
        except HypotaxisError as error:
            refuse(self, error, as_json=options["json"])
        if options["json"]:
            self.stdout.write(json.dumps({"events": [_plain(one) for one in sent]}))
        else:
            self.stdout.write("\n".join(f"{one.time_ns / 1e6:14.6f} ms  {one.data.hex(' ')}" for one in sent))


def _bars(score: Score, first: int, bars: int | None) -> int:
    """How many bars are played. Raises CannotSchedule for those that the song does not have."""
    last = score.tempo.last_bar(score.end_tick)
    if first > last:
        raise CannotSchedule(f"The song ends with bar {last}, and --from is {first}.")
    if bars is None:
        return last - first + 1
    if first + bars - 1 > last:
        raise CannotSchedule(
            f"The song ends with bar {last}: {bars} bars from bar {first} on reach beyond it. Take fewer."
        )
    return bars


def _plain(one: Event) -> dict:
    tick = one.tick if one.tick is None else int(one.tick) if one.tick.denominator == 1 else float(one.tick)
    return {"time_ns": one.time_ns, "bytes": one.data.hex(), "tick": tick}
