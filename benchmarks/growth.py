"""`python -m benchmarks.growth`: what grows with a studio, at three sizes, beside the least that it costs, as JSON."""

import json
import os
import sqlite3
import subprocess
import sys
import tempfile
from contextlib import closing
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import django
import numpy as np
from django.core.management import call_command

django.setup()

from django.conf import settings  # noqa: E402
from django.test import Client  # noqa: E402

from benchmarks.clocks import computing  # noqa: E402
from hypotaxis.core.drawing.peaks import STRETCH, columns_of  # noqa: E402
from hypotaxis.core.drawing.strips import Span, bars_path, note_boxes  # noqa: E402
from hypotaxis.core.findings.rules import check  # noqa: E402
from hypotaxis.core.formats.rigfile import read_rig_file, write_rig_file  # noqa: E402
from hypotaxis.core.patches.values import Bank, Patch, PatchList  # noqa: E402
from hypotaxis.records.import_rig import import_rig  # noqa: E402
from hypotaxis.records.patch_lists import store  # noqa: E402
from tests.rooms import large_room  # noqa: E402

ROOT = Path(__file__).parents[1]
WORDS = ("Salt", "Reed", "Low", "Tide", "Glass", "Bell", "Wide", "Mud", "Far", "Marsh")
FOUR_HOURS = 4 * 3600 * 48_000


def rigs() -> dict:
    """Rules, reading and storing of rigs, by boxes."""
    found = {}
    for boxes in (100, 200, 400):
        plan = large_room(boxes / 200)
        text = write_rig_file(plan)
        rules = computing(lambda plan=plan: check(replace(plan, rig=replace(plan.rig))))
        read = computing(lambda text=text: read_rig_file(text))
        bare = computing(lambda text=text: json.loads(text))
        stored = computing(lambda plan=plan: import_rig(plan), 1)
        found[boxes] = {"rules": rules, "read": read, "bare": bare, "stored": stored}
    return found


def names() -> dict:
    """A search among names, beside the bare search of the database."""
    found, client = {}, Client(headers={"host": "127.0.0.1", "x-fragment": "1"})
    for count in (1_000, 10_000, 100_000):
        banks = tuple(
            Bank(name=f"Bank {bank + 1}", msb=bank % 128, lsb=bank // 128) for bank in range(count // 128 + 1)
        )
        patches = tuple(
            Patch(
                name=" ".join(WORDS[n // 10**place % 10] for place in range(3)) + f" {n}",
                program=n % 128,
                number=str(n % 128 + 1),
                bank=n // 128,
            )
            for n in range(count)
        )
        kept = store(PatchList(name=f"{count}", banks=banks, patches=patches), f"{count}", "1")
        address, asked = f"/instruments/patches/{kept.uid}/", ("b", "glass tide", "zither")

        def search(words: str, address: str = address) -> None:
            client.get(address, {"q": words})

        found[count] = {"page": max(computing(lambda words=words, search=search: search(words)) for words in asked)}
    return found


def drawing() -> dict:
    """A take of four hours at any zoom, and a strip of many notes."""
    draw = np.random.default_rng(1)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "peaks.npy"
        np.save(path, draw.uniform(-1, 1, (FOUR_HOURS // STRETCH, 2)).astype("f4"))
        zooms = {}
        for zoom in (1, 30, 1000, 30_000):
            edges = np.linspace(0, FOUR_HOURS / zoom, 601)
            zooms[zoom] = computing(lambda edges=edges: columns_of(np.load(path, mmap_mode="r"), edges))
        bare = computing(lambda: np.load(path).min(axis=0))
    strips = {}
    for count in (1_000, 10_000, 100_000):
        starts = np.sort(draw.uniform(0, 1e9, count))
        notes = (starts, starts + 48_000, draw.integers(36, 84, count))
        strips[count] = computing(lambda notes=notes: bars_path(note_boxes(*notes, Span(0, 1e9, 1000), 32)))
    return {"zooms": zooms, "bare": bare, "strips": strips}


def starts() -> dict:
    """Commands that need no data, beside Python with Django alone."""

    def seconds(*words: str) -> float:
        command = [sys.executable, *words]

        def run() -> None:
            subprocess.run(command, cwd=ROOT, stdout=subprocess.DEVNULL, check=True)

        began = [os.times().children_user]
        for _ in range(3):
            run()
            began.append(os.times().children_user)
        return min(after - before for before, after in pairwise(began))

    found = {name: seconds("-m", "hypotaxis", name, "--help") for name in ("align", "wire", "rigcheck", "misstep")}
    return found | {
        "django": seconds("-c", "import django.core.management.base"),
        "numpy": seconds("-c", "import numpy"),
    }


def bare_search(database: str) -> float:
    """Of 100,000 names in the database itself."""
    with closing(sqlite3.connect(database)) as base:
        sql = "SELECT name FROM records_patch WHERE name LIKE '%glass%' AND name LIKE '%tide%' LIMIT 200"
        return computing(lambda: base.execute(sql).fetchall())


if __name__ == "__main__":
    call_command("migrate", verbosity=0)
    call_command("collectstatic", interactive=False, verbosity=0)
    told = {"rigs": rigs(), "names": names(), "drawing": drawing(), "starts": starts()}
    told["bare search"] = bare_search(str(settings.DATABASES["default"]["NAME"]))
    print(json.dumps(told))
