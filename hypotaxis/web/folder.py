"""Where the data are, and whether they can be used. Asked before Django is there, so it knows nothing of it.

What cannot be used is told in a sentence that says what, where and what to do; nothing is changed then.
"""

import os
import secrets
import shutil
import tempfile
from contextlib import suppress
from pathlib import Path

from platformdirs import user_data_path

LEAST_FREE = 20 * 2**20
"""Bytes without which nothing is begun."""
NAME_ANOTHER = "or name another folder in HYPOTAXIS_DATA"


class Unusable(Exception):
    """Why the data folder cannot be used, in a sentence for the terminal."""


def data_folder(checkout: Path) -> Path:
    """The folder that HYPOTAXIS_DATA names; otherwise data/ in a checkout of the project, and where the program is
    installed, the place that the system has for a program's data."""
    if named := os.environ.get("HYPOTAXIS_DATA"):
        return Path(named).resolve()
    if (checkout / "manage.py").exists():
        return checkout / "data"
    return user_data_path("hypotaxis", appauthor=False)


def prepare(folder: Path) -> None:
    """Make the folder, its owner's alone. Raises Unusable."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except (FileExistsError, NotADirectoryError) as error:
        raise Unusable(
            f"The data folder cannot be {folder}: there is a file of this name. Move it, {NAME_ANOTHER}."
        ) from error
    except OSError as error:
        raise Unusable(
            f"The data folder {folder} cannot be made: {error.strerror}. Give yourself the right to write there, "
            f"{NAME_ANOTHER}."
        ) from error
    with suppress(OSError):
        folder.chmod(0o700)


def check_writable(folder: Path) -> None:
    """Raises Unusable where nothing can be written, or hardly anything has room."""
    try:
        with tempfile.TemporaryFile(dir=folder) as probe:
            probe.write(bytes(4096))
            probe.flush()
            os.fsync(probe.fileno())
    except OSError as error:
        raise Unusable(
            f"Nothing can be written into the data folder {folder}: {error.strerror}. Make room or give yourself the "
            f"right to write there, {NAME_ANOTHER}. What is kept there is as it was."
        ) from error
    if (free := shutil.disk_usage(folder).free) < LEAST_FREE:
        raise Unusable(
            f"The disk of the data folder {folder} has room for {free / 1e6:.0f} MB, and "
            f"{LEAST_FREE / 1e6:.0f} MB are needed to begin. Make room, {NAME_ANOTHER}."
        )


def secret_key(folder: Path) -> str:
    """The key that signs what browsers keep, made at the first start and readable by the owner only; made anew where it
    is empty, which only ends what browsers kept. Raises Unusable."""
    path = folder / "secret.key"
    try:
        if path.exists() and (key := path.read_text().strip()):
            return key
        handle, part = tempfile.mkstemp(dir=folder, prefix="secret.")
        with os.fdopen(handle, "w") as stream:
            stream.write(secrets.token_urlsafe(50))
            stream.flush()
            os.fsync(stream.fileno())
        os.replace(part, path)
        return path.read_text()
    except (OSError, UnicodeDecodeError) as error:
        told = getattr(error, "strerror", None) or "it is no text"
        raise Unusable(
            f"The file {path} cannot be read or written: {told}. Take it away or give yourself the right to it, "
            f"{NAME_ANOTHER}."
        ) from error
