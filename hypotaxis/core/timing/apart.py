"""Measuring files of unknown origin in a process of its own, with limits on memory and time.

The child reads one JSON object from its standard input and answers with JSON lines: progress (0–1) and, last, the
result or the reason why there is none. Whatever a hostile file does to a decoder, the parent only loses a child.
"""

import json
import os
import selectors
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from hypotaxis.core.errors import HypotaxisError, NoAnswer

MEMORY_BYTES = 3 * 2**30
SECONDS = 1800
READING_SHARE = 0.7
"""Of the work is reading the recording once; the rest is looking at single hits."""
OVERLAID = 64
OVERLAY_POINTS = 360
OVERLAY_MS = (-10.0, 50.0)
"""Around the score's moment, moved by the lateness where that is larger."""
_DIED = (
    "The recording could not be decoded: its decoder gave up or needed more than it may have. Export it again as WAV."
)


def measure_apart(
    score: Path,
    recording: Path,
    *,
    track: int | None = None,
    channel: int | None = None,
    side: str = "auto",
    impulses: bool = False,
    picture: bool = False,
    against: Path | None = None,
    progress: Callable[[float], None] | None = None,
) -> dict[str, Any]:
    """The report of a recording against a score (see report.report), read in a child process.

    impulses: impulses were played (see Listened). picture: with "hits" (rows of moment and onset in samples, whether
    used) and "overlay" (see `_overlay`). against: another recording of the same notes; the difference is added (see
    report.difference_report), and an answer that has only that is one.
    progress: told the share done, several times a second; what it raises ends the child. Raises NoAnswer with the
    reason when there is no answer.
    """
    wish = {
        "score": str(score),
        "recording": str(recording),
        "track": track,
        "channel": channel,
        "side": side,
        "impulses": impulses,
        "picture": picture,
        "against": str(against) if against else None,
        "memory": MEMORY_BYTES,
        "seconds": SECONDS,
    }
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    command = [sys.executable, "-m", "hypotaxis.core.timing.apart"]
    with subprocess.Popen(
        command,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env=environment,
        cwd=Path(__file__).parents[3],
    ) as child:
        try:
            # One that died at once has nothing to say either.
            with suppress(BrokenPipeError):
                child.stdin.write(json.dumps(wish).encode())
                child.stdin.close()
            answer = _listen(child, progress or (lambda share: None))
        finally:
            child.kill()
    if "result" in answer:
        return answer["result"]
    raise NoAnswer(answer.get("error", _DIED))


def _listen(child: subprocess.Popen, progress: Callable[[float], None]) -> dict[str, Any]:
    """The child's last line; an empty object when it died or took too long."""
    deadline = time.monotonic() + SECONDS
    done, rest = 0.0, b""
    with selectors.DefaultSelector() as selector:
        selector.register(child.stdout, selectors.EVENT_READ)
        while time.monotonic() < deadline:
            progress(done)
            if not selector.select(timeout=0.2):
                continue
            read = os.read(child.stdout.fileno(), 1 << 20)
            if not read:
                return {}
            *lines, rest = (rest + read).split(b"\n")
            for line in lines:
                told = json.loads(line)
                if "progress" not in told:
                    return told
                done = told["progress"]
    return {}


def _answer(wish: dict[str, Any]) -> dict[str, Any]:
    # Imported here, so that the parent stays small.
    from hypotaxis.core.formats.audio import check_audio
    from hypotaxis.core.formats.smf import read_smf
    from hypotaxis.core.timing.choose import measure_score, moments_to_compare
    from hypotaxis.core.timing.lateness import Listened
    from hypotaxis.core.timing.recording import open_recording
    from hypotaxis.core.timing.report import difference_report, report, unknown_report

    score = read_smf(_bytes_of(Path(wish["score"])))
    facts = check_audio(Path(wish["recording"]))
    recording = open_recording(Path(wish["recording"]))
    listened = Listened(
        recording,
        side=wish["side"],
        impulses=wish["impulses"],
        progress=lambda share: _tell(progress=READING_SHARE * share),
    )
    _tell(progress=READING_SHARE)
    warnings = [facts.remark] if facts.remark else []
    if facts.channels == 1 and wish["side"] not in ("auto", "left"):
        warnings.append(f"The recording is mono; there is no {wish['side']} to choose.")
    if facts.time_reference:
        warnings.append(
            f"The file has a time reference of {facts.time_reference} samples, which is not applied: the recording's "
            "first sample is taken as the score's zero."
        )
    chosen = {"track": wish["track"], "channel": wish["channel"]}
    try:
        answer = measure_score(listened, score, **chosen)
    except NoAnswer as error:
        if not wish["against"]:
            raise
        answer = None
        notes = moments_to_compare(score, recording.rate, **chosen)
        result = unknown_report(len(notes) + notes.merged, recording.rate, warnings=(str(error), *warnings))
    else:
        if answer.lateness.outside and not answer.lateness.missed:
            lies = f"{answer.lateness.outside} notes lie outside it."
            warnings.append(f"The recording ends before the score: {lies}")
        result = report(answer, warnings=tuple(warnings))
    result |= {"seconds": round(facts.seconds, 3), "kind": facts.kind, "subtype": facts.subtype}
    if wish["picture"] and answer:
        result["hits"] = [[round(h.moment, 3), round(h.onset, 3), h.used] for h in answer.lateness.hits]
        result["overlay"] = _overlay(recording, answer.lateness)
    if wish["against"]:
        if answer:
            chosen = {"track": answer.track, "channel": answer.channel}
        found = _difference(listened, score, Path(wish["against"]), chosen)
        compared = difference_report(found, recording.rate)
        if wish["picture"]:
            compared["compared_hits"] = compared.pop("hits")
        result |= compared
        result["warnings"] = [*result["warnings"], *found.warnings]
    return result


def _difference(listened, score, against: Path, chosen: dict[str, int | None]):
    """What the recording differs from another one by."""
    from hypotaxis.core.formats.audio import check_audio
    from hypotaxis.core.timing.against import compare
    from hypotaxis.core.timing.choose import moments_to_compare
    from hypotaxis.core.timing.lateness import Listened
    from hypotaxis.core.timing.recording import open_recording

    check_audio(against)
    other = Listened(open_recording(against))
    rate = listened.recording.rate
    return compare(listened, other, moments_to_compare(score, rate, **chosen).positions * 1000 / rate)


def _bytes_of(path: Path) -> bytes:
    from hypotaxis.core.formats.smf import MAX_BYTES

    with path.open("rb") as stream:
        return stream.read(MAX_BYTES + 1)


def _overlay(recording, lateness) -> dict[str, Any]:
    """Up to OVERLAID hits at the score's moment: first_ms and last_ms of the window, and for each hit its samples, the
    largest of each of OVERLAY_POINTS stretches, as a share of the loudest."""
    import numpy as np

    from hypotaxis.core.timing.recording import SIDES

    side = SIDES[lateness.side]
    first_ms = min(OVERLAY_MS[0], lateness.lateness_ms - 10)
    last_ms = max(OVERLAY_MS[1], lateness.lateness_ms + 40)
    used = [hit for hit in lateness.hits if hit.used] or list(lateness.hits)
    chosen = np.unique(np.linspace(0, len(used) - 1, min(len(used), OVERLAID)).astype(int))
    lines = []
    for number in chosen.tolist():
        moment, rate = used[number].moment, recording.rate
        start, end = round(moment + first_ms * rate / 1000), round(moment + last_ms * rate / 1000)
        piece = recording.piece(side, start, end)
        edges = np.linspace(0, len(piece), OVERLAY_POINTS + 1).astype(int)
        starts = np.minimum(edges[:-1], len(piece) - 1)
        low, high = np.minimum.reduceat(piece, starts), np.maximum.reduceat(piece, starts)
        lines.append(np.where(high >= -low, high, low))
    loudest = max(float(np.abs(line).max()) for line in lines) or 1.0
    return {
        "first_ms": round(first_ms, 3),
        "last_ms": round(last_ms, 3),
        "lines": [[round(float(value), 3) for value in line / loudest] for line in lines],
    }


def _tell(**what: Any) -> None:
    sys.stdout.write(json.dumps(what) + "\n")
    sys.stdout.flush()


def _main() -> None:
    import resource

    wish = json.load(sys.stdin)
    resource.setrlimit(resource.RLIMIT_AS, (wish["memory"],) * 2)
    resource.setrlimit(resource.RLIMIT_CPU, (wish["seconds"],) * 2)
    # It writes no files, so it leaves none.
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        _tell(result=_answer(wish))
    except HypotaxisError as error:
        _tell(error=str(error))
    except Exception:
        # A decoder's own trouble; what it is helps nobody who wants a number.
        _tell(error=_DIED)


if __name__ == "__main__":
    _main()
