"""Sessions from nothing, and changes of their bars, tempo and pace, each a step of the journal."""

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType

from django.db import transaction

from hypotaxis.core.formats.plain import as_lists, to_json
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.session.arrange import Part, Piece, Section
from hypotaxis.records.journal import Edit, change_session
from hypotaxis.records.models import Change, Pass, Rig, Session, Track
from hypotaxis.records.plan import part_of


def piece_of(session: Session) -> Piece:
    """All of a session that is counted in ticks, its tracks that are put away too."""
    parts = {str(row.uid): part_of(row) for row in session.tracks.all()}
    sections = tuple(Section(*one) for one in session.sections)
    return Piece(session.tempo_map, session.end_tick, sections, parts)


@transaction.atomic
def new_session(rig: Rig, plan: Plan, piece: Piece, *, name: str, tracks: bool) -> Session:
    """A session out of a piece without notes. tracks: one for every seat of every instrument, in their order."""
    session = Session.objects.create(rig=rig, name=name[:80], **_fields(piece))
    if tracks:
        for instrument in plan.instruments:
            for seat in instrument.seats:
                add_track(session, instrument, seat.part)
    return session


def add_track(session: Session, instrument: Instrument, part: str = "") -> Track:
    """A track without notes for an instrument, or for a part of it (uid), behind the others."""
    return Track.objects.create(session=session, **track_fields(session, instrument, part))


def add_effect(session: Session, loop: Loop) -> Track:
    """A track of an effect loop, behind the others, to which nothing is sent yet."""
    last = session.tracks.order_by("-order").first()
    return Track.objects.create(session=session, name=loop.name, loop_uid=loop.uid, order=last.order + 1 if last else 0)


def track_fields(session: Session, instrument: Instrument, part: str, *, behind: int = 0) -> dict:
    """Fields of a track for an instrument or a part of it (uid), behind the others and so many more."""
    seat = instrument.seat(part)
    last = session.tracks.order_by("-order").first()
    name = f"{instrument.name}: {seat.name}" if seat.name else instrument.name
    return {
        "order": (last.order + 1 if last else 0) + behind,
        "name": name[:80],
        "file_channel": seat.channel,
        "instrument_uid": instrument.uid,
        "part_uid": part,
    }


@transaction.atomic
def arrange(
    session: Session, title: str, after: Piece, new: Mapping[str, dict] = MappingProxyType({})
) -> Change | None:
    """Turn a session into another piece as one step of the journal. new: further fields of tracks that change, all
    fields of those that it has not got yet, by their uid."""
    before = piece_of(session)
    edits = [Edit("session", str(session.uid), _fields(after))]
    for uid, part in after.parts.items():
        was, kept = before.parts.get(uid), _rows(part)
        if was is None or _rows(was) != kept:
            edits.append(Edit("track", uid, kept | new.get(uid, {})))
    return change_session(session, title, edits)


def arrange_part(track: Track, title: str, part: Part) -> Change | None:
    """Turn a track into another part of the same piece, as one step of the journal."""
    return change_session(track.session, title, [Edit("track", str(track.uid), _rows(part))])


def _rows(part: Part) -> dict:
    played = b"" if part.played is None else part.played.tobytes()
    kept = {"notes": part.notes.tobytes(), "controls": part.controls.tobytes(), "played": played}
    made = {"grid": part.grid, "generator": part.generator}
    return kept | {name: to_json(value) if value else None for name, value in made.items()}


def lay_tempo(run: Pass) -> str:
    """Let the session have the tempo of this pass, so that its bars stand on the bars. Returns what was done, in
    words."""
    piece = piece_of(run.session)
    after = replace(piece, tempo=replace(piece.tempo, tempos=run.tempo_map.tempos))
    arrange(run.session, f"Tempo of pass {run.number} under {run.session.name}", after)
    return f"{run.session.name} goes by the tempo of pass {run.number}, {run.tempo_map.told} BPM."


def _fields(piece: Piece) -> dict:
    return {
        "ticks_per_quarter": piece.tempo.ticks_per_quarter,
        "tempos": as_lists(piece.tempo.tempos),
        "meters": as_lists(piece.tempo.meters),
        "end_tick": piece.end_tick,
        "sections": [[one.tick, one.name] for one in piece.sections],
    }
