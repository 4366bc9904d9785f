"""`python -m benchmarks.pages SIZE`: what each page and poll costs the server, as JSON.

Name → [ms of computing right after a box of the rig has changed, ms when nothing has changed, queries, kB]. SIZE:
"demo", "100 takes" or "500 takes" (and as many soundings), or a number of boxes.
"""

import json
import os
import sys
import time

os.environ["HYPOTAXIS_IMMEDIATE"] = "1"

import django
from django.core.management import call_command

django.setup()

from django.db import connection  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import CaptureQueriesContext  # noqa: E402

from hypotaxis.records.import_rig import import_rig  # noqa: E402
from hypotaxis.records.models import Rig  # noqa: E402
from hypotaxis.web import wsgi  # noqa: E402
from tests.many import as_many, pages_of, recorded_demo  # noqa: E402
from tests.rooms import LARGE, large_room  # noqa: E402

RUNS = 5


def made(size: str) -> Rig:
    """A rig of that size, in an empty data folder."""
    call_command("migrate", verbosity=0)
    call_command("collectstatic", interactive=False, verbosity=0)
    if size.isdigit():
        return import_rig(large_room(int(size) / sum(many for _, many in LARGE)))
    session = recorded_demo()
    if size.endswith("takes"):
        many = int(size.split()[0])
        as_many(session, many, many)
    return session.rig


def costs(rig: Rig) -> dict[str, list[float]]:
    """Of each page."""
    client, box = Client(headers={"host": "127.0.0.1"}), rig.boxes.last()
    assert wsgi.application, "as the server has it"
    found = {}
    for name, address in pages_of(rig).items():
        answer = client.get(address)
        assert answer.status_code == 200, (name, answer.status_code)
        after = []
        for run in range(RUNS):
            rig.boxes.filter(pk=box.pk).update(note=f"note {run}")
            after.append(seconds(client, address))
        warm = min(seconds(client, address) for _ in range(RUNS))
        with CaptureQueriesContext(connection) as queries:
            answer = client.get(address)
        found[name] = [min(after) * 1000, warm * 1000, len(queries), len(answer.content) / 1000]
    return found


def seconds(client: Client, address: str) -> float:
    """Of computing."""
    began = time.process_time()
    client.get(address)
    return time.process_time() - began


if __name__ == "__main__":
    print(json.dumps(costs(made(sys.argv[1]))))
