"""A desk that was recorded on, and the same with hundreds of takes and soundings: pages are counted and timed on it."""

import io
import uuid
from collections.abc import Mapping

from django.core.management import call_command
from django.db.models import F
from django.urls import reverse

from hypotaxis.records.models import Job, Pass, Rig, Session, Sounding, Take
from hypotaxis.records.plan import load_plan
from hypotaxis.steps.session.services import recording
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
            fields = {field.attname: getattr(take, field.attname) for field in Take._meta.concrete_fields}
            new.append(Take(**fields | {"uid": uuid.uuid4(), "run_id": run.pk, "number": number}))
    Take.objects.bulk_create(new)
    measured = list(Sounding.objects.all())
    for place in range(soundings - len(measured)):
        row = measured[place % len(measured)]
        job = Job.objects.get(pk=row.job_id)
        job.pk = job.uid = uuid.uuid4()
        job.token = uuid.uuid4().hex
        job.save(force_insert=True)
        fields = {field.attname: getattr(row, field.attname) for field in Sounding._meta.concrete_fields}
        Sounding.objects.create(**fields | {"uid": uuid.uuid4(), "job_id": job.pk})


def pages_of(rig: Rig) -> Mapping[str, str]:
    """What each page and poll is called, and its address: the steps, one of each of what they open, and what is asked
    again and again."""
    plan, session = load_plan(rig), rig.sessions.first()
    found = {name: reverse(f"{name}:home") for name in ("rig", "instruments", "sync", "timing", "session", "handover")}
    found |= {
        "rig: ports": reverse("rig:ports"),
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
        run = session.passes.last()
        if run:
            found["poll: pass"] = reverse("session:running", args=[run.uid])
            found["poll: measuring"] = reverse("session:measuring", args=[run.uid])
    return found
