"""What the pages show of a pass that is recorded now: where it is, what is left, its levels."""

from hypotaxis.core.drawing.levels import WIDTH
from hypotaxis.core.session.gaps import gaps_told
from hypotaxis.core.studio import AT_ONCE
from hypotaxis.core.units import CLOCKS_A_QUARTER, clock_text
from hypotaxis.records.models import Job, Pass
from hypotaxis.records.plan import last_bar_of
from hypotaxis.steps.session.services.coming import led_now
from hypotaxis.steps.session.services.picture import meter_rows


def running_context(run: Pass) -> dict:
    """All of it, for a template."""
    job = run.job
    context = {
        "run": run,
        "job": job,
        "done": round(job.progress * 100, 1),
        "length": clock_text(run.seconds),
        "left": clock_text(job.remaining_s if job.remaining_s is not None else run.seconds * (1 - job.progress)),
        "open_end": run.frozen.open_end,
        "meters": meter_rows(run.shown),
        "meter_width": WIDTH,
        "gaps": _gaps(run),
    }
    return context | (_led_context(run) if run.frozen.led_by else _time_context(run))


def _gaps(run: Pass) -> str:
    """What did not come so far, with its bars; "" where all did."""
    setup = run.frozen
    return gaps_told(run.gaps, run.tempo_map, first_sample=setup.first_sample, rate=setup.rate) if run.lost else ""


def running_share(run: Pass) -> float:
    """Where it is among all bars of its session, as drawn: 0 to 1000."""
    return round(running_context(run)["at_percent"] * 10, 1)


def _time_context(run: Pass) -> dict:
    """Where a pass is that goes by the session's tempo."""
    setup = run.frozen
    frame = run.job.progress * setup.frames
    tick = run.session.tempo_map.tick_at_us(max(0.0, setup.us_at(frame)))
    of = "" if setup.open_end else f" of {len(setup.rounds)}"
    told = f"time {setup.round_at(frame) + 1}{of}" if setup.loops else ""
    return _where(run, tick) | {"time_round": told} | _before(run, frame)


def _before(run: Pass, frame: float) -> dict:
    """Whether it waits for a first note, or is counted in."""
    setup = run.frozen
    waits = setup.begins != AT_ONCE and not run.job.progress and run.job.state == Job.RUNNING
    counted = bool(setup.count_in) and frame < setup.every_round[0].start
    return {"waits": waits, "waits_for_note": waits, "counted_in": counted and not waits}


def _led_context(run: Pass) -> dict:
    """Where a pass is that a box leads, and what of its clock arrives."""
    led, by = led_now(run.job), run.frozen.led_by
    bars = run.session.tempo_map
    waits = led.clock is None and run.job.state == Job.RUNNING
    tick = bars.bar_tick(run.first_bar)
    if led.clock is not None:
        tick = led.clock * bars.ticks_per_quarter // CLOCKS_A_QUARTER
    return _where(run, tick) | {
        "leader": by,
        "waits": waits,
        "tempo_in": led.tempo.told,
        "led_told": led.told,
    }


def _where(run: Pass, tick: int) -> dict:
    bars = run.session.tempo_map
    whole = bars.us_at(bars.bar_tick(last_bar_of(run.session) + 1))
    at_percent = float(bars.us_at(tick) / whole * 100)
    return {"where": bars.position(tick), "at_percent": round(min(100.0, max(0.0, at_percent)), 3)}
