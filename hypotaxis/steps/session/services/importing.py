"""A MIDI file becomes a session, all or nothing."""

from django.db import transaction

from hypotaxis.core.errors import UnsupportedScore
from hypotaxis.core.formats.smf import read_smf
from hypotaxis.core.session.score import Score, ScorePart
from hypotaxis.records.models import Instrument, Rig, Session, Track


@transaction.atomic
def import_score(rig: Rig, data: bytes, *, name: str) -> tuple[Session, Score]:
    """Store a new session with a track a channel; tracks are given to the instruments they seem to be meant for.

    Raises UnreadableFile or UnsupportedScore with the reason, and then stores nothing.
    """
    score = read_smf(data)
    if not score.parts:
        raise UnsupportedScore("The file has no notes: nothing could be played. Export the tracks that hold the notes.")
    session = Session.objects.create(
        rig=rig,
        name=name[:80],
        ticks_per_quarter=score.tempo.ticks_per_quarter,
        tempos=score.tempo.tempos,
        meters=score.tempo.meters,
        end_tick=score.end_tick,
    )
    instruments = list(rig.instruments.all())
    for order, part in enumerate(score.parts):
        Track.objects.create(
            session=session,
            order=order,
            name=part.name,
            file_channel=part.channel,
            instrument_uid=_meant_for(part, instruments),
            program=part.program,
            notes=part.notes.tobytes(),
            controls=part.controls.tobytes(),
        )
    return session, score


def _meant_for(part: ScorePart, instruments: list[Instrument]) -> str:
    """The instrument of the same name; otherwise the only one on the same channel; otherwise none."""
    by_name = [i for i in instruments if i.name.casefold() == part.name.casefold()]
    on_channel = [i for i in instruments if i.channel == part.channel]
    for found in (by_name, on_channel):
        if len(found) == 1:
            return str(found[0].uid)
    return ""
