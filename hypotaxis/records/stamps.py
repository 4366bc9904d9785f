"""What has been read out of the database, kept as long as the rows it was read from stay as they are.

Each subject's tables have triggers that replace its stamp by a random number at any change (SQLite's documentation of
CREATE TRIGGER and random()). A stamp so stands for the content of its tables, inside a transaction as well, after one
that was taken back, and whichever process wrote. The triggers are made after each migration, since a table that a
migration makes anew has lost its own.
"""

import pickle
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Concatenate, ParamSpec, TypeVar

from django.db import connection

from hypotaxis.core.kept import Keeping
from hypotaxis.records import models

SUBJECTS = {
    "rig": (
        models.Rig,
        models.Box,
        models.Socket,
        models.Route,
        models.Cable,
        models.Instrument,
        models.Loop,
        models.Tick,
    ),
    "boxes": (models.Box, models.Route, models.Socket),
    "sockets": (models.Socket,),
    "routes": (models.Route,),
    "cables": (models.Cable,),
    "instruments": (models.Instrument, models.Loop),
    "studio": (models.Studio, models.EndName),
    "desk": (models.FrontPanel,),
    "soundings": (models.Sounding,),
    "names": (models.PatchList, models.Patch),
    "lists": (models.PatchList,),
    "takes": (models.Session, models.Track, models.Pass, models.Take),
    "steps": (models.Change,),
    "work": (models.Job, models.PlayIn),
}
"""Subject → the tables that it is made of."""
KEPT = 64
"""Answers kept at most, over all subjects."""
_TRIES = 3
_Value = TypeVar("_Value", bound=Keeping)
_Asked = ParamSpec("_Asked")
_Answer = TypeVar("_Answer")
_looked: ContextVar[dict[str, int | None] | None] = ContextVar("looked", default=None)
_lock = threading.Lock()
_answers: OrderedDict[Hashable, tuple[tuple, object]] = OrderedDict()
"""What is kept under each key: the stamps under which it was read, and the answer."""


def set_triggers(**_) -> None:
    """Make the stamps and the triggers that are missing; called after each migration.

    The triggers update: what they would do about a conflict is decided by the statement that fires them.
    """
    stamps = models.Stamp._meta.db_table
    with connection.cursor() as cursor:
        for subject, tables in SUBJECTS.items():
            cursor.execute(f"INSERT OR IGNORE INTO {stamps} (subject, value) VALUES ('{subject}', random())")
            for table in (one._meta.db_table for one in tables):
                for change in ("INSERT", "UPDATE", "DELETE"):
                    name = f"stamp_{subject}_{table}_{change.lower()}"
                    cursor.execute(
                        f"CREATE TRIGGER IF NOT EXISTS {name} AFTER {change} ON {table} BEGIN "
                        f"UPDATE {stamps} SET value = random() WHERE subject = '{subject}'; END"
                    )


def stamps_of(*subjects: str) -> tuple[int | None, ...]:
    """The subjects' stamps now, None = there is none; inside `one_look` as they were at first."""
    known = _looked.get()
    if not known:
        with connection.cursor() as cursor:
            read = dict(cursor.execute(f"SELECT subject, value FROM {models.Stamp._meta.db_table}"))
        if known is None:
            known = read
        else:
            known.update(read or {"": None})
    return tuple(known.get(subject) for subject in subjects)


@contextmanager
def one_look() -> Iterator[None]:
    """The stamps are read once for all that is asked inside and kept already. Whoever has read something anew looks
    again, so that what is asked later is never older than it."""
    token = _looked.set({})
    try:
        yield
    finally:
        _looked.reset(token)


def _look_again() -> None:
    known = _looked.get()
    if known is not None:
        known.clear()


def kept_with(
    value: _Value, subjects: tuple[str, ...], work: Callable[Concatenate[_Value, _Asked], _Answer], *asked: _Asked.args
) -> _Answer:
    """What a function of a frozen value, and of hashable ones, reads besides them, worked out once as long as they and
    the subjects' rows stay; only the last answer is kept. It is shared, so nobody may change it."""
    stamps, kept = stamps_of(*subjects), value.kept[work]
    if None in stamps:
        return work(value, *asked)
    if (known := kept.get((stamps, *asked))) is not None:
        return known
    answer = work(value, *asked)
    _look_again()
    kept.clear()
    kept[stamps, *asked] = answer
    return answer


def kept_while(subjects: tuple[str, ...], key: Hashable, work: Callable[[], _Answer]) -> _Answer:
    """What `work` reads, worked out once for each key as long as the subjects' rows stay as they are. It is shared
    between threads, so nobody may change it."""
    for _ in range(_TRIES):
        stamps = stamps_of(*subjects)
        if None in stamps:
            return work()
        whole = (str(connection.settings_dict["NAME"]), subjects, key)
        with _lock:
            if whole in _answers and _answers[whole][0] == stamps:
                _answers.move_to_end(whole)
                return _answers[whole][1]
        answer = work()
        _look_again()
        # What was changed while it was read is neither of before nor of after.
        if stamps_of(*subjects) == stamps:
            break
    else:
        return answer
    with _lock:
        _answers[whole] = stamps, answer
        _answers.move_to_end(whole)
        while len(_answers) > KEPT:
            _answers.popitem(last=False)
    return answer


def rows_while(subjects: tuple[str, ...], key: Hashable, read: Callable[[], _Answer]) -> _Answer:
    """The rows that `read` finds, or none, read again only when the subjects' rows have changed. They are copies, each
    reader's own to change, with what they belonged to when they were read."""
    return pickle.loads(kept_while(subjects, key, lambda: pickle.dumps(read(), pickle.HIGHEST_PROTOCOL)))
