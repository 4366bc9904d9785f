"""How playing in stands, as the page shows it."""

import json

from hypotaxis.core.formats.plain import from_json
from hypotaxis.core.playing.played_in import PlaySetup
from hypotaxis.core.units import clock_text
from hypotaxis.records.models import Job, PlayIn
from hypotaxis.steps.session.services.playing_in import PlayNow, beats_of

AHEAD_S = 2.0
"""How far the page knows its clicks ahead."""


def playing_context(row: PlayIn) -> dict:
    """Where it is."""
    setup, job = from_json(PlaySetup, row.wish), row.job
    at_s = job.progress * setup.frames / setup.rate - setup.first_s
    tempo = setup.tempo
    begins = float(tempo.us_at(tempo.bar_tick(setup.first_bar))) / 1e6
    bar_s = float(tempo.us_at(tempo.bar_tick(setup.first_bar + 1))) / 1e6 - begins
    number = min(setup.times - 1, max(0, int(at_s / setup.round_s)))
    tick = tempo.tick_at_us(max(0.0, (begins + at_s - number * setup.round_s) * 1e6))
    of = "" if setup.open_end else f" of {setup.times}"
    return {
        "page_beats": _page_beats(setup, job),
        "playing": row,
        "job": job,
        "counts_in": at_s < 0 and job.state == Job.RUNNING,
        "beats_left": max(1, -int(at_s / bar_s * tempo.beats_in_bar(setup.first_bar) - 0.999)),
        "time_round": f"time {number + 1}{of}" if setup.times > 1 else "",
        "open_end": setup.open_end,
        "where": tempo.position(max(tick, tempo.bar_tick(setup.first_bar))),
        "done": round(job.progress * 100, 1),
        "left": clock_text(setup.frames / setup.rate * (1 - job.progress)),
    }


def _page_beats(setup: PlaySetup, job: Job) -> str:
    """The clicks to come as [number, moment of the computer's clock in s, accented], where the page clicks."""
    if not setup.on_page or job.state != Job.RUNNING or not job.result:
        return ""
    now = from_json(PlayNow, job.result)
    zero = now.when - now.at_s
    return json.dumps(
        [
            [number, round(zero + beat.at_s, 4), int(beat.accent)]
            for number, beat in enumerate(beats_of(setup))
            if now.at_s - 0.05 <= beat.at_s < now.at_s + AHEAD_S
        ]
    )
