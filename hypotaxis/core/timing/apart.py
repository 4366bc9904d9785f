"""Measuring files of unknown origin in a process of its own."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from hypotaxis.core.apart import Told, run_apart
from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.timing.measurement import Overlay, Read, comparison_of, hits_of, measurement_of

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


@dataclass(frozen=True)
class Measured:
    """report: for the shell (see report.report); read: what is kept."""

    report: dict[str, Any]
    read: Read


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
) -> Measured:
    """What a recording says against a score, read in a child process.

    impulses: impulses were played (see Listened). picture: with the overlay of its hits. against: another recording of
    the same notes; the difference is added (see report.difference_report), and an answer that has only that is one.
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
    }
    answer = run_apart(
        f"{__name__}:read_and_measure",
        wish,
        memory=MEMORY_BYTES,
        seconds=SECONDS,
        refused=NoAnswer,
        gave_up=_DIED,
        progress=progress,
    )
    return Measured(answer["report"], from_json(Read, answer["read"]))


def read_and_measure(wish: dict[str, Any], tell: Told) -> dict[str, Any]:
    """What the child does; answers the fields of Measured as plain data."""
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
        progress=lambda share: tell(READING_SHARE * share),
    )
    tell(READING_SHARE)
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
    kept = {"seconds": result["seconds"], "kind": result["kind"], "notes": result["notes"]}
    if answer:
        told = tuple(result["warnings"][len(answer.lateness.warnings) :])
        kept |= {
            "track": answer.track,
            "channel": answer.channel,
            "measurement": measurement_of(answer.lateness, warnings=told),
            "hits": hits_of(answer.lateness),
            "overlay": _overlay(recording, answer.lateness) if wish["picture"] else None,
        }
    if wish["against"]:
        if answer:
            chosen = {"track": answer.track, "channel": answer.channel}
        found = _difference(listened, score, Path(wish["against"]), chosen)
        kept["comparison"] = comparison_of(found)
        result |= difference_report(found, recording.rate)
        result["warnings"] = [*result["warnings"], *found.warnings]
    return {"report": result, "read": to_json(Read(**kept))}


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


def _overlay(recording, lateness) -> Overlay:
    """Up to OVERLAID hits, in OVERLAY_POINTS stretches each."""
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
    return Overlay(
        round(first_ms, 3),
        round(last_ms, 3),
        tuple(tuple(round(float(value), 3) for value in line / loudest) for line in lines),
    )
