"""A MIDI file becomes a session, all or nothing; a large one in the background."""

from collections.abc import Callable, Sequence
from pathlib import Path

from django.db import transaction

from hypotaxis.core.errors import UnsupportedScore
from hypotaxis.core.formats.smf import read_smf
from hypotaxis.core.plan import Instrument
from hypotaxis.core.session.score import Score, ScorePart
from hypotaxis.records.audio import folder, write_whole
from hypotaxis.records.jobs import asked_before, begin, hand_over, running, work
from hypotaxis.records.models import Job, Rig, Session, Track
from hypotaxis.records.plan import instrument_value

AT_ONCE_BYTES = 150_000
"""A larger file takes longer than a second to read; it is left to the worker."""


def import_score(rig: Rig, data: bytes, *, name: str) -> tuple[Session, Score]:
    """Store a new session with a track a channel; tracks are given to the instruments they seem to be meant for.

    Raises UnreadableFile or UnsupportedScore with the reason, and then stores nothing.
    """
    score = read_notes(data)
    return store_score(rig, score, name=name), score


def read_notes(data: bytes, progress: Callable[[float], None] | None = None) -> Score:
    """A score with notes out of a file. Raises UnreadableFile or UnsupportedScore with the reason."""
    score = read_smf(data, progress=progress)
    if not score.parts:
        raise UnsupportedScore("The file has no notes: nothing could be played. Export the tracks that hold the notes.")
    return score


@transaction.atomic
def store_score(rig: Rig, score: Score, *, name: str) -> Session:
    """A session out of a score."""
    session = Session.objects.create(
        rig=rig,
        name=name[:80],
        ticks_per_quarter=score.tempo.ticks_per_quarter,
        tempos=score.tempo.tempos,
        meters=score.tempo.meters,
        end_tick=score.end_tick,
        sections=_sections(score),
    )
    instruments = [instrument_value(row) for row in rig.instruments.all()]
    for order, part in enumerate(score.parts):
        Track.objects.create(
            session=session,
            order=order,
            name=part.name,
            file_channel=part.channel,
            **meant_for(part, instruments),
            program=part.program,
            msb=part.msb,
            lsb=part.lsb,
            notes=part.notes.tobytes(),
            controls=part.controls.tobytes(),
        )
    return session


def _sections(score: Score) -> list[list]:
    """What the file's markers name: the bars that they stand in."""
    tempo, found = score.tempo, {}
    for tick, name in score.markers:
        if tick < score.end_tick:
            found.setdefault(tempo.bar_tick(tempo.position(tick).bar), name)
    return [[tick, name] for tick, name in found.items()]


def told_of(session: Session, score: Score) -> str:
    """What was imported, in a sentence or two."""
    many = len(score.parts)
    told = f"{session.name} is imported: {many} track{'' if many == 1 else 's'}."
    open_tracks = session.tracks.filter(instrument_uid="").count()
    if open_tracks:
        told += f" {open_tracks} of them need{'s' if open_tracks == 1 else ''} an instrument."
    return " ".join([told, *score.remarks])


def start_import(rig: Rig, data: bytes, *, name: str, title: str, token: str = "") -> Job:
    """Leave a file to the worker; title: what the person's file is called; token: of the form."""
    with transaction.atomic():
        if before := asked_before(token):
            return before
        job = begin("import", about=str(rig.uid), request={"name": name, "title": title}, token=token)
        # Before the row is there for good: an import without its file would wait for nothing.
        write_whole("imports", ".mid", lambda stream: stream.write(data)).replace(_waiting(str(job.uid)))
    hand_over(job)
    return job


@work("import", resumed=True)
def take_in(job_uid: str) -> None:
    """The task: import the waiting file; whatever comes of it, the file goes."""
    path = _waiting(job_uid)
    with running(job_uid) as reporter:
        if reporter is None:
            return
        job = reporter.job
        if job.result:
            # It was interrupted between the session and its end.
            return
        try:
            rig = Rig.objects.get(uid=job.about)
            score = read_notes(path.read_bytes(), reporter.tell)
            with transaction.atomic():
                session = store_score(rig, score, name=job.request["name"])
                job.result = {"session": str(session.uid), "told": told_of(session, score)}
                job.save(update_fields=["result"])
        finally:
            path.unlink(missing_ok=True)


def forget_interrupted_imports() -> None:
    """At the start of the worker: files of imports that will not go on."""
    waiting = Job.objects.filter(kind="import", state__in=Job.UNFINISHED)
    alive = {str(uid) for uid in waiting.values_list("uid", flat=True)}
    for path in folder("imports").glob("*.mid"):
        if path.stem not in alive:
            path.unlink()
    for path in folder("joining").glob("*.mid"):
        path.unlink()


def _waiting(job_uid: str) -> Path:
    return folder("imports") / f"{job_uid}.mid"


def meant_for(part: ScorePart, instruments: Sequence[Instrument], *, only_channel: bool = False) -> dict[str, str]:
    """The instrument, or the part of one, of the same name; otherwise the only one on the same channel, or the only one
    there is; otherwise none. only_channel: by nothing but its channel."""
    seats = [(one.uid, seat) for one in instruments for seat in one.seats]
    names = {one.uid: one.name.casefold() for one in instruments}
    by_name = [(uid, s) for uid, s in seats if (s.name.casefold() or names[uid]) == part.name.casefold()]
    on_channel = [(uid, s) for uid, s in seats if s.channel == part.channel]
    for found in (on_channel,) if only_channel else (by_name, on_channel, seats):
        if len(found) == 1:
            return {"instrument_uid": found[0][0], "part_uid": found[0][1].part}
    return {}
