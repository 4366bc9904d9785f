"""Which session and which sound does the stand view show? One choice for everyone."""

from collections.abc import Sequence
from dataclasses import dataclass

from django.db.models import QuerySet

from hypotaxis.core.plan import Instrument
from hypotaxis.records.asked import as_uuid
from hypotaxis.records.current import SessionName, session_names
from hypotaxis.records.models import Instrument as InstrumentRow
from hypotaxis.records.models import Job, Session, Stand
from hypotaxis.records.plan import instrument_value


@dataclass(frozen=True)
class StandSound:
    """The seat whose sounds are tried. key: "instrument/part" (uids); name: as it is spoken of; patch: uid, "" = none
    is called up."""

    key: str
    name: str
    instrument: Instrument
    part: str
    patch: str


def stand_row() -> Stand:
    """The one row; not stored before something is chosen."""
    return Stand.objects.first() or Stand()


def choose(**fields: object) -> None:
    """Store a choice."""
    row = Stand.objects.first()
    if row is None:
        Stand.objects.create(**fields)
    else:
        Stand.objects.filter(pk=row.pk).update(**fields)


def sessions() -> Sequence[SessionName]:
    """All that can be shown, of every rig in use, the newest first."""
    return session_names(_in_use(), of="every rig")


def _in_use() -> QuerySet[Session]:
    return Session.objects.filter(away=False, rig__away=False, rig__template=False)


def stand_session(row: Stand) -> Session | None:
    """The session in which something is recorded; otherwise the one that was chosen, otherwise the one that was
    recorded last, otherwise the newest."""
    rows = _in_use().select_related("rig")
    runs = rows.filter(passes__job__state__in=Job.UNFINISHED).first()
    if runs:
        return runs
    chosen = rows.filter(uid=row.session).first() if as_uuid(row.session) else None
    return chosen or rows.filter(passes__isnull=False).order_by("-passes__job__made").first() or rows.first()


def sounds_of(session: Session) -> list[StandSound]:
    """Every seat of the session's rig."""
    return [one for row in InstrumentRow.objects.filter(rig=session.rig) for one in _sounds(row)]


def sound_of_stand(row: Stand, session: Session) -> StandSound | None:
    """The chosen one; otherwise that of the first armed track, otherwise the first."""
    mine = InstrumentRow.objects.filter(rig=session.rig)
    armed = session.tracks.shown().filter(armed=True).exclude(instrument_uid="").first()
    for key in (row.sound, f"{armed.instrument_uid}/{armed.part_uid}" if armed else ""):
        uid, _, part = key.partition("/")
        if as_uuid(uid) and (found := mine.filter(uid=uid).first()):
            return next((one for one in _sounds(found) if one.part == part), _sounds(found)[0])
    first = mine.first()
    return _sounds(first)[0] if first else None


def _sounds(row: InstrumentRow) -> list[StandSound]:
    value = instrument_value(row)
    own = StandSound(f"{value.uid}/", value.name, value, "", value.patch)
    return [
        own,
        *(
            StandSound(f"{value.uid}/{one.uid}", f"{value.name}, {one.name}", value, one.uid, one.patch)
            for one in value.parts
        ),
    ]
