"""`python -m benchmarks.lattice`: the Sync page of twenty clocked boxes and 64 times round, the best of a few, in s."""

import time
from dataclasses import replace

import django
from django.core.management import call_command

django.setup()

from django.test import Client  # noqa: E402

from hypotaxis.core.formats.smf import write_smf  # noqa: E402
from hypotaxis.core.rig.change import add_box, set_sockets  # noqa: E402
from hypotaxis.core.rig.ports import ports_of  # noqa: E402
from hypotaxis.core.sync.following import clocked  # noqa: E402
from hypotaxis.core.sync.values import Following, LoopSetting  # noqa: E402
from hypotaxis.demo.compose import in_step, saltmarsh_room, tide_tables  # noqa: E402
from hypotaxis.records.import_rig import import_rig  # noqa: E402
from hypotaxis.steps.session.services.importing import import_score  # noqa: E402
from hypotaxis.steps.sync.services import set_loop  # noqa: E402

BOXES = 20

call_command("migrate", verbosity=0)
call_command("collectstatic", interactive=False, verbosity=0)
plan = in_step(saltmarsh_room())
while len(heard := list(clocked(plan))) < BOXES:
    plan, box = add_box(plan, shape="desktop-synth", name=f"Tern {len(heard)}")
    port = next(end.socket.uid for end in ports_of(plan.rig, "out") if end.box.uid == box.uid)
    plan = set_sockets(plan, {port: {"clock": True}})
boxes = [
    replace(box, following=Following(plays="pattern", length_ticks=96 * (1 + place % 5))) if box.uid in heard else box
    for place, box in enumerate(plan.rig.boxes)
]
rig = import_rig(replace(plan, rig=replace(plan.rig, boxes=tuple(boxes))))
session = import_score(rig, write_smf(tide_tables()), name="Tide Tables")
set_loop(rig.sessions.get(), LoopSetting(first_bar=3, bars=6, times=64))
client = Client(headers={"host": "127.0.0.1"})
times = []
for _ in range(8):
    began = time.perf_counter()
    answer = client.get("/sync/")
    assert answer.status_code == 200 and answer.content.count(b'class="lattice-row"') > BOXES - 3
    times.append(time.perf_counter() - began)
print(min(times))
