"""What the shell commands share: reading a file that was named, and refusing with a reason and exit code 2."""

import json
import sys
from pathlib import Path
from typing import NoReturn

from django.core.management.base import BaseCommand

from hypotaxis.core.errors import UnreadableFile

REFUSED = 2


def file_named(name: str) -> Path:
    """A file's path, once it can be opened. Raises UnreadableFile."""
    path = Path(name).absolute()
    try:
        with path.open("rb"):
            return path
    except OSError as error:
        raise UnreadableFile(f"{name} cannot be read: {error.strerror}.") from error


def bytes_of(name: str, most: int) -> bytes:
    """A file's bytes, one more than `most` at the most, so that a reader can say it is too large."""
    with file_named(name).open("rb") as stream:
        return stream.read(most + 1)


def refuse(command: BaseCommand, error: Exception, *, as_json: bool) -> NoReturn:
    """Say why on the error output (and as JSON where that was asked for), and end with 2."""
    reason = " ".join(str(error).split())
    if as_json:
        command.stdout.write(json.dumps({"error": reason}, ensure_ascii=False))
    command.stderr.write(reason)
    sys.exit(REFUSED)
