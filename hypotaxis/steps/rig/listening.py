"""Listening to the studio from its sheet: levels of every input, what comes in by each port, a test note or tone."""

from collections import defaultdict
from contextlib import closing

from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.midi.messages import REAL_TIME
from hypotaxis.core.playing.listening import LISTEN_S, EndHeard, ListenWish, StudioHeard, test_signals
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.studio import RunSetup
from hypotaxis.core.sync.leader import Follower
from hypotaxis.core.units import stored_db
from hypotaxis.records.jobs import begin, hand_over, running, work
from hypotaxis.records.models import Job, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import studio_for

HOLD_S = 3.0


def start_listening(rig: Rig, wish: ListenWish) -> Job:
    """Let the worker listen for a while."""
    job = begin("listening", about=str(rig.uid), request=to_json(wish))
    hand_over(job)
    return job


def heard_of(job: Job) -> StudioHeard:
    """What has come in so far."""
    return from_json(StudioHeard, job.result) if job.result else StudioHeard()


@work("listening")
def listen(job_uid: str) -> None:
    """The task: listen on every input and port, and keep what is heard."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        job = reporter.job
        wish = from_json(ListenWish, job.request)
        last: dict[str, str] = {}
        leaders: dict[str, Follower] = defaultdict(Follower)
        now_ns = 0
        with studio_for(load_plan(Rig.objects.get(uid=job.about))) as studio:
            rate, inputs = studio.sample_rate, tuple(studio.inputs())
            meters = [InputMeter(name, hold_frames=round(HOLD_S * rate)) for name in inputs]
            asked = RunSetup(inputs=inputs, outputs=(wish.tone,) if wish.tone else (), frames=round(LISTEN_S * rate))
            with closing(studio.run(test_signals(wish, rate), asked)) as run:
                for block in run:
                    for column, meter in enumerate(meters):
                        meter.feed(block.samples[:, column])
                    for message in block.received:
                        if len(message.data) == 1 and message.data[0] >= REAL_TIME:
                            leaders[message.port].hear(message.time_ns, message.data[0])
                        else:
                            last[message.port] = message.data.hex(" ").upper()
                    now_ns = round((block.start + len(block.samples)) * 1e9 / rate)
                    if reporter.due():
                        job.result = to_json(_heard(meters, last, leaders, now_ns))
                        job.save(update_fields=["result"])
                        reporter.report((block.start + len(block.samples)) / asked.frames)
        job.result = to_json(_heard(meters, last, leaders, now_ns))
        job.save(update_fields=["result"])


def _heard(meters: list[InputMeter], last: dict[str, str], leaders: dict[str, Follower], now_ns: int) -> StudioHeard:
    ends = (EndHeard(name=one.name, level=_stored(one.level_db), peak=_stored(one.held_db)) for one in meters)
    tempos = ((port, one.now(now_ns).told) for port, one in sorted(leaders.items()))
    return StudioHeard(inputs=tuple(ends), received=tuple(sorted(last.items())), tempos=tuple(tempos))


def _stored(level_db: float) -> float:
    return round(stored_db(level_db), 1)
