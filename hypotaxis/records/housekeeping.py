"""What is put away, brought back, and thrown away for good with the audio that nothing else needs.

Putting away loses nothing: the row is out of the way and comes back in one move. Throwing away is for good; it is
offered only for what is put away, and says first what goes and how large it is.
"""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from django.db import transaction
from django.db.models import Q

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.records import audio
from hypotaxis.records.models import Job, Pass, Rig, Session, Sounding, Take, Track

_WHOSE = {Rig: "session__rig", Session: "session", Track: "track"}
"""By what a take belongs to each."""


def megabytes(paths: Iterable[Path]) -> float:
    """How much room files take; those that are not there take none."""
    total = 0
    for path in set(paths):
        with suppress(FileNotFoundError):
            total += path.stat().st_size
    return total / 2**20


def audio_of(takes: Iterable[Take]) -> list[Path]:
    """The files of takes, as they arrived and corrected."""
    return _paths(name for take in takes for name in (take.file, take.fitted))


def _paths(names: Iterable[str]) -> list[Path]:
    return [audio.take_path(name) for name in names if name]


@dataclass(frozen=True)
class Weighed:
    """A session, track or rig, with the takes that hang on it and the room they take."""

    row: Session | Track | Rig
    takes: int
    megabytes: float

    @property
    def kind(self) -> str:
        return type(self.row).__name__.lower()


def all_weighed(rows: Sequence[Session | Track | Rig]) -> list[Weighed]:
    """What hangs on each of these rows, all of them sessions, tracks or rigs."""
    if not rows:
        return []
    whose, mine = _WHOSE[type(rows[0])], defaultdict(list)
    found = Take.objects.filter(**{f"{whose}__in": rows}).values_list(whose, "file", "fitted")
    for owner, *files in found:
        mine[owner].append(files)
    return [
        Weighed(row, len(mine[row.pk]), round(megabytes(_paths(name for files in mine[row.pk] for name in files)), 1))
        for row in rows
    ]


def tidy(row: Session | Track | Rig, to: str) -> str:
    """Put a session, track or rig "away", bring it "back", or throw it away for good ("gone", of what is put away
    alone); what was done, in a sentence, "" for nothing. Raises CannotSchedule."""
    if to in ("away", "back"):
        row.away = to == "away"
        row.save(update_fields=["away"])
        return f"{row.name} is {'put away; bring it back below' if row.away else 'back'}."
    if to == "gone" and row.away:
        throw_away(row)
        return f"{row.name} is gone, with the audio that nothing else needs."
    return ""


def throw_take_away(take: Take) -> None:
    """A take for good."""
    with transaction.atomic():
        files = [take.file, take.fitted]
        take.delete()
        transaction.on_commit(lambda: _drop_unneeded(files))


def throw_away(row: Session | Track | Rig) -> None:
    """A session, track or rig for good, with all that hangs on it. Raises CannotSchedule while something of it is
    recorded or measured."""
    takes = takes_of(row)
    with transaction.atomic():
        _check_idle(row)
        files = [name for take in takes for name in (take.file, take.fitted)]
        soundings = list(Sounding.objects.figures().filter(rig=row)) if isinstance(row, Rig) else []
        kept = [name for sounding in soundings for name in (sounding.score, sounding.recording)]
        jobs = [sounding.job_id for sounding in soundings] + _jobs_of(row)
        row.delete()
        Job.objects.filter(uid__in=jobs).delete()
        # Behind the transaction: a file never goes before its row.
        transaction.on_commit(lambda: _drop_unneeded(files, kept))


def takes_of(row: Session | Track | Rig) -> list[Take]:
    """The takes that hang on a session, track or rig."""
    return list(Take.objects.filter(**{_WHOSE[type(row)]: row}).only("uid", "file", "fitted"))


def _passes_of(row: Session | Track | Rig):
    where = {Rig: {"session__rig": row}, Session: {"session": row}}.get(type(row))
    return Pass.objects.filter(**where) if where else Pass.objects.none()


def _jobs_of(row: Session | Track | Rig) -> list:
    passes = _passes_of(row)
    return [
        *passes.values_list("job_id", flat=True),
        *passes.exclude(measuring=None).values_list("measuring_id", flat=True),
    ]


def _check_idle(row: Session | Track | Rig) -> None:
    session = row.session if isinstance(row, Track) else row
    busy = Q(job__state__in=Job.UNFINISHED) | Q(measuring__state__in=Job.UNFINISHED)
    if _passes_of(session).filter(busy).exists():
        raise CannotSchedule("A pass of it is still running. Stop it first.")


def _drop_unneeded(names: Iterable[str], soundings: Iterable[str] = ()) -> None:
    """Remove takes' files that no take names any more (the same sound is kept once for all of them), and those of
    soundings."""
    for name in filter(None, soundings):
        (audio.folder("soundings") / name).unlink(missing_ok=True)
    for name in set(filter(None, names)):
        if not Take.objects.filter(file=name).exists() and not Take.objects.filter(fitted=name).exists():
            audio.remove_take(name)
