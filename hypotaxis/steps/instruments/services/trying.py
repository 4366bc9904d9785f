"""Try-out: the worker plays a note and listens on every input."""

import math

import numpy as np
import soundfile
from huey.contrib.djhuey import db_task

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import return_sockets
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.session.tryout import explain, plan_tryout
from hypotaxis.core.units import db_to_factor
from hypotaxis.records.audio import folder
from hypotaxis.records.jobs import running
from hypotaxis.records.models import Job, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import studio_for

KEPT = 20
FLOOR_DB = -120.0
"""What stands for silence where a number is stored (JSON has no infinity)."""


def start_tryout(rig: Rig, instrument_uid: str, wish: dict) -> Job:
    """Ask the worker for a try-out. wish: note, velocity, length_s, fast and program as in the form."""
    job = Job.objects.create(kind="try-out", about=instrument_uid, result={"wish": wish})
    _forget_old()
    play(str(job.uid), str(rig.uid))
    return job


def sound_path(job_uid: str):
    """Where the sound of a try-out is kept."""
    return folder("tryouts") / f"{job_uid}.wav"


@db_task()
def play(job_uid: str, rig_uid: str) -> None:
    """The task: play, listen, keep what came home."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        job = reporter.job
        plan = load_plan(Rig.objects.get(uid=rig_uid))
        instrument = plan.instrument(job.about)
        wish = job.result["wish"]
        chosen = {name: wish[name] for name in ("note", "velocity", "length_s")}
        tryout = plan_tryout(plan, instrument, **chosen, program=wish.get("program"))
        job.result |= {
            "send": plan.rig.socket_text(instrument.send),
            "bytes": [" ".join(f"{byte:02X}" for byte in message.data) for message in tryout.messages],
        }
        listened = _inputs(plan)
        meters = [InputMeter(name) for _, _, name in listened]
        blocks = []
        with studio_for(plan) as studio:
            frames = round(tryout.seconds * studio.sample_rate)
            names = [system for _, system, _ in listened]
            for block in studio.run(tryout.messages, names, frames=frames, fast=wish["fast"]):
                blocks.append(block.samples)
                for column, meter in enumerate(meters):
                    meter.feed(block.samples[:, column])
                if reporter.due():
                    _show(job, listened, meters, instrument.returns)
                    reporter.report((block.start + len(block.samples)) / frames)
            rate = studio.sample_rate
        _show(job, listened, meters, instrument.returns)
        moved = [uid for (uid, _, _), meter in zip(listened, meters, strict=True) if meter.moved]
        verdict, causes = explain(plan, instrument, moved)
        job.result |= {
            "verdict": verdict,
            "causes": causes,
            "home": any(uid in moved for uid in instrument.returns),
        }
        job.save(update_fields=["result"])
        order = [uid for uid, _, _ in listened]
        columns = [order.index(uid) for uid in instrument.returns if uid in order]
        if columns:
            sound = np.concatenate(blocks)[:, columns] * db_to_factor(instrument.home_trim_db)
            soundfile.write(sound_path(job_uid), np.clip(sound, -1, 1), rate, subtype="PCM_24")


def _inputs(plan: Plan) -> list[tuple[str, str, str]]:
    """(socket uid, system name, name) of every input of the first interface."""
    sockets = return_sockets(plan.rig)
    first = sockets[0][0] if sockets else ""
    return [(socket.uid, socket.system_name, socket.name) for box, socket in sockets if box == first]


def _show(job: Job, listened: list, meters: list[InputMeter], returns: tuple[str, ...]) -> None:
    job.result |= {
        "inputs": [
            {
                "name": name,
                "level": _finite(meter.level_db),
                "peak": _finite(meter.peak_db),
                "clips": meter.clips,
                "moved": meter.moved,
                "mine": uid in returns,
            }
            for (uid, _, name), meter in zip(listened, meters, strict=True)
        ]
    }
    job.save(update_fields=["result"])


def _finite(level_db: float) -> float:
    return max(FLOOR_DB, level_db) if level_db != -math.inf else FLOOR_DB


def _forget_old() -> None:
    old = Job.objects.filter(kind="try-out").order_by("-made")[KEPT:]
    for job in old:
        sound_path(str(job.uid)).unlink(missing_ok=True)
    Job.objects.filter(uid__in=[job.uid for job in old]).delete()
