"""`python -m benchmarks.names`: 16 pasted lists of 125 names read and stored; the best of three, in s, as JSON."""

import json

import django
from django.core.management import call_command

django.setup()

from benchmarks.clocks import best_of  # noqa: E402
from hypotaxis.core.formats.patchfile import read_patch_file  # noqa: E402
from hypotaxis.records.models import PatchList as Row  # noqa: E402
from hypotaxis.records.patch_lists import store  # noqa: E402

WORDS = ("Salt", "Reed", "Low", "Tide", "Glass", "Bell", "Wide", "Mud", "Far", "Marsh")


def name(number: int) -> str:
    """A name of three words and its number, all different."""
    return " ".join(WORDS[number // 10**place % 10] for place in range(3)) + f" {number}"


def sixteen_lists() -> None:
    """Read and store 16 pasted lists of 125 names each."""
    for which in range(16):
        text = "\n".join(f"{number + 1:03d} {name(which * 125 + number)}" for number in range(125))
        _, found = read_patch_file(text.encode(), pasted=True)
        store(found.patches, f"List {which}", found.form)
    Row.objects.filter(name__startswith="List ").delete()


call_command("migrate", verbosity=0)
call_command("collectstatic", interactive=False, verbosity=0)
call_command("migrate", verbosity=0)
print(json.dumps({"import": best_of(sixteen_lists, 3)}))
