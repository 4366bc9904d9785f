"""Reading files of unknown origin in a process of its own, with limits on memory and time.

The child reads one JSON object from its standard input and answers with JSON lines: progress (0–1) and, last, the
result or the reason why there is none. Whatever a hostile file does to a reader, the parent only loses a child.
"""

import importlib
import json
import os
import queue
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from hypotaxis.core.errors import HypotaxisError

try:
    import resource
except ImportError:
    # Not on Windows.
    resource = None

Told = Callable[[float], None]
"""Told the share that is done (0–1)."""


def run_apart(
    reader: str,
    wish: dict[str, Any],
    *,
    memory: int,
    seconds: int,
    refused: type[HypotaxisError],
    gave_up: str,
    writes: int = 0,
    progress: Told | None = None,
) -> Any:
    """What a reader ("package.module:function", called with the wish and a function to tell progress by) answers, as
    plain data. memory: bytes, seconds: of computing, that it may take; writes: up to so many bytes it may write into a
    file.

    Raises refused with the reader's own reason, or with gave_up where it died, took too long or wanted too much.
    progress: told several times a second; what it raises ends the child.
    """
    asked = {"reader": reader, "wish": wish, "memory": memory, "seconds": seconds, "writes": writes}
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    with subprocess.Popen(
        [sys.executable, "-m", "hypotaxis.core.apart"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env=environment,
        cwd=Path(__file__).parents[2],
    ) as child:
        try:
            # One that died at once has nothing to say either.
            with suppress(BrokenPipeError):
                child.stdin.write(json.dumps(asked).encode())
                child.stdin.close()
            answer = _listen(child, progress or (lambda share: None), seconds)
        finally:
            child.kill()
    if "result" in answer:
        return answer["result"]
    raise refused(answer.get("error", gave_up))


def _listen(child: subprocess.Popen, progress: Told, seconds: int) -> dict[str, Any]:
    """The child's last line; an empty object when it died or took too long."""
    # A busy machine gives a child less than a second a second.
    deadline = time.monotonic() + 4 * seconds
    done, lines = 0.0, queue.SimpleQueue()
    # Read by a thread, since not every system can wait for a pipe with an end to its patience.
    threading.Thread(target=_read_lines, args=(child, lines), daemon=True).start()
    while time.monotonic() < deadline:
        progress(done)
        try:
            line = lines.get(timeout=0.2)
        except queue.Empty:
            continue
        if not line:
            return {}
        told = json.loads(line)
        if "progress" not in told:
            return told
        done = told["progress"]
    return {}


def _read_lines(child: subprocess.Popen, lines: queue.SimpleQueue) -> None:
    """What the child tells, line by line, and nothing once it has ended."""
    with suppress(ValueError, OSError):
        for line in child.stdout:
            lines.put(line if line.endswith(b"\n") else b"")
    lines.put(b"")


def _tell(**what: Any) -> None:
    sys.stdout.write(json.dumps(what) + "\n")
    sys.stdout.flush()


def _limit(*, memory: int, seconds: int, writes: int) -> None:
    """Bind this process. Where the system knows no such limits, the parent's patience is the only one."""
    if resource is None:
        return
    resource.setrlimit(resource.RLIMIT_AS, (memory,) * 2)
    resource.setrlimit(resource.RLIMIT_CPU, (seconds,) * 2)
    # One that writes no files leaves none.
    resource.setrlimit(resource.RLIMIT_FSIZE, (writes,) * 2)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def _main() -> None:
    asked = json.load(sys.stdin)
    _limit(memory=asked["memory"], seconds=asked["seconds"], writes=asked["writes"])
    module, _, name = asked["reader"].partition(":")
    try:
        reader = getattr(importlib.import_module(module), name)
        _tell(result=reader(asked["wish"], lambda share: _tell(progress=share)))
    except HypotaxisError as error:
        _tell(error=str(error))
    except Exception:
        # A reader's own trouble; what it is helps nobody.
        _tell()


if __name__ == "__main__":
    _main()
