"""A whole session: its rows as one value, and back as rows of their own."""

import json
import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass, fields, replace
from datetime import datetime

import numpy as np
from django.db import transaction
from django.utils.dateparse import parse_datetime

from hypotaxis.core.formats.rigfile import write_rig_file
from hypotaxis.core.session.archived import (
    ArchivedDump,
    ArchivedPass,
    ArchivedSession,
    ArchivedTake,
    ArchivedTrack,
    with_other_uids,
)
from hypotaxis.core.session.score import CONTROL, NOTE
from hypotaxis.core.timing.applied import carrying
from hypotaxis.records.kept_rigs import keep_text, renamed, text_of, uids_in
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import Dump, Job, KeptRig, Pass, Patch, Rig, Session, Take, Track
from hypotaxis.records.patch_lists import lists_of
from hypotaxis.records.pictures import embedded
from hypotaxis.records.plan import load_kept

_PACKED = {"notes": NOTE, "controls": CONTROL, "played": NOTE}
_OWN = {"uid", "sound", "track", "run", "made", "started", "voice_of", "fed_by", "setup", "kept_rig"}
"""Fields that are not stored under their name."""


@dataclass(frozen=True)
class Seat:
    """Where a part plays on a rig: uids of the instrument and, "" = its first, of its part."""

    instrument: str
    part: str = ""


def archived(
    session: Session, *, without: Callable[[str], bool] = lambda sound: False, ending: str = ".wav"
) -> ArchivedSession:
    """All of a session that is kept, takes that are put away as well, with its rig. without: of a file of the archive's
    takes, whether it is not there; such a take is left out; ending: of their files."""
    plan = load_kept(session.rig)
    runs = list(session.passes.select_related("kept_rig"))
    rigs = {run.kept_rig_id: run.kept_rig for run in runs if run.kept_rig_id}
    takes = (_take(row, ending) for row in session.takes.order_by("number"))
    whole = replace(carrying(plan, known_latenesses(plan)), pictures=embedded(plan), patch_lists=lists_of(plan))
    return ArchivedSession(
        name=session.name,
        ticks_per_quarter=session.ticks_per_quarter,
        tempos=_rows(session.tempos),
        meters=_rows(session.meters),
        end_tick=session.end_tick,
        sections=_rows(session.sections),
        loop=session.loop,
        mix=session.mix,
        handover=session.handover,
        created=_day(session.created),
        rig=json.loads(write_rig_file(whole)),
        tracks=tuple(_track(row) for row in session.tracks.all()),
        passes=tuple(map(_pass, runs)),
        dumps=tuple(map(_dump, session.dumps.all())),
        rigs={digest: json.loads(text_of(one)) for digest, one in rigs.items()},
        takes=tuple(one for one in takes if not _lost(one, without)),
    )


def _track(row: Track) -> ArchivedTrack:
    packed = {name: _rows(np.frombuffer(getattr(row, name), kind).tolist()) for name, kind in _PACKED.items()}
    joined = {"voice_of": str(row.voice_of_id or ""), "fed_by": str(row.fed_by_id or "")}
    return ArchivedTrack(**_plain(ArchivedTrack, row) | packed | joined, uid=str(row.uid))


def _pass(row: Pass) -> ArchivedPass:
    own = {"uid": str(row.uid), "setup": row.setup, "started": _day(row.started), "kept_rig": row.kept_rig_id or ""}
    return ArchivedPass(**_plain(ArchivedPass, row), **own)


def _dump(row: Dump) -> ArchivedDump:
    plain = {"box_uid": row.box_uid, "box_name": row.box_name, "source": row.source}
    return ArchivedDump(**plain, data=bytes(row.data).hex(), made=_day(row.made), verified=_day(row.verified))


def sounds_of(take: Take, ending: str) -> tuple[tuple[str, str], ...]:
    """(name in an archive, file) of a take's sound and, where it has that, of the one without drift."""
    both = ((f"{take.uid}{ending}", take.file), (f"{take.uid} fitted{ending}", take.fitted))
    return tuple((name, file) for name, file in both if file)


def _take(row: Take, ending: str) -> ArchivedTake:
    (sound, _), *fitted = sounds_of(row, ending)
    plain = _plain(ArchivedTake, row) | {"fitted": fitted[0][0] if fitted else ""}
    plain["trimmed"] = tuple(row.trimmed)
    belongs = {"track": str(row.track_id), "run": str(row.run_id), "sound": sound}
    return ArchivedTake(**plain, **belongs, uid=str(row.uid), made=_day(row.made))


def _lost(take: ArchivedTake, without: Callable[[str], bool]) -> bool:
    return without(take.sound) or bool(take.fitted and without(take.fitted))


def _plain(kind: type, row) -> dict:
    """The fields that are stored as they are."""
    plain = {one.name: getattr(row, one.name) for one in fields(kind) if one.name not in _OWN}
    return plain | ({"voice_notes": tuple(row.voice_notes)} if "voice_notes" in plain else {})


def _rows(rows) -> tuple:
    return tuple(tuple(row) for row in rows)


def _day(moment: datetime | None) -> str:
    return moment.isoformat() if moment else ""


@transaction.atomic
def store(
    session: ArchivedSession,
    rig: Rig,
    *,
    seats: Mapping[Seat, Seat],
    loops: Mapping[str, str],
    files: Mapping[str, str],
    renamed_uids: Mapping[str, str] | None = None,
) -> Session:
    """A session as rows of its own, on a rig. seats, loops: what stands for the archive's instruments, parts and effect
    loops there; what is not among them is left open. files: names in the audio store by those in the archive.
    renamed_uids: how the things of the archive's rig are called on this one, where it is a copy of that."""
    new = {one.uid: str(uuid.uuid4()) for rows in (session.tracks, session.passes, session.takes) for one in rows}
    owners = {old.instrument: to.instrument for old, to in seats.items() if not old.part} | dict(loops)
    mine = with_other_uids(session, new | owners)
    kept = Session.objects.create(
        rig=rig,
        name=session.name,
        ticks_per_quarter=session.ticks_per_quarter,
        tempos=session.tempos,
        meters=session.meters,
        end_tick=session.end_tick,
        sections=session.sections,
        loop=mine.loop,
        mix=mine.mix,
        handover=mine.handover,
    )
    if made := parse_datetime(session.created):
        Session.objects.filter(uid=kept.uid).update(created=made)
    placed = {new[one.uid]: seats.get(Seat(one.instrument_uid, one.part_uid)) for one in session.tracks}
    for track in mine.tracks:
        _store_track(kept, track, placed[track.uid], set(loops.values()))
    for track in mine.tracks:
        Track.objects.filter(uid=track.uid).update(voice_of=track.voice_of or None, fed_by=track.fed_by or None)
    for dump in session.dumps:
        _store_dump(kept, dump, (renamed_uids or {}).get(dump.box_uid, dump.box_uid))
    rigs = _kept_rigs(session, renamed_uids)
    for run in mine.passes:
        plain = {name: value for name, value in vars(run).items() if name not in ("uid", "started", "kept_rig")}
        plain["kept_rig"] = rigs.get(run.kept_rig)
        job = Job.objects.create(kind="pass", about=str(kept.uid), state=Job.DONE, progress=1.0)
        Pass.objects.create(uid=run.uid, session=kept, job=job, started=parse_datetime(run.started) or None, **plain)
    for old, take in zip(session.takes, mine.takes, strict=True):
        _store_take(kept, take, files[old.sound], files[old.fitted] if old.fitted else "")
    return kept


def _kept_rigs(session: ArchivedSession, names: Mapping[str, str] | None) -> dict[str, KeptRig]:
    """The rigs on which its passes were recorded, kept. What a copy does not hold any more is called anew as well,
    since it may stand on another rig here under its own name."""
    names = None if names is None else dict(names)
    found = {}
    for key, rig in session.rigs.items():
        for uid in sorted(uids_in(rig)) if names is not None else ():
            names.setdefault(uid, str(uuid.uuid4()))
        found[key] = keep_text(renamed(rig, names or {}))
    return found


def _store_dump(session: Session, dump: ArchivedDump, box_uid: str) -> None:
    plain = {"box_uid": box_uid[:36], "box_name": dump.box_name[:80], "source": dump.source[:8]}
    row = Dump.objects.create(session=session, **plain, data=bytes.fromhex(dump.data))
    made = parse_datetime(dump.made) or row.made
    Dump.objects.filter(uid=row.uid).update(made=made, verified=parse_datetime(dump.verified))


def _store_track(session: Session, track: ArchivedTrack, seat: Seat | None, loops: set[str]) -> None:
    plain = {name: value for name, value in vars(track).items() if name not in ("voice_of", "fed_by")}
    packed = {name: np.array(list(plain[name]), dtype=kind).tobytes() for name, kind in _PACKED.items()}
    plays = {"instrument_uid": seat.instrument if seat else "", "part_uid": seat.part if seat else ""}
    known = bool(track.patch_uid) and Patch.objects.filter(uid=track.patch_uid).exists()
    plays |= {"loop_uid": track.loop_uid if track.loop_uid in loops else "", "patch_uid": track.patch_uid * known}
    Track.objects.create(**plain | packed | plays, session=session)


def _store_take(session: Session, take: ArchivedTake, file: str, fitted: str) -> None:
    plain = {
        name: value for name, value in vars(take).items() if name not in ("track", "run", "sound", "fitted", "made")
    }
    Take.objects.create(
        **plain,
        session=session,
        track_id=take.track,
        run_id=take.run,
        file=file,
        fitted=fitted,
    )
    if made := parse_datetime(take.made):
        Take.objects.filter(uid=take.uid).update(made=made)
