"""The command line: `hypotaxis`, `python -m hypotaxis`, and `python manage.py` in a checkout.

`hypotaxis start` runs the program, `hypotaxis demo` the same with its demo data; the other commands are Django's and
our own, `hypotaxis help` lists them.
"""

import os
import sys
from collections.abc import Sequence
from importlib import import_module

from hypotaxis.web.folder import Unusable

SHORT = {"demo": ["start", "--demo"]}
"""Commands that stand for others."""
ALONE = {
    "align": "timing",
    "wire": "timing",
    "rigcheck": "rig",
    "patchlist": "instruments",
    "clock": "sync",
    "misstep": "sync",
}
"""Commands that need neither data nor pages, and the step whose they are: they start without all that."""


def main(words: Sequence[str] | None = None) -> None:
    """Run a command. Ends the process with 1 and a sentence where the data cannot be used."""
    words = list(sys.argv[1:] if words is None else words) or ["help"]
    if words[0] in ALONE:
        command = import_module(f"hypotaxis.steps.{ALONE[words[0]]}.management.commands.{words[0]}")
        command.Command().run_from_argv(["hypotaxis", *words])
        return
    kind = "settings_test" if words[0] == "test" else "settings"
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", f"hypotaxis.web.{kind}")
    from django.core.management import execute_from_command_line

    try:
        execute_from_command_line(["hypotaxis", *SHORT.get(words[0], words[:1]), *words[1:]])
    except Unusable as error:
        sys.exit(f"Hypotaxis cannot start. {error}")


if __name__ == "__main__":
    main()
