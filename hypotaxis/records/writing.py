"""The takes of a pass are written while it runs, by a process beside it, so that they are there at its end.

What came in of a pass grows as raw frames in its partial file, which is what counts: the writer only reads it. Where
the writer dies, or was never started, `write_takes` makes the same takes of that file at the end. The writer is asked
by a line of JSON, goes on until the word KEEP, and answers with a line of JSON; left without a word it leaves nothing.
"""

import json
import logging
import math
import os
import select
import subprocess
import sys
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from django.conf import settings

from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.records import audio

log = logging.getLogger(__name__)

KEEP = b"keep\n"
LOOK_S = 0.5
"""How often the writer looks for what has come."""
KINDER = 5
"""How much less it is in a hurry than what records (nice)."""


@dataclass(frozen=True)
class WantedTake:
    """A take that a pass makes."""

    columns: tuple[int, ...]
    """Places of its inputs among those of the pass."""
    start: int
    """The pass's frame that is its first."""
    frames: int
    """How many there are at most."""
    first_sample: int
    """Session position of its first frame."""


@dataclass(frozen=True)
class WrittenTake:
    """What became of it. peak_db: None of silence; clips: runs at full scale."""

    file: str
    frames: int
    peak_db: float | None
    clips: int


@dataclass(frozen=True)
class Wish:
    """What a writer is asked for. audio: the audio store; partial: the file that grows, so many inputs wide."""

    audio: str
    partial: str
    width: int
    rate: int
    takes: tuple[WantedTake, ...]


class _Writer:
    """One take, of the frames of its pass as they come."""

    def __init__(self, wanted: WantedTake, rate: int) -> None:
        self.wanted = wanted
        self._columns = list(wanted.columns)
        self._meters = [InputMeter("") for _ in wanted.columns]
        self.file = audio.TakeFile(rate=rate, channels=len(wanted.columns), first_sample=wanted.first_sample)

    def feed(self, at: int, block: np.ndarray) -> None:
        """The frames of the pass from `at` on, shape (frames, inputs)."""
        first, end = max(0, self.wanted.start - at), self.wanted.start + self.wanted.frames - at
        mine = block[first : max(0, end), self._columns]
        for column, meter in enumerate(self._meters):
            meter.feed(mine[:, column])
        self.file.feed(mine)

    def keep(self) -> WrittenTake:
        """Put it in its place."""
        peak = max(meter.peak_db for meter in self._meters)
        clips = sum(meter.clips for meter in self._meters)
        return WrittenTake(self.file.keep(), self.file.frames, None if peak == -math.inf else peak, clips)


@contextmanager
def _writers(wanted: Sequence[WantedTake], rate: int) -> Iterator[list[_Writer]]:
    """One for each; what is not kept at the end leaves nothing."""
    with ExitStack() as stack:
        made = []
        for take in wanted:
            made.append(_Writer(take, rate))
            stack.callback(made[-1].file.drop)
        yield made


def write_takes(partial: Path, width: int, rate: int, wanted: Sequence[WantedTake]) -> list[WrittenTake]:
    """Takes of what came of a pass, in one reading of it. They begin at one frame."""
    with _writers(wanted, rate) as writers:
        at = min(take.start for take in wanted) if wanted else 0
        frames = max((take.frames for take in wanted), default=0)
        _feed(writers, partial, width, at, frames)
        return [writer.keep() for writer in writers]


def _feed(writers: Sequence[_Writer], partial: Path, width: int, at: int, frames: int) -> int:
    """Give so many frames, or what is there of them, from one on to every writer; up to where they were fed."""
    for block in audio.partial_blocks(partial, width, frames, first=at):
        for writer in writers:
            writer.feed(at, block)
        at += len(block)
    return at


class WritingBeside:
    """The process that writes the takes of a pass while it runs. Leave by `end`."""

    def __init__(self, partial: Path, width: int, rate: int, wanted: Sequence[WantedTake]) -> None:
        self._wanted = tuple(wanted)
        wish = Wish(str(settings.AUDIO), str(partial), width, rate, self._wanted)
        self._child = subprocess.Popen(
            [sys.executable, "-m", __name__],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            cwd=Path(__file__).parents[2],
            # Ctrl-C is for what records; this one is told by it.
            start_new_session=True,
        )
        self._say(json.dumps(to_json(wish)).encode() + b"\n")

    def keep(self) -> dict[WantedTake, WrittenTake]:
        """The takes, of all that has come; none where the writer has died."""
        self._say(KEEP)
        told = self._child.stdout.readline()
        try:
            found = [from_json(WrittenTake, one) for one in json.loads(told)]
        except ValueError:
            log.warning("the writer beside a pass gave up; its takes are made now")
            return {}
        return dict(zip(self._wanted, found, strict=True))

    def end(self) -> None:
        """What was not kept is dropped."""
        with suppress(BrokenPipeError):
            self._child.stdin.close()
        self._child.stdout.close()
        self._child.wait()

    def _say(self, line: bytes) -> None:
        # One that has died is found out by its silence.
        with suppress(BrokenPipeError):
            self._child.stdin.write(line)
            self._child.stdin.flush()


def _main() -> None:
    # Unbuffered, so that a word that has come is seen to have come.
    asked = os.fdopen(0, "rb", buffering=0)
    wish = from_json(Wish, json.loads(asked.readline()))
    settings.AUDIO = Path(wish.audio)
    if hasattr(os, "nice"):
        os.nice(KINDER)
    partial, at = Path(wish.partial), 0
    with _writers(wish.takes, wish.rate) as writers:
        told = False
        while True:
            # What is there when the word comes is all there will be.
            told = told or bool(select.select([asked], [], [], LOOK_S)[0])
            if told and asked.readline() != KEEP:
                return
            frames = partial.stat().st_size // (4 * wish.width) if partial.exists() else 0
            if frames > at:
                at = _feed(writers, partial, wish.width, at, frames - at)
            if told:
                print(json.dumps([to_json(writer.keep()) for writer in writers]), flush=True)
                return


if __name__ == "__main__":
    _main()
