"""A desk that was recorded on, and the same with hundreds of takes and soundings: pages are counted and timed on it."""

import io
import uuid
from collections.abc import Callable, Mapping
from itertools import count

import numpy as np
from django.core.management import call_command
from django.db.models import F, Model
from django.urls import reverse

from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.linecheck.checked import Checked, CheckedLine
from hypotaxis.core.linecheck.hearing import InputHeard, LineHeard
from hypotaxis.core.linecheck.lines import Line
from hypotaxis.core.rig.ports import ports_of
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import JACK, Port, Reported
from hypotaxis.records.line_checks import KIND
from hypotaxis.records.models import Job, Pass, Rig, Session, Sounding, Studio, Take, Track
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.rig.checking import LineCheck
from hypotaxis.steps.session.services import recording
from hypotaxis.steps.session.services.importing import store_score
from hypotaxis.steps.timing.services import taking

RECORDED = ("Sedge upper", "Bittern", "Alder kit", "Reedbed")


def recorded_demo() -> Session:
    """The demo's session with one pass over two bars, placed, and a sounding of each trip; jobs have to be done at once
    (HUEY's immediate)."""
    call_command("loaddemo", stdout=io.StringIO())
    rig = Rig.objects.get()
    session, plan = rig.sessions.get(), load_plan(rig)
    session.tracks.filter(name__in=RECORDED).update(armed=True)
    recording.start_pass(session, plan, first_bar=1, last_bar=2, fast=True, place_takes=True)
    for trip in taking.trips_of(plan):
        if taking.can_sound(plan, trip):
            taking.start(rig, plan, [trip], fast=True, hits=8)
    return session


def as_many(session: Session, takes: int, soundings: int) -> None:
    """Copies of a session's passes and takes, older than they, and of its rig's soundings, until there are so many."""
    first = session.passes.first()
    kept = list(session.takes.all())
    number, new = 0, []
    session.passes.update(number=F("number") + takes)
    session.takes.update(number=F("number") + takes)
    for last in range(1, 1 + -(-(takes - len(kept)) // len(kept))):
        job = Job.objects.get(pk=first.job_id)
        job.pk = job.uid = uuid.uuid4()
        job.token = uuid.uuid4().hex
        job.save(force_insert=True)
        run = Pass.objects.get(pk=first.pk)
        run.pk = run.uid = uuid.uuid4()
        run.job, run.measuring, run.number = job, None, last
        run.save(force_insert=True)
        for take in kept:
            number += 1
            new.append(Take(**_fields(take) | {"uid": uuid.uuid4(), "run_id": run.pk, "number": number}))
    Take.objects.bulk_create(new)
    measured = list(Sounding.objects.all())
    for place in range(soundings - len(measured)):
        row = measured[place % len(measured)]
        job = Job.objects.get(pk=row.job_id)
        job.pk = job.uid = uuid.uuid4()
        job.token = uuid.uuid4().hex
        job.save(force_insert=True)
        Sounding.objects.create(**_fields(row) | {"uid": uuid.uuid4(), "job_id": job.pk})


def as_large(session: Session, rig: Rig) -> Session:
    """A song for a large rig: a track with 64 notes and a take an instrument, the takes those of a session that was
    recorded."""
    instruments, ticks = load_plan(rig).instruments, np.arange(64) * 240
    notes = np.zeros(len(ticks), dtype=NOTE)
    notes["tick"], notes["duration"], notes["note"], notes["velocity"] = ticks, 110, 60, 100
    parts = [ScorePart(one.name, place % 16 + 1, notes, no_controls()) for place, one in enumerate(instruments)]
    made = store_score(rig, Score(TempoMap(), tuple(parts), int(ticks[-1]) + 240), name="Large")
    run = session.passes.first()
    job = Job.objects.create(kind=run.job.kind, state=Job.DONE)
    run = Pass(**_fields(run) | {"uid": uuid.uuid4(), "session_id": made.uid, "job_id": job.uid, "measuring_id": None})
    run.save(force_insert=True)
    kept, new = list(session.takes.all()), []
    for place, (track, one) in enumerate(zip(made.tracks.all(), instruments, strict=True)):
        Track.objects.filter(uid=track.uid).update(instrument_uid=one.uid)
        own = {"uid": uuid.uuid4(), "session_id": made.uid, "run_id": run.uid, "track_id": track.uid}
        own |= {"number": place + 1, "instrument_uid": one.uid, "instrument_name": one.name}
        new.append(Take(**_fields(kept[place % len(kept)]) | own))
    Take.objects.bulk_create(new)
    return made


def _fields(row: Model) -> dict:
    return {field.attname: getattr(row, field.attname) for field in row._meta.concrete_fields}


def all_reported(rig: Rig) -> int:
    """A studio of real devices is in use, and reports each port of a rig by a name of its own; how many ports."""
    ends = ports_of(load_plan(rig).rig)
    ports = tuple(Port(f"Usual device: {end.box.name} {end.socket.label}", end.direction) for end in ends)
    found = Reported(studio=JACK, server="", rate=48000, buffer=256, realtime=True, ports=ports)
    Studio.objects.update_or_create(defaults={"kind": JACK, "reported": to_json(found)})
    return len(ends)


def half_checked(rig: Rig) -> Callable[[], None]:
    """A line check of a rig that runs and has heard half of the lines; what is returned hears one line more each
    time. Every seventh line is silent."""
    plan = load_plan(rig)
    lines = LineCheck(rig, plan).lines
    heard = [_heard(line, silent=place % 7 == 3) for place, line in enumerate(lines)]
    job = Job.objects.create(kind=KIND, about=str(rig.uid), state=Job.RUNNING)
    counts = count(len(lines) // 2)

    def one_more() -> None:
        many = next(counts) % len(lines)
        result = to_json(Checked(tuple(heard[:many]), lines[many].key))
        Job.objects.filter(uid=job.uid).update(result=result, progress=many / len(lines))

    one_more()
    return one_more


def _heard(line: Line, *, silent: bool) -> CheckedLine:
    inputs = [InputHeard(uid, -20.0, -90.0, None if silent else 8.0, bands_db=(-9.0,) * 6) for uid in line.inputs]
    return CheckedLine(line.key, LineHeard(tuple(inputs)), day="2026-11-28T10:00:00")


def pages_of(rig: Rig) -> Mapping[str, str]:
    """What each page and poll is called, and its address: the steps, one of each of what they open, and what is asked
    again and again."""
    plan, session = load_plan(rig), rig.sessions.first()
    found = {name: reverse(f"{name}:home") for name in ("rig", "instruments", "sync", "timing", "session", "handover")}
    found |= {
        "rig: ports": reverse("rig:ports"),
        "rig: inputs": reverse("rig:inputs"),
        "rig: panels": reverse("rig:panels"),
        "rig: rigs": reverse("rig:rigs"),
    }
    found |= {"rig: studio": reverse("rig:studio"), "rig: line check": reverse("rig:check")}
    found |= {"poll: line check": reverse("rig:check-rows"), "poll: soundings": reverse("timing:running")}
    found |= {"stand": reverse("stand:home"), "poll: stand": reverse("stand:state")}
    box = next(box for box in plan.rig.boxes if box.shape != "host")
    found |= {"rig: a box": reverse("rig:box", args=[box.uid])}
    if plan.instruments:
        one = plan.instruments[0].uid
        found |= {"instruments: one": reverse("instruments:open", args=[one])}
        found |= {"timing: a trip": reverse("timing:trip", args=[one])}
    if session:
        track = session.tracks.filter(takes__isnull=False).first() or session.tracks.first()
        found |= {"session: glass": reverse("session:glass"), "session: mix": reverse("session:mix")}
        found |= {"session: takes": reverse("session:takes", args=[track.uid])}
        found |= {"session: sessions": reverse("session:sessions"), "session: plan": reverse("session:plan")}
        found |= {"session: recall": reverse("session:recall"), "timing: wires": reverse("timing:wires")}
        run = session.passes.last()
        if run:
            found["poll: pass"] = reverse("session:running", args=[run.uid])
            found["poll: measuring"] = reverse("session:measuring", args=[run.uid])
    return found
