"""Files of unknown origin, read in a process of its own: what the server asks for instead of reading them itself.

Each function here is the server's side; its namesake with a line in front is what runs in the child.
"""

from base64 import b64decode, b64encode
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from hypotaxis.core.apart import Told, run_apart
from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.patches.values import ReadList

MEMORY_BYTES, SECONDS = 2 * 2**30, 30
_TOO_MUCH = (
    "It cannot be read: it takes too long, or more memory than it may. Is it what it should be? Try a part of it."
)


@dataclass(frozen=True)
class ScorePartFacts:
    """A part of a score: number of its track, channel 1–16, name, how many notes."""

    track: int
    channel: int
    name: str
    notes: int


def patches_in(path: Path, *, pasted: bool, form: str = "") -> tuple[str, ReadList]:
    """(what it is, the list in it), as patchfile.read_patch_file has it. Raises UnreadableFile."""
    kind, found = _ask("_patches_in", path=str(path), pasted=pasted, form=form)
    return kind, from_json(ReadList, found)


def _patches_in(wish: dict[str, Any], tell: Told) -> list:
    from hypotaxis.core.formats.patchfile import read_patch_file

    kind, found = read_patch_file(Path(wish["path"]).read_bytes(), pasted=wish["pasted"], form=wish["form"])
    return [kind, to_json(found)]


def parts_in(path: Path) -> tuple[ScorePartFacts, ...]:
    """The parts of a score that can be measured against. Raises UnreadableFile or says why in it."""
    return tuple(ScorePartFacts(**row) for row in _ask("_parts_in", path=str(path)))


def _parts_in(wish: dict[str, Any], tell: Told) -> list:
    from hypotaxis.core.formats.smf import MAX_BYTES, read_smf

    with Path(wish["path"]).open("rb") as stream:
        score = read_smf(stream.read(MAX_BYTES + 1))
    return [asdict(ScorePartFacts(part.track, part.channel, part.name, len(part.notes))) for part in score.parts]


def seconds_of(path: Path) -> float:
    """How long a recording lasts that may be measured. Raises UnreadableFile with the reason why it may not."""
    return _ask("_seconds_of", path=str(path))


def _seconds_of(wish: dict[str, Any], tell: Told) -> float:
    from hypotaxis.core.formats.audio import check_audio

    return check_audio(Path(wish["path"])).seconds


def check_rig_file(path: Path) -> None:
    """Raises UnreadableFile for a rig file that cannot be read, or not within the limits."""
    _ask("_check_rig_file", path=str(path))


def _check_rig_file(wish: dict[str, Any], tell: Told) -> None:
    from hypotaxis.core.formats.rigfile import read_rig_file

    read_rig_file(Path(wish["path"]).read_text(encoding="utf-8"))


def small_picture(path: Path) -> bytes:
    """A small PNG of a picture, as picture.small_picture has it. Raises UnreadableFile."""
    return b64decode(_ask("_small_picture", path=str(path)))


def _small_picture(wish: dict[str, Any], tell: Told) -> str:
    from hypotaxis.core.formats.picture import small_picture as made_small

    return b64encode(made_small(Path(wish["path"]).read_bytes())).decode()


def _ask(reader: str, **wish: Any) -> Any:
    return run_apart(
        f"{__name__}:{reader}",
        wish,
        memory=MEMORY_BYTES,
        seconds=SECONDS,
        refused=UnreadableFile,
        gave_up=_TOO_MUCH,
    )
