"""What the stand view's buttons do. Whoever presses them, on a screen or by a key, comes here."""

from collections.abc import Callable

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.playing.tryout import TryOutWish, usual_note
from hypotaxis.core.session.passes import leader_of
from hypotaxis.core.studio import STAND_IN
from hypotaxis.records.jobs import ask_to_cancel, end_what_sounds
from hypotaxis.records.models import Job, Session
from hypotaxis.records.patch_lists import picked
from hypotaxis.records.plan import last_bar_of, load_plan
from hypotaxis.steps.instruments.services import patches, trying
from hypotaxis.steps.rig import checking
from hypotaxis.steps.session.forms import PassForm
from hypotaxis.steps.session.services import moving_on, planning, recording
from hypotaxis.web.panic import end_all
from hypotaxis.web.stand.chosen import choose, sound_of_stand, stand_row, stand_session

RECORD, STOP, REPEAT, ACCEPT, CHECK, PANIC = "record", "stop", "repeat", "accept", "check", "panic"
TRY, PREVIOUS, NEXT, ARM = "try", "previous", "next", "arm"
ACTS = {
    RECORD: "Record, or Stop",
    STOP: "Stop",
    REPEAT: "Repeat",
    ACCEPT: "Accept",
    TRY: "Play the sound",
    PREVIOUS: "Sound before",
    NEXT: "Next sound",
    CHECK: "Line check",
    PANIC: "Panic",
}
"""By their names, as they are spoken of."""


def act(name: str, token: str = "", *, about: str = "") -> str:
    """Do one of ACTS, or ARM the track `about` (uid); what was done, in words. token: of the press, which counts once.
    Raises CannotSchedule."""
    if name == PANIC:
        return end_all()
    if name not in (*ACTS, ARM):
        raise CannotSchedule("This button is not known. Load the page anew.")
    session = stand_session(stand_row())
    if name == STOP:
        return _stop(session)
    if session is None:
        raise CannotSchedule("There is no session yet. Begin one, or import a file, on the Session step.")
    return _arm(session, about) if name == ARM else _OF[name](session, token)


def _stop(session: Session | None) -> str:
    run = _running(session) if session else None
    if run:
        moving_on.end(run)
        return "The pass ends; what came is kept."
    end_what_sounds()
    return "It ends."


def _arm(session: Session, uid: str) -> str:
    """Arm a track, or let it be."""
    track = next((one for one in session.tracks.shown().filter(committed=False) if str(one.uid) == uid), None)
    if track is None:
        raise CannotSchedule("That track is gone. Load the page anew.")
    if _running(session):
        raise CannotSchedule("A pass is recorded. Choose when it has ended.")
    session.tracks.filter(uid=uid).update(armed=not track.armed)
    return f"{track.name} is {'not armed any more' if track.armed else 'armed'}."


def _running(session: Session):
    return session.passes.select_related("job", "planned__plan__job").filter(job__state__in=Job.UNFINISHED).last()


def _record(session: Session, token: str) -> str:
    choose(session=str(session.uid))
    if _running(session):
        # One key for both: what records is stopped by it.
        return _stop(session)
    row = planning.newest(session)
    if row and planning.WAITS in planning.plan_state(session).states:
        planning.start(row, one=True)
        return "The next pass of the plan is recorded."
    plan = load_plan(session.rig)
    leader, last = leader_of(plan), last_bar_of(session)
    typed = recording.settings_of(session, last, asked={})
    form = PassForm(_as_typed(typed), leader=leader.name if leader else "", plan=plan)
    if not form.is_valid():
        raise CannotSchedule("The bars or the way to begin are none of this session's. See the session's page.")
    asked = form.asked()
    asked["fast"] = asked["fast"] and plan.studio_kind == STAND_IN
    run = recording.start_pass(session, plan, **asked, token=token)
    return f"Pass {run.number} is recorded."


def _as_typed(settings: dict) -> dict:
    return {name: "on" if value is True else value for name, value in settings.items() if value is not False}


def _move(move: str) -> Callable[[Session, str], str]:
    def made(session: Session, token: str) -> str:
        choose(session=str(session.uid))
        run = session.passes.select_related("job", "measuring", "planned__plan__job", "session__rig").last()
        if run is None:
            raise CannotSchedule("No pass has been recorded yet.")
        return moving_on.move_on(run, move, token=token)

    return made


def _sound(step: int) -> Callable[[Session, str], str]:
    """Play the chosen sound, or its neighbour; step: −1, 0 or 1."""

    def played(session: Session, _: str) -> str:
        chosen = sound_of_stand(stand_row(), session)
        if chosen is None:
            raise CannotSchedule("There is no instrument yet. Define one on the Instruments step.")
        if _running(session):
            raise CannotSchedule("A pass is recorded. Sounds are tried when it has ended.")
        plan = load_plan(session.rig)
        instrument = plan.instrument(chosen.instrument.uid)
        if step:
            now, kept = picked(instrument, chosen.part), patches.list_of(instrument)
            if kept is None:
                raise CannotSchedule(f"No list names the sounds of {instrument.name}. Choose one on its page.")
            patch = patches.neighbour(now, step) if now else kept.patches.first()
            if patch is None:
                raise CannotSchedule("That is the end of the list.")
            patches.pick(session.rig, plan, instrument, patch, session, part=chosen.part)
        for job in Job.objects.filter(kind="try-out", state__in=Job.UNFINISHED):
            ask_to_cancel(str(job.uid))
        trying.start_tryout(session.rig, instrument.uid, TryOutWish(note=usual_note(plan, instrument)))
        return ""

    return played


def _check(session: Session, token: str) -> str:
    checking.start(session.rig, load_plan(session.rig), checking.Wish(), token=token)
    return "Every line is played in turn."


_OF: dict[str, Callable[[Session, str], str]] = {
    RECORD: _record,
    REPEAT: _move(moving_on.REPEAT),
    ACCEPT: _move(moving_on.ACCEPT),
    TRY: _sound(0),
    PREVIOUS: _sound(-1),
    NEXT: _sound(1),
    CHECK: _check,
}
