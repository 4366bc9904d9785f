"""`python -m benchmarks.pages SIZE`: what each page and poll costs the server, as JSON.

Name → [ms of computing right after a box of the rig has changed, ms when nothing has changed, queries, kB]. SIZE:
"demo", "100 takes" or "500 takes" (and as many soundings), or a number of boxes, with a track and a take for each of
their instruments. What is polled is asked as the page does, which tells what it holds already; of the line check one
line more is heard each time. The sheet of ports is asked once more on a studio that reports them all. Answers come
packed, as browsers ask for them.
"""

import json
import os
import sys
import time
from collections.abc import Callable
from itertools import count

os.environ["HYPOTAXIS_IMMEDIATE"] = "1"

import django
from django.core.management import call_command

django.setup()

from django.db import connection  # noqa: E402
from django.http import HttpResponse  # noqa: E402
from django.test import Client  # noqa: E402
from django.test.utils import CaptureQueriesContext  # noqa: E402
from django.urls import reverse  # noqa: E402

from hypotaxis.records.import_rig import import_rig  # noqa: E402
from hypotaxis.records.models import Rig  # noqa: E402
from hypotaxis.web import wsgi  # noqa: E402
from tests.many import all_reported, as_large, as_many, half_checked, pages_of, recorded_demo  # noqa: E402
from tests.rooms import LARGE, large_room  # noqa: E402

RUNS = 5


def made(size: str) -> Rig:
    """A rig of that size with a recorded session, in an empty data folder."""
    call_command("migrate", verbosity=0)
    call_command("collectstatic", interactive=False, verbosity=0)
    session = recorded_demo()
    if size.isdigit():
        rig = import_rig(large_room(int(size) / sum(many for _, many in LARGE)))
        as_large(session, rig)
        return rig
    if size.endswith("takes"):
        many = int(size.split()[0])
        as_many(session, many, many)
    return session.rig


def costs(rig: Rig) -> dict[str, list[float]]:
    """Of each page."""
    client, box = Client(headers={"host": "127.0.0.1", "accept-encoding": "gzip"}), rig.boxes.last()
    client.cookies["hypotaxis-rig"] = str(rig.uid)
    assert wsgi.application, "as the server has it"
    notes = (f"note {number}" for number in count())

    def changed() -> None:
        rig.boxes.filter(pk=box.pk).update(note=next(notes))

    found = {name: _costs(client, address, changed) for name, address in pages_of(rig).items()}
    goes_on = half_checked(rig)
    found |= {"poll: line check": _costs(client, reverse("rig:check-rows"), goes_on)}
    all_reported(rig)
    client.post(reverse("rig:propose"))
    return found | {"rig: ports, all reported": _costs(client, reverse("rig:ports"), changed)}


def _costs(client: Client, address: str, change: Callable[[], None]) -> list[float]:
    """As the page asks for it, which tells what it holds already."""
    answer = client.get(address)
    assert answer.status_code == 200, (address, answer.status_code)
    held, after = answer.get("X-State", ""), []
    for _ in range(RUNS):
        change()
        spent, answer = seconds(client, address, held)
        held, size = answer.get("X-State", ""), len(answer.content)
        after.append(spent)
    warm = min(seconds(client, address, held)[0] for _ in range(RUNS))
    with CaptureQueriesContext(connection) as queries:
        client.get(address, headers={"X-State": held})
    return [min(after) * 1000, warm * 1000, len(queries), size / 1000]


def seconds(client: Client, address: str, held: str) -> tuple[float, HttpResponse]:
    """Of computing, and the answer."""
    began = time.process_time()
    answer = client.get(address, headers={"X-State": held})
    return time.process_time() - began, answer


if __name__ == "__main__":
    print(json.dumps(costs(made(sys.argv[1]))))
