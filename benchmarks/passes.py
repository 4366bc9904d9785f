"""`python -m benchmarks.passes`: what a pass costs, as JSON: an hour of the stand-in's 8 inputs (seconds of computing
for the second and the last minute but one, peak of memory), and from the end of a ten-minute pass to placed takes."""

import json
import os
import resource
import time
from unittest import mock

os.environ["HYPOTAXIS_IMMEDIATE"] = "1"

import django
import numpy as np
from django.core.management import call_command

django.setup()

from benchmarks.clocks import computing  # noqa: E402
from hypotaxis.core.formats.smf import write_smf  # noqa: E402
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls  # noqa: E402
from hypotaxis.core.session.tempo import TempoMap  # noqa: E402
from hypotaxis.core.studio import Message, RunSetup, Written  # noqa: E402
from hypotaxis.core.timing.recording import FileRecording  # noqa: E402
from hypotaxis.records import audio  # noqa: E402
from hypotaxis.records.models import Rig, Take  # noqa: E402
from hypotaxis.records.plan import load_plan  # noqa: E402
from hypotaxis.standin.desk import Desk  # noqa: E402
from hypotaxis.steps.session.services import recording  # noqa: E402
from hypotaxis.steps.session.services.importing import import_score  # noqa: E402

HOUR, MINUTE, RATE = 3600, 60, 48_000
TICKS_A_SECOND, APART = 960, (300, 700)
PLAYED = {"Sedge upper": 60, "Bittern": 40, "Reedbed": 55, "Alder kit": 38, "Withy": 48}


def an_hour(plan) -> dict:
    """Notes every 60 ms over all ports, all inputs recorded."""
    desk = Desk(plan.rig)
    outs = [port.system_name for port in desk.ports() if port.direction == "out"]
    messages = []
    for number, at in enumerate(np.arange(0.5, HOUR - 1, 0.06)):
        port, channel, note = outs[number % len(outs)], number % 12, 36 + number % 30
        messages.append(Message(int(at * 1e9), port, bytes([0x90 | channel, note, 100])))
        messages.append(Message(int((at + 0.2) * 1e9), port, bytes([0x80 | channel, note, 64])))
    messages.sort(key=lambda message: message.time_ns)
    began, minutes, minute = time.process_time(), [], 1
    for block in desk.run(Written(messages), RunSetup(inputs=desk.inputs()[:8], frames=HOUR * RATE, fast=True)):
        if block.start + len(block.samples) >= minute * MINUTE * RATE:
            minutes.append(time.process_time() - began)
            began, minute = time.process_time(), minute + 1
    peak_mb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return {"first": minutes[1], "last": minutes[-2], "all": sum(minutes), "peak_mb": peak_mb}


def placed_after(rig: Rig) -> dict:
    """An hour's pass of five instruments by all inputs, faster than real time: the seconds from its end until its takes
    are there, and until they are placed."""
    notes_an_hour = int(HOUR * TICKS_A_SECOND / np.mean(APART))
    ticks = np.cumsum(np.random.default_rng(1).integers(*APART, notes_an_hour))
    parts = []
    for channel, (name, note) in enumerate(PLAYED.items(), start=1):
        notes = np.zeros(len(ticks), dtype=NOTE)
        notes["tick"], notes["duration"], notes["note"], notes["velocity"] = ticks, 120, note, 100
        parts.append(ScorePart(name, channel, notes, no_controls()))
    score = Score(TempoMap(480, ((0, 500_000),), ((0, 4, 4),)), tuple(parts), int(ticks[-1]) + 480)
    session, _ = import_score(rig, write_smf(score), name="An hour")
    session.tracks.update(armed=True)
    at = {}

    def noted(name, function, *, behind: bool):
        def run(*given):
            if not behind:
                at[name] = time.monotonic()
            try:
                return function(*given)
            finally:
                if behind:
                    at[name] = time.monotonic()

        return run

    with (
        mock.patch.object(recording, "keep_takes", noted("end", recording.keep_takes, behind=False)),
        mock.patch.object(recording, "_make_takes", noted("made", recording._make_takes, behind=True)),
    ):
        bars = {"first_bar": 1, "last_bar": int(ticks[-1]) // (4 * 480)}
        began = time.monotonic()
        recording.start_pass(session, load_plan(rig), **bars, fast=True, place_takes=True)
        at["placed"] = time.monotonic()
    takes = list(Take.objects.filter(session=session))
    path = audio.take_path(takes[0].file)
    bare = computing(lambda: [None for _ in FileRecording(path).blocks(1 << 17)])
    seconds = sum(take.frames * take.channels / RATE for take in takes)
    placed = sum(take.placement is not None for take in takes)
    found = {name: at[name] - at["end"] for name in ("made", "placed")} | {"recorded": at["end"] - began}
    peak_mb = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    return found | {"takes": len(takes), "stand": placed, "seconds": seconds, "bare": bare, "child_mb": peak_mb}


if __name__ == "__main__":
    call_command("migrate", verbosity=0)
    call_command("loaddemo", stdout=open(os.devnull, "w"))  # noqa: SIM115 - ends with the process
    ready = Rig.objects.get()
    found = {"pass": placed_after(ready)}
    print(json.dumps(found | {"hour": an_hour(load_plan(ready))}))
