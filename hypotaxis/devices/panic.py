"""Silence at once: a local socket straight into the device process, past queue and database.

Whoever connects and writes a byte ends what runs and silences every port that notes have left by; the answer comes when
it is done. Ports of surfaces and editors have never been opened by the process, so nothing is sent there.
"""

import contextlib
import os
import socket
from pathlib import Path

PATIENCE_S = 2.0
LONGEST = 100
"""Bytes of a path of a local socket, the least of the systems' limits."""


def listen_at(path: str) -> socket.socket | None:
    """The device process's end; None where the path is too long to be one, or the system has no local sockets."""
    if not path or len(os.fsencode(path)) > LONGEST or not hasattr(socket, "AF_UNIX"):
        return None
    with contextlib.suppress(FileNotFoundError):
        os.unlink(path)
    listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    listener.bind(path)
    os.chmod(path, 0o600)
    listener.listen()
    return listener


def answer(listener: socket.socket, silence) -> None:
    """Take one caller: silence, then say so."""
    caller, _ = listener.accept()
    with caller:
        caller.settimeout(PATIENCE_S)
        with contextlib.suppress(OSError):
            caller.recv(1)
            silence()
            caller.sendall(b"!")


def call(path: Path) -> bool:
    """Ask for silence; whether it was done. False where no device process listens."""
    if not hasattr(socket, "AF_UNIX"):
        return False
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as caller:
        caller.settimeout(PATIENCE_S)
        try:
            caller.connect(str(path))
            caller.sendall(b"!")
            return caller.recv(1) == b"!"
        except OSError:
            return False
