"""The leader's tempo, live: what listens to its clock for as long as it is wished, and gives way to whatever else wants
the studio.
"""

import time
from contextlib import closing

from django.db import transaction

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.session.passes import LedBy, leader_of
from hypotaxis.core.studio import RunSetup
from hypotaxis.core.sync.leader import Follower, TempoIn
from hypotaxis.core.sync.led import LedNow
from hypotaxis.records.jobs import Reporter, begin, hand_over, running, work
from hypotaxis.records.models import Job, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import Silence, is_wanted, studio_for

KIND = "tempo in"
LOOK_S = 0.3
"""How long it waits before it asks for the studio again."""


def start_listening(rig: Rig, plan) -> Job:
    """Listen to the leader's clock from now on; once is enough. Raises CannotSchedule where no box leads."""
    if leader_of(plan) is None:
        raise CannotSchedule("No box leads, or none of its clock reaches a port with the duty “clock from”.")
    with transaction.atomic():
        if there := _asked_for(rig):
            return there
        job = begin(KIND, about=str(rig.uid))
    hand_over(job)
    return job


def listening(rig: Rig) -> Job | None:
    """What follows the leader's clock now: a pass that it leads, or what listens."""
    led = Job.objects.filter(kind="pass", state=Job.RUNNING, run__session__rig=rig).exclude(result={}).first()
    return led or _asked_for(rig)


def _asked_for(rig: Rig) -> Job | None:
    """What listens and has not been asked to stop: that may take a moment to end."""
    return Job.objects.filter(kind=KIND, about=str(rig.uid), state__in=Job.UNFINISHED, cancel=False).first()


def tempo_in(job: Job) -> TempoIn:
    """The tempo that arrives."""
    if not job.result:
        return TempoIn()
    return from_json(LedNow, job.result).tempo if job.kind == "pass" else from_json(TempoIn, job.result)


@work(KIND, sounds=False)
def listen(job_uid: str) -> None:
    """The task: follow the leader's clock, and keep what is known of it, until it is stopped."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        while True:
            plan = load_plan(Rig.objects.get(uid=reporter.job.about))
            leader = leader_of(plan)
            if leader is None:
                return
            with studio_for(plan) as studio:
                _follow(studio, leader, reporter)
            # What waited has the studio by now; it is asked for again once that has ended.
            reporter.report(0.0)
            time.sleep(LOOK_S)


def _follow(studio, leader: LedBy, reporter: Reporter) -> None:
    source, follower = Silence(), Follower()
    with closing(studio.run(source, RunSetup())) as blocks:
        for block in blocks:
            for message in block.received:
                if message.port == leader.port and len(message.data) == 1:
                    follower.hear(message.time_ns, message.data[0])
            if reporter.due():
                now = follower.now(round((block.start + len(block.samples)) * 1e9 / studio.sample_rate))
                Job.objects.filter(uid=reporter.job.uid).update(result=to_json(now))
                reporter.report(0.0)
                source.over = source.over or is_wanted()
