"""What does the file of a take say of its lateness? Asked of one, or of several at once on all cores."""

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from hypotaxis.core.apart import run_apart
from hypotaxis.core.errors import HypotaxisError, NoAnswer, WrongScore
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.timing.lateness import Progress, measure
from hypotaxis.core.timing.levels import kept_levels_of
from hypotaxis.core.timing.measurement import Hit, Measurement, hits_of, measurement_of
from hypotaxis.core.timing.moments import Moments
from hypotaxis.core.timing.recording import open_recording

TOGETHER_FRAMES = 60_000_000
"""From so many frames in all (20 minutes at 48 kHz) processes of their own are worth their start."""
LOOK_S = 0.2
MEMORY_BYTES, SECONDS = 3 * 2**30, 1800
"""What a process of its own may take."""


@dataclass(frozen=True, eq=False)
class ToHear:
    """A take's file, so long, with its moments from its first frame on; levels: where its levels may be kept."""

    path: Path
    frames: int
    moments: Moments
    levels: Path


@dataclass(frozen=True)
class Heard:
    """What was measured, or why nothing was. wrong_score: what is heard does not follow the moments."""

    measurement: Measurement | None = None
    hits: tuple[Hit, ...] = ()
    refusal: str = ""
    wrong_score: bool = False


def hear(asked: ToHear, progress: Progress | None = None) -> Heard:
    """Measure one. Raises what reading its file raises."""
    recording = open_recording(asked.path)
    levels = kept_levels_of(recording, asked.levels)
    try:
        found = measure(recording, asked.moments, levels=levels, progress=progress)
    except NoAnswer as error:
        return Heard(refusal=str(error), wrong_score=isinstance(error, WrongScore))
    return Heard(measurement_of(found), hits_of(found))


def hear_each(asked: Sequence[ToHear], tell: Progress) -> Iterator[Callable[[], Heard]]:
    """For each in its turn what answers as `hear` does. Long ones are measured side by side, in processes of their own,
    and the answer waits until it is known. tell: told the share done, several times a second."""
    if len(asked) < 2 or sum(one.frames for one in asked) < TOGETHER_FRAMES:
        for number, one in enumerate(asked):
            yield partial(hear, one, lambda share, done=number: tell((done + share) / len(asked)))
        return
    over = threading.Event()
    pool = ThreadPoolExecutor(min(os.cpu_count() or 1, len(asked)))
    try:
        # The longest ones first, so that none is left over at the end.
        coming = {id(one): pool.submit(_hear_apart, one, over) for one in sorted(asked, key=_weight, reverse=True)}
        for one in asked:
            answer = coming[id(one)]
            while not wait([answer], timeout=LOOK_S).done:
                tell(sum(other.done() for other in coming.values()) / len(asked))
            found = answer.result()
            yield partial(hear, one) if found is None else lambda found=found: found
    finally:
        over.set()
        pool.shutdown(cancel_futures=True)


def _weight(one: ToHear) -> int:
    """Bytes of its file; one that is missing says so at once."""
    try:
        return one.path.stat().st_size
    except OSError:
        return 0


def _hear_apart(one: ToHear, over: threading.Event) -> Heard | None:
    """What it says, asked in a process of its own that ends when all is over; None where that came to nothing."""
    moments = one.moments
    wish = {"path": str(one.path), "frames": one.frames, "levels": str(one.levels), "merged": moments.merged}
    wish |= {"positions": moments.positions.tolist(), "kinds": moments.kinds.tolist()}

    def go_on(_: float) -> None:
        if over.is_set():
            raise _GaveUp

    try:
        answer = run_apart(
            f"{__name__}:_heard_apart", wish, memory=MEMORY_BYTES, seconds=SECONDS, refused=_GaveUp, gave_up="",
            progress=go_on,
        )  # fmt: skip
    except _GaveUp:
        return None
    return from_json(Heard, answer)


class _GaveUp(HypotaxisError):
    """It is asked where it is wanted, and fails there in its own words."""


def _heard_apart(wish: dict[str, Any], tell: Progress) -> dict[str, Any]:
    """What the child does."""
    moments = Moments(np.array(wish["positions"]), np.array(wish["kinds"]), wish["merged"])
    return to_json(hear(ToHear(Path(wish["path"]), wish["frames"], moments, Path(wish["levels"])), tell))
