"""`python -m benchmarks.page`: the rig page of a large rig, as the server answers it; the best of a few, in seconds."""

import time

import django
from django.core.management import call_command

django.setup()

from django.test import Client  # noqa: E402

from hypotaxis.records.import_rig import import_rig  # noqa: E402
from tests.rooms import large_room  # noqa: E402

call_command("migrate", verbosity=0)
call_command("collectstatic", interactive=False, verbosity=0)
import_rig(large_room())
client = Client(headers={"host": "127.0.0.1"})
times = []
for _ in range(8):
    began = time.perf_counter()
    answer = client.get("/rig/")
    assert answer.status_code == 200
    times.append(time.perf_counter() - began)
print(min(times))
