"""What there is to tidy up in a rig's sessions, and how large it is."""

from dataclasses import dataclass
from uuid import UUID

from hypotaxis.records.current import InUse
from hypotaxis.records.housekeeping import Weighed, all_weighed
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
    sessions = all_weighed(list(here.rig.sessions.all()))
    tracks = all_weighed(list(here.session.tracks.all())) if here.session else []
    return House(
        [one for one in sessions if not one.row.away],
        [one for one in tracks if not one.row.away],
        [one for one in (*sessions, *tracks) if one.row.away],
    )


def copy_session(session: Session) -> Session:
    """The same notes, tempo and instruments under another name, without takes."""
    taken = set(session.rig.sessions.values_list("name", flat=True))
    name = next(f"{session.name[:70]} {n}" for n in range(2, 10_000) if f"{session.name[:70]} {n}" not in taken)
    made = Session.objects.create(**_fields_of(session) | {"name": name})
    copies: dict[UUID, Track] = {}
    for one in session.tracks.shown().order_by("voice_of", "order"):
        mine = {"session": made, "armed": False, "chosen": []}
        source = copies.get(one.voice_of_id)
        # Those whose notes others play come first; voices of a track that is put away have nothing to play.
        if source or one.voice_of_id is None:
            copies[one.uid] = Track(**_fields_of(one) | mine | {"voice_of": source, "fed_by": None})
    for one in session.tracks.shown().exclude(fed_by=None):
        copies[one.uid].fed_by = copies.get(one.fed_by_id)
    Track.objects.bulk_create(copies.values())
    return made


def _fields_of(row: Session | Track) -> dict:
    """All that is stored of a row but what makes it itself."""
    own = ("uid", "created")
    return {field.name: getattr(row, field.name) for field in row._meta.concrete_fields if field.name not in own}
