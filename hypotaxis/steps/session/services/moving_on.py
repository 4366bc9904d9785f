"""What comes after a pass: it is repeated, or it stands. One that is still recorded is ended first, and what was asked
for follows as soon as it has.
"""

import time

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.records.jobs import Reporter, ask, ask_to_cancel, newest, running, under_way, work
from hypotaxis.records.models import Job, Pass
from hypotaxis.steps.session.services import planning, recording

KIND = "next move"
REPEAT, ACCEPT = MOVES = ("repeat", "accept")
LOOK_S = 0.1


def move_on(run: Pass, move: str, *, token: str = "") -> str:
    """Repeat a pass, or let it stand, now or as soon as it has ended; what was done, in words. Raises
    CannotSchedule."""
    if not _is_busy(run, move):
        return _do(run, move, token)
    if move == ACCEPT and run.job.finished:
        told = "It stands as soon as it is measured."
    else:
        told = "It ends, and begins once more." if move == REPEAT else "It ends, and stands as soon as it is measured."
    if not under_way(KIND, str(run.uid)):
        # Asked for before it is ended, so that a worker that is quick finds it.
        ask(KIND, about=str(run.uid), request={"move": move}, token=token)
    # What only waits to be measured is recorded already: a row of passes that runs on behind it is left alone.
    if move == REPEAT or not run.job.finished:
        end(run)
    return told


def end(run: Pass) -> None:
    """End a pass, and the row of a plan that it belongs to; what came is kept."""
    if run.planned_id:
        planning.stop(run.planned.plan, after=False)
    ask_to_cancel(str(run.job_id))


def waiting_move(run: Pass) -> Job | None:
    """What a pass is waited for with, or the last that was."""
    return newest(KIND, str(run.uid))


@work(KIND)
def make_the_move(job_uid: str) -> None:
    """The task: wait until the pass has ended, then do it."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        move = reporter.job.request["move"]
        _do(_ended(reporter, move), move)


def _ended(reporter: Reporter, move: str) -> Pass:
    while True:
        run = Pass.objects.select_related("job", "measuring", "planned__plan__job", "session__rig").get(
            uid=reporter.job.about
        )
        if not _is_busy(run, move):
            return run
        reporter.tell(0.0)
        time.sleep(LOOK_S)


def _is_busy(run: Pass, move: str) -> bool:
    row = run.planned.plan if run.planned_id else None
    if not run.job.finished or (row and row.job and not row.job.finished):
        return True
    return move == ACCEPT and run.measuring is not None and not run.measuring.finished


def _do(run: Pass, move: str, token: str = "") -> str:
    if move == ACCEPT:
        if not run.takes.kept().exists():
            raise CannotSchedule(f"Nothing came of pass {run.number}, so nothing can stand. Repeat it.")
        return recording.accept_pass(run)
    if run.planned_id:
        planning.start(run.planned.plan, again=run.planned)
        return "Recorded once more."
    return f"Pass {recording.repeat_pass(run, token=token).number} is recorded."
