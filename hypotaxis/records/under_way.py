"""What of a session is under way? Every page tells it."""

from hypotaxis.records.models import Job, Pass, PlayIn, Session
from hypotaxis.records.stamps import rows_while


def recorded_now(session: Session) -> Pass | None:
    """The pass that is recorded or waits for it, with its work."""

    def look() -> Pass | None:
        return Pass.objects.filter(session=session, job__state__in=Job.UNFINISHED).select_related("job").first()

    found = rows_while(("takes", "work"), ("recorded now", str(session.uid)), look)
    if found:
        found.session = session
    return found


def played_in(session: Session) -> PlayIn | None:
    """What is played in now, or was last and waits for its answer, with its work and track."""

    def look() -> PlayIn | None:
        row = session.played_in.filter(free=False).select_related("job", "track", "session").last()
        return row if row and not row.accepted else None

    return rows_while(("takes", "work"), ("played in", str(session.uid)), look)
