"""Panel settings against what was heard: by the line check, by proofs of the clock, and by one key press."""

from contextlib import closing
from dataclasses import dataclass
from datetime import date

from django.db import transaction

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.linecheck.panel import Found, HeardSetting, heard_settings
from hypotaxis.core.midi.messages import struck
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.studio import Block, RunSetup, Written
from hypotaxis.records.jobs import ask, newest, running, under_way, work
from hypotaxis.records.models import Job, Rig, Tick
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import studio_for
from hypotaxis.steps.rig.checking import LineCheck

KIND = "local control"
LISTEN_S, RINGS_S = 15.0, 0.8
"""So long a key is waited for, and so long is listened behind it."""


@dataclass(frozen=True)
class KeyHeard:
    """What came of the request to press one key of a box (uid). came: its note came in; sounded: its own return moved
    though nothing was sent to it."""

    box: str
    came: bool = False
    sounded: bool = False


def heard(rig: Rig, plan: Plan) -> dict[str, HeardSetting]:
    """What was heard of the settings on the boxes, by their keys; the newest word counts."""
    check = LineCheck(rig, plan)
    days = {one.key: one.day for one in check.checked.lines}
    verdicts = [(one, days[key]) for key, one in check.verdicts.items()]
    channels = {one.key: one.answers_on for one in check.checked.lines if one.answers_on}
    omni = {one.box: Found(one.on, one.told, one.day) for one in check.checked.omni}
    return heard_settings(plan, verdicts, channels=channels, omni=omni, local=_local(rig), clock=_clock(rig))


def _clock(rig: Rig) -> dict[str, Found]:
    """What the newest proof of each box says of its clock."""
    found: dict[str, Found] = {}
    for proof in rig.proofs.select_related("job").order_by("-made"):
        if proof.box_uid in found or not proof.job.finished:
            continue
        if proof.proved:
            found[proof.box_uid] = Found(True, "It followed the clock in a proof.", proof.made.isoformat())
        elif proof.own_time:
            told = "In a proof it played, and not in the clock's time: it goes by its own."
            found[proof.box_uid] = Found(False, told, proof.made.isoformat())
    return found


def _local(rig: Rig) -> dict[str, Found]:
    found: dict[str, Found] = {}
    for job in Job.objects.filter(kind=KIND, about=str(rig.uid), state=Job.DONE).order_by("-made"):
        one = from_json(KeyHeard, job.result) if job.result else None
        if one and one.came and one.box not in found:
            did = "it sounded though nothing was sent" if one.sounded else "it stayed silent"
            told = f"A key of it was pressed, and {did}."
            found[one.box] = Found(one.sounded, told, job.made.isoformat())
    return found


# --- one key press


def start_local(rig: Rig, plan: Plan, box: str, *, token: str = "") -> Job:
    """Let the worker wait for one key of a box. Raises CannotSchedule."""
    if before := under_way(KIND, str(rig.uid)):
        return before
    if not any(end.box.uid == box for end in keys_in(plan.rig)):
        raise CannotSchedule(
            "No port of this box is played from, so its keys cannot be heard. Say so in the list of ports."
        )
    return ask(KIND, about=str(rig.uid), request={"box": box}, token=token)


def waits_for_key(rig: Rig) -> Job | None:
    """What waits for a key, or the last that did."""
    return newest(KIND, str(rig.uid))


@work(KIND)
def listen_for_key(job_uid: str) -> None:
    """The task: wait for a key, and hear whether the box sounds by itself."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        plan, box = load_plan(Rig.objects.get(uid=reporter.job.about)), reporter.job.request["box"]
        ports = {end.socket.system_name for end in keys_in(plan.rig) if end.box.uid == box}
        homes = [uid for one in plan.instruments_of(box) for uid in one.inputs]
        with studio_for(plan) as studio:
            there = set(studio.inputs())
            names = [found[1].system_name for uid in homes if (found := plan.rig.find(uid))]
            names = list(dict.fromkeys(name for name in names if name in there))
            heard = _Listening(ports, names, studio.sample_rate)
            frames = round(LISTEN_S * studio.sample_rate)
            with closing(studio.run(Written(), RunSetup(inputs=tuple(names), frames=frames))) as blocks:
                for block in blocks:
                    if heard.over(block):
                        break
                    reporter.tell((block.start + len(block.samples)) / frames)
        if not heard.came:
            raise CannotSchedule("No key came in. Press one while it is waited for; look whether its port is there.")
        reporter.job.result = to_json(KeyHeard(box, True, any(meter.moved for meter in heard.meters)))
        reporter.job.save(update_fields=["result"])


class _Listening:
    """What comes in of a key, and of sound behind it."""

    def __init__(self, ports: set[str], names: list[str], rate: int) -> None:
        self.ports, self._rest = ports, round(RINGS_S * rate)
        self.meters = [InputMeter(name) for name in names]
        self.came = False

    def over(self, block: Block) -> bool:
        """Take a block in; whether enough was heard."""
        for column, meter in enumerate(self.meters):
            meter.feed(block.samples[:, column])
        self.came = self.came or any(struck(one.data) is not None for one in block.received if one.port in self.ports)
        self._rest -= len(block.samples) if self.came else 0
        return self._rest <= 0


# --- ticked by what was heard


@transaction.atomic
def tick_heard(rig: Rig, plan: Plan) -> str:
    """Tick what was heard to be as planned, with the day it was heard, and untick what was heard otherwise; what was
    done, in words."""
    rows = heard(rig, plan)
    ticked = dict(rig.ticks.filter(key__in=rows).values_list("key", "day"))
    holds = {key: one.on or date.today() for key, one in rows.items() if one.holds}
    gone = [key for key, one in rows.items() if not one.holds and key in ticked]
    rig.ticks.filter(key__in=[*holds, *gone]).delete()
    # What was ticked later than it was heard keeps the person's own day.
    Tick.objects.bulk_create([Tick(rig=rig, key=key, day=max(day, ticked.get(key, day))) for key, day in holds.items()])
    return f"{len(holds)} ticked as heard, {len(gone)} unticked."
