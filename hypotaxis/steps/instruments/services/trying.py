"""Try-out: the worker plays a note and listens on every input."""

import math

import numpy as np
import soundfile
from huey.contrib.djhuey import db_task

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.midi.programs import change_messages, mix_messages
from hypotaxis.core.midi.shaping import in_words, shaped
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import return_sockets
from hypotaxis.core.session.gain import gain_advice
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.session.tryout import LOUDEST_CHORD, VOICES, explain, plan_tryout
from hypotaxis.core.units import db_to_factor, factor_to_db
from hypotaxis.records.audio import folder
from hypotaxis.records.jobs import running
from hypotaxis.records.models import Job, Rig
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import studio_for
from hypotaxis.steps.instruments.services.patches import on_the_wire, picked

KEPT = 20
QUIET_FRAMES = 1000
"""Frames at the beginning of a try-out in which nothing is played yet."""
FLOOR_DB = -120.0
"""What stands for silence where a number is stored (JSON has no infinity)."""


def start_tryout(rig: Rig, instrument_uid: str, wish: dict) -> Job:
    """Ask the worker for a try-out. wish: note, velocity, length_s, fast and chord as in the form."""
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
        chord = wish.get("chord")
        if chord:
            notes = [(note, 127) for note in _chord_of(plan, instrument)]
        else:
            notes = shaped(wish["note"], wish["velocity"], instrument.shaping)
        if not notes:
            how = in_words(instrument.shaping)
            raise CannotSchedule(f"Nothing was sent: note {wish['note']} is not let through ({how}).")
        calls = calls_of(instrument)
        tryout = plan_tryout(plan, instrument, notes=notes, length_s=wish["length_s"], calls=calls)
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
                    _show(job, listened, meters, instrument)
                    reporter.report((block.start + len(block.samples)) / frames)
            rate = studio.sample_rate
        _show(job, listened, meters, instrument)
        moved = [uid for (uid, _, _), meter in zip(listened, meters, strict=True) if meter.moved]
        verdict, causes = explain(plan, instrument, moved)
        if chord:
            job.result["gain"] = _gain(listened, meters, instrument, blocks)
        job.result |= {
            "verdict": verdict,
            "causes": causes,
            "home": any(uid in moved for uid in instrument.inputs),
        }
        job.save(update_fields=["result"])
        order = [uid for uid, _, _ in listened]
        columns = [order.index(uid) for uid in instrument.returns if uid in order]
        if columns:
            sound = np.concatenate(blocks)[:, columns] * db_to_factor(instrument.home_trim_db)
            soundfile.write(sound_path(job_uid), np.clip(sound, -1, 1), rate, subtype="PCM_24")


def calls_of(instrument: Instrument) -> list[tuple[str, bytes]]:
    """The messages that call up the patches that are picked for an instrument's parts, with their level and pan; each
    with the port (socket uid) it leaves by."""
    calls = []
    for seat, part in zip(instrument.seats, (None, *instrument.parts), strict=True):
        patch = picked(instrument, seat.part)
        if patch:
            calls += change_messages(seat.channel, on_the_wire(patch), instrument.bank_form)
        calls += mix_messages(seat.channel, part.level, part.pan) if part else []
        calls = [(seat.send, one) if isinstance(one, bytes) else one for one in calls]
    return calls


def _chord_of(plan: Plan, instrument: Instrument) -> tuple[int, ...]:
    """The loudest that an instrument is played: a chord, or of a drum machine all its voices."""
    box = plan.rig.box(instrument.box)
    return tuple(VOICES.values()) if box and box.shape == "drum-machine" else LOUDEST_CHORD


def _gain(listened: list, meters: list[InputMeter], instrument: Instrument, blocks: list[np.ndarray]) -> str:
    """What the loudest chord says about the gain: the loudest return, against the noise before the chord."""
    columns = [place for place, (uid, _, _) in enumerate(listened) if uid in instrument.returns]
    if not columns:
        return ""
    loudest = max(columns, key=lambda column: meters[column].peak_db)
    quiet = blocks[0][:QUIET_FRAMES, loudest]
    floor = factor_to_db(float(np.sqrt(np.mean(quiet.astype(np.float64) ** 2))))
    return gain_advice(meters[loudest].peak_db, floor, sum(meters[column].clips for column in columns))


def _inputs(plan: Plan) -> list[tuple[str, str, str]]:
    """(socket uid, system name, name) of every input of the first interface."""
    sockets = return_sockets(plan.rig)
    first = sockets[0][0] if sockets else ""
    return [(socket.uid, socket.system_name, socket.name) for box, socket in sockets if box == first]


def _show(job: Job, listened: list, meters: list[InputMeter], instrument: Instrument) -> None:
    named = {uid: way.name for way in instrument.further for uid in way.inputs}
    job.result |= {
        "inputs": [
            {
                "name": f"{name}, {named[uid]}" if named.get(uid) else name,
                "level": _finite(meter.level_db),
                "peak": _finite(meter.peak_db),
                "clips": meter.clips,
                "moved": meter.moved,
                "mine": uid in instrument.inputs,
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
