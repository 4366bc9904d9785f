"""Playing freely: keys sound on an instrument without anything being recorded, and what was played in the last minutes
can be fetched back. It goes on until it is stopped, and gives way to whatever else wants the studio.
"""

import time
from contextlib import closing
from dataclasses import replace
from datetime import timedelta

from django.db import transaction
from django.utils import timezone

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.plan import Plan
from hypotaxis.core.playing.keys import echo_rules
from hypotaxis.core.playing.played_in import fetched
from hypotaxis.core.rig.ports import keys_in
from hypotaxis.core.session.arrange import together, with_bars
from hypotaxis.core.studio import Message, RunSetup
from hypotaxis.core.units import counted
from hypotaxis.records.jobs import Reporter, begin, hand_over, running, work
from hypotaxis.records.models import Job, PlayedChunk, PlayIn, Session, Track
from hypotaxis.records.plan import load_plan
from hypotaxis.records.studio import Silence, is_wanted, studio_for
from hypotaxis.steps.session.services.arranging import arrange, piece_of
from hypotaxis.steps.session.services.playing_in import fine, keep

KIND = "playing freely"
KEPT_EVERY_S, LOOK_S = 1.0, 0.3
KEPT_MIN = 5
"""So much of it is kept."""


def start_free(session: Session, plan: Plan, track: Track) -> PlayIn:
    """Let the keys sound on a track's instrument from now on; once is enough. Raises CannotSchedule."""
    if plan.instrument(track.instrument_uid) is None:
        raise CannotSchedule(f"{track.name} has no instrument, so nothing would be heard under the hands. Choose one.")
    with transaction.atomic():
        for other in free_now(session):
            Job.objects.filter(uid=other.job_id).update(cancel=True)
        job = begin(KIND, about=str(session.uid))
        row = PlayIn.objects.create(session=session, track=track, job=job, free=True, laid=True, accepted=True)
    hand_over(job)
    return row


def free_now(session: Session) -> list[PlayIn]:
    """What plays freely in a session; one, but while another takes its place."""
    found = session.played_in.filter(free=True, job__state__in=Job.UNFINISHED, job__cancel=False)
    return list(found.select_related("track", "job"))


@work(KIND)
def play_freely(job_uid: str) -> None:
    """The task: pass on what is played and keep it, until it is stopped."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row = PlayIn.objects.select_related("session__rig", "track").get(job_id=job_uid)
        while True:
            plan = load_plan(row.session.rig)
            with studio_for(plan) as studio:
                _pass_on(row, plan, studio, reporter)
            reporter.report(0.0)
            time.sleep(LOOK_S)


def _pass_on(row: PlayIn, plan: Plan, studio, reporter: Reporter) -> None:
    ports = {end.socket.system_name for end in keys_in(plan.rig)}
    source, waiting = Silence(), []
    # Runs follow each other: what is kept counts on, from one clock for all of them.
    began_ns, kept_at = time.monotonic_ns(), time.monotonic()
    asked = RunSetup(echo=echo_rules(plan, plan.instrument(row.track.instrument_uid)))
    try:
        with closing(studio.run(source, asked)) as blocks:
            for block in blocks:
                came = [one for one in block.received if one.port in ports]
                waiting += [replace(one, time_ns=one.time_ns + began_ns) for one in came]
                if time.monotonic() - kept_at >= KEPT_EVERY_S:
                    keep(row, waiting)
                    _forget_old(row)
                    kept_at = time.monotonic()
                if reporter.due():
                    reporter.report(0.0)
                    source.over = source.over or is_wanted()
    finally:
        keep(row, waiting)


def _forget_old(row: PlayIn) -> None:
    row.chunks.filter(made__lt=timezone.now() - timedelta(minutes=KEPT_MIN)).delete()


@transaction.atomic
def fetch_back(session: Session, track: Track, *, bar: int) -> str:
    """Lay what was played freely last into a track from a bar on, as one step of the journal; what was done, in words.
    Raises CannotSchedule, BadBars."""
    rows = PlayedChunk.objects.filter(play_in__session=session, play_in__free=True).values_list("messages", flat=True)
    kept = [Message(at, port, bytes.fromhex(data)) for messages in rows for at, port, data in messages]
    piece = fine(piece_of(session))
    if bar > piece.bars:
        piece = with_bars(piece, bar)
    found = fetched(sorted(kept, key=lambda one: one.time_ns), piece.tempo, first_tick=piece.tempo.bar_tick(bar))
    part = found.rounds[0]
    if not len(part.notes):
        raise CannotSchedule(f"Nothing was played freely in the last {KEPT_MIN} minutes.")
    whole = {**piece.parts, str(track.uid): together(piece.parts[str(track.uid)], part)}
    ends = int((part.notes["tick"] + part.notes["duration"]).max())
    after = replace(piece, parts=whole)
    arrange(session, f"Fetched back to {track.name}", with_bars(after, max(piece.bars, piece.tempo.last_bar(ends))))
    return f"{counted(len(part.notes), 'note')} fetched back to {track.name}, from bar {bar} on."
