"""What there is to tidy up in a rig's sessions, and how large it is."""

from dataclasses import dataclass

from hypotaxis.records.current import InUse
from hypotaxis.records.housekeeping import Weighed, weighed
from hypotaxis.records.models import Session, Track

KINDS = {"session": Session, "track": Track}
OWNED_BY = {"session": "rig", "track": "session__rig"}


@dataclass(frozen=True)
class House:
    """What is in use and what is put away."""

    sessions: list[Weighed]
    tracks: list[Weighed]
    """Of the session in use."""
    away: list[Weighed]


def house_of(here: InUse) -> House:
    """The sessions of the rig in use, and the tracks of its session."""
    sessions = [weighed(one) for one in here.rig.sessions.all()]
    tracks = [weighed(one) for one in here.session.tracks.all()] if here.session else []
    return House(
        [one for one in sessions if not one.row.away],
        [one for one in tracks if not one.row.away],
        [one for one in (*sessions, *tracks) if one.row.away],
    )


def copy_session(session: Session) -> Session:
    """The same notes, tempo and instruments under another name, without takes."""
    taken = set(session.rig.sessions.values_list("name", flat=True))
    name = next(f"{session.name[:70]} {n}" for n in range(2, 10_000) if f"{session.name[:70]} {n}" not in taken)
    tracks = list(session.tracks.shown())
    made = Session.objects.create(
        rig=session.rig,
        name=name,
        ticks_per_quarter=session.ticks_per_quarter,
        tempos=session.tempos,
        meters=session.meters,
        end_tick=session.end_tick,
    )
    kept = ("order", "name", "file_channel", "instrument_uid", "program", "msb", "lsb", "patch_uid", "part_uid")
    Track.objects.bulk_create(
        Track(session=made, notes=one.notes, controls=one.controls, **{name: getattr(one, name) for name in kept})
        for one in tracks
    )
    return made
