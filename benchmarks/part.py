"""`python -m benchmarks.part`: a part of 50,000 notes, opened and one note moved, as the server answers; the
best of a few each, in s, beside the same of 5,000."""

import json
import time

import django
from django.core.management import call_command

django.setup()

import numpy as np  # noqa: E402
from django.test import Client  # noqa: E402

from hypotaxis.core.session.arrange import empty  # noqa: E402
from hypotaxis.core.session.score import NOTE, in_order  # noqa: E402
from hypotaxis.demo.compose import saltmarsh_room  # noqa: E402
from hypotaxis.records.import_rig import import_rig  # noqa: E402
from hypotaxis.records.plan import load_plan  # noqa: E402
from hypotaxis.steps.session.services.arranging import new_session  # noqa: E402

SIZES = (5_000, 50_000)

call_command("migrate", verbosity=0)
call_command("collectstatic", interactive=False, verbosity=0)
rig = import_rig(saltmarsh_room())
session = new_session(rig, load_plan(rig), empty(bpm=120, beats=4, unit=4, bars=1000), name="Long", tracks=True)
track = session.tracks.get(name="Sedge upper")
client = Client(headers={"host": "127.0.0.1"})
page = f"/session/part/{track.uid}/notes/"


def best(what) -> float:
    """The shortest of a few, in seconds."""
    times = []
    for _ in range(8):
        began = time.perf_counter()
        assert what().status_code == 200
        times.append(time.perf_counter() - began)
    return min(times)


def opened():
    """The first bars."""
    return client.get(page)


def moved():
    """A note up and, the next time, down again."""
    moved.up = -getattr(moved, "up", -1)
    asked = {"to": "move", "chosen": "0", "stamp": moved.stamp, "steps": "0", "up": str(moved.up)}
    answer = client.post(page, asked, headers={"X-Soft": "1"})
    moved.stamp = answer.content.decode().split('data-stamp="')[1].split('"')[0]
    return answer


results = {}
for size in SIZES:
    rng = np.random.default_rng(size)
    notes = np.zeros(size, dtype=NOTE)
    notes["tick"], notes["duration"] = rng.integers(0, 1000 * 1920 - 200, size), 100
    notes["note"], notes["velocity"] = rng.integers(30, 90, size), rng.integers(1, 127, size)
    track.notes = in_order(notes).tobytes()
    track.save()
    moved.stamp = opened().content.decode().split('data-stamp="')[1].split('"')[0]
    results[size] = {"opened": best(opened), "moved": best(moved)}
print(json.dumps(results))
