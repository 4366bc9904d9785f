"""What takes the room in the data folder, and what of it nothing refers to any more.

A file is named by its row before it is there and removed behind its row, so what no row names is left over: by a kill
between the two, or from an older version. It is removed only when asked for, and never what is younger than an hour,
since whoever writes it may be about to name it.
"""

import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings

from hypotaxis.records import audio
from hypotaxis.records.models import Job, Sounding, Take

YOUNG_S = 3600.0


@dataclass(frozen=True)
class Kind:
    """A folder of the data. about: what is in it, and what becomes of it."""

    folder: str
    name: str
    about: str


KINDS = (
    Kind("audio/takes", "Takes", "as they arrived; thrown away with their session, their track, or one by one"),
    Kind("audio/peaks", "Overviews of takes", "made again where they are missing"),
    Kind("audio/figures", "Figures of takes", "made again where they are missing"),
    Kind("audio/levels", "Levels of takes", "until they are measured"),
    Kind("audio/soundings", "Soundings", "thrown away with each"),
    Kind("audio/tryouts", "Try-outs", "the newest few; older ones go by themselves"),
    Kind("audio/partial", "Passes that are recorded", "become takes"),
    Kind("audio/heard", "Takes to be heard", "the newest few; made again"),
    Kind("audio/glued", "Takes with their click", "the newest few; made again"),
    Kind("audio/handover", "Files handed over alone", "the newest few; made again"),
    Kind("audio/bounced", "Mixes", "the newest few"),
    Kind("audio/archives", "Archives", "the newest; made again"),
    Kind("audio/backups", "Backups", "the newest; take it elsewhere"),
    Kind("copies", "Copies of the day", "what they do not share with the rest"),
    Kind("pictures", "Pictures of boxes", ""),
    Kind("", "Rigs, sessions, notes, lists", "the database"),
)


@dataclass(frozen=True)
class Room:
    """What a kind takes."""

    kind: Kind
    files: int
    megabytes: float


def rooms() -> list[Room]:
    """What each kind takes, of those that take any, the largest first."""
    found = []
    for kind in KINDS:
        files, total = 0, 0
        for path in _files(settings.DATA / kind.folder, deep=kind.folder == "copies"):
            with suppress(FileNotFoundError):
                state = path.stat()
                # What a copy shares with the rest is counted there.
                total += state.st_size if kind.folder != "copies" or state.st_nlink == 1 else 0
                files += 1
        if files:
            found.append(Room(kind, files, total / 1e6))
    return sorted(found, key=lambda one: -one.megabytes)


def _files(folder: Path, *, deep: bool = False) -> Iterator[Path]:
    if folder.is_dir():
        yield from (path for path in (folder.rglob("*") if deep else folder.iterdir()) if path.is_file())


def left_over() -> list[Path]:
    """The files that nothing refers to, old enough that nobody is about to."""
    takes = {name for pair in Take.objects.values_list("file", "fitted") for name in pair if name}
    soundings = {name for pair in Sounding.objects.values_list("score", "recording") for name in pair if name}
    jobs = {f"{uid}.wav" for uid in Job.objects.values_list("uid", flat=True)}
    named = {"takes": takes, "soundings": soundings, "tryouts": jobs}
    # What is kept beside a take carries its name.
    named |= {beside: {f"{name}.{end}" for name in takes} for beside, end in _BESIDE.items()}
    return [path for folder, names in named.items() for path in _unnamed(audio.folder(folder), names)]


_BESIDE = {"peaks": "npy", "figures": "json", "levels": "f32"}


def _unnamed(folder: Path, names: set[str]) -> Iterable[Path]:
    until = time.time() - YOUNG_S
    for path in _files(folder):
        with suppress(FileNotFoundError):
            if path.name not in names and path.suffix != audio.PART and path.stat().st_mtime < until:
                yield path


def remove(paths: Sequence[Path]) -> int:
    """Remove files that nothing refers to; how many went. What could not be removed stays."""
    gone = 0
    for path in paths:
        with suppress(OSError):
            path.unlink()
            gone += 1
    return gone
