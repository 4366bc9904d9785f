"""A pass: armed, recorded in real time by the worker, kept whatever happens.

While it runs, the frames of all its inputs grow in one raw file; takes are made from it at the end, after a cancel
and, when the program died, at the next start. What was armed is frozen in the pass at its start.
"""

import logging
import math
from contextlib import closing

import numpy as np
from django.db import transaction
from django.utils import timezone
from huey.contrib.djhuey import db_task

from hypotaxis.core.errors import CannotSchedule, StudioTrouble
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.session.passes import ArmedTrack, check_pass, inputs_of
from hypotaxis.core.session.schedule import PlayedPart, Schedule, plan_run
from hypotaxis.core.timing.context import context_of
from hypotaxis.records import audio
from hypotaxis.records.jobs import Reporter, running
from hypotaxis.records.lateness import shifts_ms
from hypotaxis.records.models import Job, Pass, Rig, Session, Take, Track
from hypotaxis.records.patch_lists import track_calls
from hypotaxis.records.plan import controls_of, load_plan, notes_of, tempo_of
from hypotaxis.records.studio import send_apart, studio_for
from hypotaxis.steps.session.services.placing import is_sure_enough, measure_take, place

log = logging.getLogger(__name__)

SHORTEST_S = 0.1
FLOOR_DB = -120.0
"""What stands for silence where a number is stored (JSON has no infinity)."""


def start_pass(session: Session, plan: Plan, *, first_bar: int, last_bar: int, fast: bool, place_takes: bool) -> Pass:
    """Check what is armed and hand the pass to the worker; raises CannotSchedule with the reason."""
    unfinished = Pass.objects.filter(session__rig=session.rig, job__state__in=Job.UNFINISHED).first()
    if unfinished:
        raise CannotSchedule(f"Pass {unfinished.number} is still running. Stop it, or wait until it is done.")
    tracks = list(session.tracks.filter(armed=True))
    armed = [ArmedTrack(str(t.uid), t.name, plan.instrument(t.instrument_uid)) for t in tracks]
    check_pass(plan, armed)
    inputs = inputs_of(plan, [track.instrument for track in armed])
    order = [use.socket for use in inputs]
    shifts = shifts_ms(plan)
    parts = []
    for row, track in zip(tracks, armed, strict=True):
        instrument, seat = track.instrument, track.instrument.seat(row.part_uid)
        parts.append(
            {
                "track": track.uid,
                "track_name": track.name,
                "instrument": instrument.uid,
                "instrument_name": instrument.name,
                "port": plan.rig.find(seat.send)[1].system_name,
                "channel": seat.channel,
                "calls": [message.hex() for message in track_calls(row, instrument)],
                "gap_ms": instrument.gap_ms,
                "shift_ms": shifts.get(instrument.uid, 0.0),
                "columns": [order.index(uid) for uid in instrument.returns],
                "returns_text": returns_text(plan.rig, instrument.returns),
                "home_trim_db": instrument.home_trim_db,
                "inverted": instrument.inverted,
                "context": context_of(plan, instrument, part=row.part_uid),
                "further": [
                    {
                        "uid": way.uid,
                        "name": way.name,
                        "columns": [order.index(uid) for uid in way.inputs],
                        "returns_text": returns_text(plan.rig, way.inputs),
                        "inverted": way.inverted,
                    }
                    for way in instrument.further
                    if way.inputs
                ],
            }
        )
    setup = {"parts": parts, "inputs": [use.system_name for use in inputs], "names": [use.name for use in inputs]}
    return _queue(session, setup, first_bar, last_bar, fast, place_takes, plan.rig.sample_rate)


def repeat_pass(old: Pass) -> Pass:
    """The same pass again."""
    setup = {name: old.setup[name] for name in ("parts", "inputs", "names")}
    rate = old.session.rig.sample_rate
    return _queue(old.session, setup, old.first_bar, old.last_bar, old.fast, old.place, rate)


def send_sounds(session: Session, plan: Plan) -> Job:
    """Ask the worker to call up the sound of every track once more."""
    messages = []
    for track in session.tracks.all():
        instrument = plan.instrument(track.instrument_uid)
        found = plan.rig.find(instrument.send) if instrument else None
        if found:
            port = plan.rig.find(instrument.seat(track.part_uid).send) or found
            messages += [(port[1].system_name, call.hex()) for call in track_calls(track, instrument)]
    if not messages:
        raise CannotSchedule("No track has a sound to call up. Pick one on the Instruments step, or type a program.")
    job = Job.objects.create(kind="sounds", about=str(session.uid), result={"messages": messages})
    call_up(str(job.uid), str(session.rig_id))
    return job


@db_task()
def call_up(job_uid: str, rig_uid: str) -> None:
    """The task: send bank and program of every track, a gap apart."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        plan = load_plan(Rig.objects.get(uid=rig_uid))
        wanted = reporter.job.result["messages"]
        with studio_for(plan) as studio:
            send_apart(studio, [(port, bytes.fromhex(data)) for port, data in wanted], fast=False)


def _queue(
    session: Session, setup: dict, first_bar: int, last_bar: int, fast: bool, place_takes: bool, rate: int
) -> Pass:
    with transaction.atomic():
        number = session.passes.count() + 1
        job = Job.objects.create(kind="pass", about=str(session.uid))
        run = Pass(
            session=session,
            job=job,
            number=number,
            first_bar=first_bar,
            last_bar=last_bar,
            fast=fast,
            place=place_takes,
            setup=setup,
        )
        schedule = _schedule(run, rate)
        run.seconds = schedule.seconds
        run.setup |= {"first_sample": schedule.first_sample, "frames": schedule.frames, "rate": rate}
        run.save()
    record(str(job.uid))
    return run


def _schedule(run: Pass, rate: int) -> Schedule:
    tracks = {str(track.uid): track for track in run.session.tracks.all()}
    parts = [
        PlayedPart(
            part["port"],
            part["channel"],
            notes_of(tracks[part["track"]]),
            controls_of(tracks[part["track"]]),
            tuple(bytes.fromhex(call) for call in part.get("calls", ())),
            part.get("gap_ms", 0.0),
            part.get("shift_ms", 0.0),
        )
        for part in run.setup["parts"]
    ]
    tempo = tempo_of(run.session)
    return plan_run(parts, tempo, first_bar=run.first_bar, last_bar=run.last_bar, sample_rate=rate)


@db_task()
def record(job_uid: str) -> None:
    """The task: run the pass; whatever came is kept as takes, however it ends."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        run = Pass.objects.select_related("session__rig").get(job_id=job_uid)
        try:
            _run(run, reporter)
        finally:
            keep_takes(run)


def _run(run: Pass, reporter: Reporter) -> None:
    plan = load_plan(run.session.rig)
    setup = run.setup
    schedule = _schedule(run, setup["rate"])
    meters = [InputMeter(name) for name in setup["names"]]
    with studio_for(plan) as studio:
        if run.fast and not studio.simulated:
            raise StudioTrouble("Real hardware plays in real time only. Switch faster than real time off.")
        Pass.objects.filter(uid=run.uid).update(started=timezone.now())
        blocks = studio.run(schedule.messages, setup["inputs"], frames=schedule.frames, fast=run.fast)
        # Unbuffered: what a block brought is in the file before the next one is asked for.
        with closing(blocks), audio.partial_path(str(run.uid)).open("wb", buffering=0) as stream:
            for block in blocks:
                stream.write(np.ascontiguousarray(block.samples, dtype="<f4").tobytes())
                for column, meter in enumerate(meters):
                    meter.feed(block.samples[:, column])
                if reporter.due():
                    Pass.objects.filter(uid=run.uid).update(meters=[_meter_row(meter) for meter in meters])
                    reporter.report((block.start + len(block.samples)) / schedule.frames)
    Pass.objects.filter(uid=run.uid).update(meters=[_meter_row(meter) for meter in meters])


def _meter_row(meter: InputMeter) -> dict:
    level, peak = (FLOOR_DB if db == -math.inf else round(db, 2) for db in (meter.level_db, meter.peak_db))
    return {"name": meter.name, "level": level, "peak": peak, "clips": meter.clips}


def keep_takes(run: Pass) -> None:
    """Make takes of what a pass has recorded so far, measure them and place them where asked. Safe to repeat."""
    partial = audio.partial_path(str(run.uid))
    if not partial.exists():
        return
    setup = run.setup
    width, rate = len(setup["inputs"]), setup["rate"]
    frames = partial.stat().st_size // (4 * width)
    for part in setup["parts"] if frames >= SHORTEST_S * rate else ():
        track = Track.objects.filter(uid=part["track"]).first()
        if track is None:
            continue
        for way in _ways(part):
            take = run.takes.filter(track=track, way_uid=way["uid"]).first() or _make_take(
                run, track, part, way, frames
            )
            if take.lateness is not None:
                continue
            measure_take(take)
            if run.place and is_sure_enough(take):
                place(take)
    partial.unlink()


def _ways(part: dict) -> list[dict]:
    """The returns by which an armed part comes home, the main one last: it is the newest take of its track."""
    main = {"uid": "", "name": ""} | {name: part.get(name) for name in ("columns", "returns_text", "inverted")}
    return [*part.get("further", ()), main]


def _make_take(run: Pass, track: Track, part: dict, way: dict, frames: int) -> Take:
    setup = run.setup
    width, columns = len(setup["inputs"]), way["columns"]
    meters = [InputMeter("") for _ in columns]
    partial = audio.partial_path(str(run.uid))
    for block in audio.partial_blocks(partial, columns, width, frames):
        for column, meter in enumerate(meters):
            meter.feed(block[:, column])
    file = audio.keep_take(
        audio.partial_blocks(partial, columns, width, frames),
        rate=setup["rate"],
        channels=len(columns),
        frames=frames,
        first_sample=setup["first_sample"],
    )
    peak = max(meter.peak_db for meter in meters)
    return Take.objects.create(
        session=run.session,
        track=track,
        run=run,
        number=(run.session.takes.order_by("-number").values_list("number", flat=True).first() or 0) + 1,
        instrument_uid=part["instrument"],
        instrument_name=part["instrument_name"],
        returns_text=way["returns_text"],
        way_uid=way["uid"],
        way_name=way["name"],
        inverted=bool(way["inverted"]),
        file=file,
        sample_rate=setup["rate"],
        channels=len(columns),
        frames=frames,
        first_sample=setup["first_sample"],
        home_trim_db=part["home_trim_db"],
        clipped=sum(meter.clips for meter in meters),
        peak_db=None if peak == -math.inf else peak,
        complete=frames >= setup["frames"],
    )


def rescue_partial_takes() -> None:
    """At the start of the worker: what a pass had recorded when the program died becomes takes."""
    for path in audio.folder("partial").glob("*.f32"):
        run = Pass.objects.filter(uid=path.stem).first()
        if run is None:
            path.unlink()
            continue
        try:
            keep_takes(run)
        except Exception:
            # A worker that cannot start helps nobody; the frames stay for a person to look at.
            log.exception("what pass %s had recorded could not be made into takes", run.uid)
            path.replace(path.with_suffix(".broken"))
