"""Every change to a rig or to a session's notes and bars goes through here, so that it can be taken back and repeated.

Changes of the rig and of its sessions are one line of steps in the order in which they were made; those of sessions
that are not in use are left out of it: they touch other rows.

A change is a list of edits; an edit puts a row (those of its fields that change) or removes it. The journal keeps these
fields before and after. Undo writes the "before" in reverse order, redo the "after". A new change drops what was
undone. Plan, change and rows belong into one transaction (`current.in_one_go`): what two windows do is done in turn.
"""

import base64
import uuid
import zlib
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.db.models import Q, QuerySet

from hypotaxis.core.errors import NothingToUndo
from hypotaxis.core.plan import Plan
from hypotaxis.core.studio import STAND_IN
from hypotaxis.records.models import (
    Box,
    Cable,
    Change,
    EndName,
    Instrument,
    Loop,
    Rig,
    Route,
    Session,
    Socket,
    Take,
    Track,
)
from hypotaxis.records.plan import key_of_end, row_fields, studio_row
from hypotaxis.records.stamps import kept_while

KINDS = {
    "rig": Rig,
    "box": Box,
    "socket": Socket,
    "route": Route,
    "cable": Cable,
    "instrument": Instrument,
    "loop": Loop,
    "session": Session,
    "track": Track,
}
_REMOVED_FIRST = ("cable", "route", "instrument", "loop", "socket", "box")
KEPT_STEPS = 200
PACKED = "packed"
_NEVER_CHANGED = ("uid", "created")


@dataclass(frozen=True)
class Edit:
    """Put the row of this kind and uid with these fields (merged into what it has), or remove it (fields None)."""

    kind: str
    uid: str
    fields: dict[str, Any] | None


def change_plan(rig: Rig, title: str, before: Plan, after: Plan) -> Change | None:
    """Turn a plan into another as one step named `title`; None when they are the same. What a studio of real devices
    calls an end is kept for this computer, and no step of the rig's."""
    return change_rig(rig, title, _keep_names(edits_between(before, after)))


def _keep_names(edits: list[Edit]) -> list[Edit]:
    """Keep the names that real devices have been matched to; the edits without them."""
    studio = studio_row()
    if studio.kind == STAND_IN:
        return edits
    kept = []
    for edit in edits:
        known = edit.kind == "socket" and edit.fields and Socket.objects.filter(uid=edit.uid).exists()
        if known and "system_name" in edit.fields:
            name = edit.fields["system_name"]
            EndName.objects.update_or_create(
                studio=studio.kind, socket_uid=edit.uid, defaults={"name": name, "key": key_of_end(studio, name)}
            )
            rest = {field: value for field, value in edit.fields.items() if field != "system_name"}
            kept += [Edit(edit.kind, edit.uid, rest)] if rest else []
        else:
            kept.append(edit)
    return kept


def edits_between(before: Plan, after: Plan) -> list[Edit]:
    """What has to be put and removed to get from one plan to the other. A cable whose ends change is taken out first,
    since a socket takes one cable."""
    old, new = row_fields(before), row_fields(after)
    gone = sorted((key for key in old if key not in new), key=lambda key: _REMOVED_FIRST.index(key[0]))
    replugged = [
        key
        for key, fields in new.items()
        if key[0] == "cable" and key in old and any(fields[end] != old[key][end] for end in ("source_id", "target_id"))
    ]
    edits = [Edit(*key, None) for key in [*replugged, *gone]]
    for key, fields in new.items():
        stood = {} if key in replugged else old.get(key, {})
        changed = {name: value for name, value in fields.items() if name not in stood or stood[name] != value}
        if changed:
            edits.append(Edit(*key, changed))
    return edits


def change_session(session: Session, title: str, edits: Iterable[Edit]) -> Change | None:
    """Apply edits of a session and its tracks as one step of its own; None when nothing changed."""
    return change_rig(session.rig, title, edits, session)


@transaction.atomic
def change_rig(rig: Rig, title: str, edits: Iterable[Edit], session: Session | None = None) -> Change | None:
    """Apply the edits as one step named `title`; None when nothing changed. session: whose step it is."""
    steps = []
    for edit in edits:
        before = _fields(edit.kind, edit.uid)
        after = None if edit.fields is None else _plain(edit.fields)
        if before is not None and after is not None:
            after = {name: value for name, value in after.items() if before.get(name) != value}
            before = {name: before[name] for name in after}
        if before == after:
            continue
        _write(edit.kind, edit.uid, after)
        steps.append({"kind": edit.kind, "uid": edit.uid, "before": before, "after": after})
    if not steps:
        return None
    _line(rig, session).filter(undone=True).delete()
    change = Change.objects.create(rig=rig, session=session, title=title[:200], edits=steps)
    oldest = rig.changes.order_by("-id").values_list("id", flat=True)[KEPT_STEPS:]
    rig.changes.filter(id__in=list(oldest)).delete()
    return change


@transaction.atomic
def undo(rig: Rig, session: Session | None = None) -> str:
    """Take back the last step of the rig, or of the session in use; its title. Raises NothingToUndo."""
    change = last_done(rig, session)
    if change is None:
        raise NothingToUndo("There is nothing to undo.")
    for step in reversed(change.edits):
        _write(step["kind"], step["uid"], step["before"])
    change.undone = True
    change.save(update_fields=["undone"])
    return change.title


@transaction.atomic
def redo(rig: Rig, session: Session | None = None) -> str:
    """Repeat the step last taken back; its title. Raises NothingToUndo."""
    change = first_undone(rig, session)
    if change is None:
        raise NothingToUndo("There is nothing to redo.")
    for step in change.edits:
        _write(step["kind"], step["uid"], step["after"])
    change.undone = False
    change.save(update_fields=["undone"])
    return change.title


def last_done(rig: Rig, session: Session | None = None) -> Change | None:
    """The step undo would take back; what it changed is read when it is asked for."""
    return _line(rig, session).filter(undone=False).defer("edits").last()


def first_undone(rig: Rig, session: Session | None = None) -> Change | None:
    """The step redo would repeat, in the same way."""
    return _line(rig, session).filter(undone=True).defer("edits").first()


@dataclass(frozen=True)
class Around:
    """The steps before and behind where a rig and its session stand, by their titles; "" where there is none."""

    undo: str
    redo: str


def around(rig: Rig, session: Session | None = None) -> Around:
    """What undo and redo would do, as every page tells it."""
    key = ("around", str(rig.uid), str(session.uid) if session else "")
    return kept_while(("steps",), key, lambda: _around(rig, session))


def _around(rig: Rig, session: Session | None) -> Around:
    steps = last_done(rig, session), first_undone(rig, session)
    return Around(*(step.title if step else "" for step in steps))


def _line(rig: Rig, session: Session | None) -> QuerySet[Change]:
    return rig.changes.filter(Q(session=None) | Q(session=session))


def _fields(kind: str, uid: str) -> dict[str, Any] | None:
    row = KINDS[kind].objects.filter(uid=uid).values().first()
    return None if row is None else _plain({name: value for name, value in row.items() if name not in _NEVER_CHANGED})


def _plain(fields: dict[str, Any]) -> dict[str, Any]:
    return {name: _as_json(value) for name, value in fields.items()}


def _as_json(value: Any) -> Any:
    if isinstance(value, uuid.UUID):
        return str(value)
    if isinstance(value, bytes | memoryview):
        # Notes: packed, since a part of 50,000 has a megabyte, and every step keeps two of them.
        return {PACKED: base64.b64encode(zlib.compress(bytes(value), 1)).decode()}
    return value


def _from_json(value: Any) -> Any:
    if isinstance(value, dict) and set(value) == {PACKED}:
        return zlib.decompress(base64.b64decode(value[PACKED]))
    return value


def _write(kind: str, uid: str, fields: dict[str, Any] | None) -> None:
    model = KINDS[kind]
    if fields is None and kind == "track" and Take.objects.filter(track=uid).exists():
        # What was recorded outlives the step that made its track: it is put away with it, and comes back with it.
        model.objects.filter(uid=uid).update(away=True)
    elif fields is None:
        model.objects.filter(uid=uid).delete()
    else:
        values = {name: _from_json(value) for name, value in fields.items()}
        model.objects.update_or_create(uid=uid, defaults=values)
