"""The stand view by the keys of a controller: pressed, learned by pressing, listened to while nothing else plays."""

import logging
import time
from contextlib import closing

from django.db import close_old_connections

from hypotaxis.core.errors import CannotSchedule, HypotaxisError
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.playing.stand_keys import StandKey, key_of
from hypotaxis.core.studio import STAND_IN, KeptOut, RunSetup
from hypotaxis.records.jobs import ask, newest, running, under_way, work
from hypotaxis.records.models import Job, Rig
from hypotaxis.records.plan import load_plan, studio_row
from hypotaxis.records.studio import Silence, is_wanted, stand_keys, studio_for
from hypotaxis.web.stand.acts import ACTS, act
from hypotaxis.web.stand.chosen import choose, stand_row, stand_session

log = logging.getLogger(__name__)
KIND = "stand key"
LEARN_S = 20.0
LOOK_EVERY_S = 0.5


def pressed(name: str) -> None:
    """A key was pressed: do what its button does. Called in a thread of its own; what cannot be done is logged."""
    try:
        act(name)
    except HypotaxisError as error:
        log.warning("the key for %s did nothing: %s", name, error)
    finally:
        close_old_connections()


def learn(rig: Rig, name: str, *, token: str = "") -> Job:
    """Let the worker wait for the key that is to press a button. Raises CannotSchedule."""
    if name not in ACTS:
        raise CannotSchedule("This button is not known. Load the page anew.")
    if before := under_way(KIND, str(rig.uid)):
        return before
    return ask(KIND, about=str(rig.uid), request={"act": name}, token=token)


def forget(name: str) -> None:
    """Let no key press a button any more."""
    choose(keys=[to_json(one) for one in stand_keys() if one.act != name])


@work(KIND)
def learn_key(job_uid: str) -> None:
    """The task: listen on every port for the first press, and keep it."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        name = reporter.job.request["act"]
        plan = load_plan(Rig.objects.get(uid=reporter.job.about))
        with studio_for(plan, keys=False) as studio:
            frames = round(LEARN_S * studio.sample_rate)
            with closing(studio.run(Silence(), RunSetup(frames=frames))) as blocks:
                for block in blocks:
                    found = next((key for one in block.received if (key := key_of(one))), None)
                    if found:
                        keep(name, found)
                        return
                    reporter.tell((block.start + len(block.samples)) / frames)
        raise CannotSchedule(
            "No key came in. Look on the studio's sheet whether the controller's port is there, then press again."
        )


def keep(name: str, key: KeptOut) -> None:
    """Let a key press a button, and nothing else any more."""
    others = [one for one in stand_keys() if one.act != name and one.key != key]
    choose(keys=[to_json(one) for one in [*others, StandKey(name, key)]])


def learning(rig: Rig) -> Job | None:
    """What waits for a key, or the last that did."""
    return newest(KIND, str(rig.uid))


def listen_while_idle() -> None:
    """For the worker, for good: while there are keys and nothing else plays, listen to real ports for a press."""
    while True:
        time.sleep(LOOK_EVERY_S)
        try:
            _listen_once()
        except Exception:
            # A studio that does not answer now may answer later.
            log.exception("the stand view's keys could not be listened to")
            time.sleep(20 * LOOK_EVERY_S)
        finally:
            close_old_connections()


def _listen_once() -> None:
    """Until something else wants the studio, or the keys are others."""
    keys, session = stand_keys(), stand_session(stand_row())
    if not keys or session is None or studio_row().kind == STAND_IN or is_wanted():
        return
    source, looked = Silence(), time.monotonic()
    with (
        studio_for(load_plan(session.rig)) as studio,
        closing(studio.run(source, RunSetup())) as blocks,
    ):
        for _ in blocks:
            if time.monotonic() - looked > LOOK_EVERY_S:
                looked = time.monotonic()
                source.over = source.over or stand_keys() != keys
            source.over = source.over or is_wanted()


def rows() -> list[tuple[str, str, StandKey | None]]:
    """(act, its name, its key) of every button."""
    named = {one.act: one for one in stand_keys()}
    return [(name, told, named.get(name)) for name, told in ACTS.items() if name != "stop"]
