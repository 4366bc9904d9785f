"""Every change to a rig goes through here, so that it can be taken back and repeated.

A change is a list of edits; an edit puts a row (all its fields) or removes it. The journal keeps each row's fields
before and after. Undo writes the "before" in reverse order, redo the "after". A new change drops what was undone.
"""

import uuid
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from django.db import transaction

from hypotaxis.core.errors import NothingToUndo
from hypotaxis.records.models import Box, Cable, Change, Instrument, Rig, Socket

KINDS = {"rig": Rig, "box": Box, "socket": Socket, "cable": Cable, "instrument": Instrument}
KEPT_STEPS = 200
_NEVER_CHANGED = ("uid", "created")


@dataclass(frozen=True)
class Edit:
    """Put the row of this kind and uid with these fields (merged into what it has), or remove it (fields None)."""

    kind: str
    uid: str
    fields: dict[str, Any] | None


@transaction.atomic
def change_rig(rig: Rig, title: str, edits: Iterable[Edit]) -> Change | None:
    """Apply the edits as one step named `title`; None when nothing changed."""
    steps = []
    for edit in _with_dependants(edits):
        before = _fields(edit.kind, edit.uid)
        after = None if edit.fields is None else (before or {}) | _plain(edit.fields)
        if before == after:
            continue
        _write(edit.kind, edit.uid, after)
        steps.append({"kind": edit.kind, "uid": edit.uid, "before": before, "after": after})
    if not steps:
        return None
    rig.changes.filter(undone=True).delete()
    change = Change.objects.create(rig=rig, title=title[:200], edits=steps)
    oldest = rig.changes.order_by("-id").values_list("id", flat=True)[KEPT_STEPS:]
    rig.changes.filter(id__in=list(oldest)).delete()
    return change


@transaction.atomic
def undo(rig: Rig) -> str:
    """Take back the last step; its title. Raises NothingToUndo."""
    change = last_done(rig)
    if change is None:
        raise NothingToUndo("There is nothing to undo.")
    for step in reversed(change.edits):
        _write(step["kind"], step["uid"], step["before"])
    change.undone = True
    change.save(update_fields=["undone"])
    return change.title


@transaction.atomic
def redo(rig: Rig) -> str:
    """Repeat the step last taken back; its title. Raises NothingToUndo."""
    change = first_undone(rig)
    if change is None:
        raise NothingToUndo("There is nothing to redo.")
    for step in change.edits:
        _write(step["kind"], step["uid"], step["after"])
    change.undone = False
    change.save(update_fields=["undone"])
    return change.title


def last_done(rig: Rig) -> Change | None:
    """The step undo would take back."""
    return rig.changes.filter(undone=False).last()


def first_undone(rig: Rig) -> Change | None:
    """The step redo would repeat."""
    return rig.changes.filter(undone=True).first()


def _with_dependants(edits: Iterable[Edit]) -> list[Edit]:
    """A removed box takes its sockets along, a removed socket its cables; all are journalled."""
    result = []
    for edit in edits:
        if edit.fields is None and edit.kind == "box":
            sockets = Socket.objects.filter(box_id=edit.uid).values_list("uid", flat=True)
            result += _with_dependants(Edit("socket", str(uid), None) for uid in sockets)
        if edit.fields is None and edit.kind == "socket":
            cables = Cable.objects.filter(source_id=edit.uid) | Cable.objects.filter(target_id=edit.uid)
            result += [Edit("cable", str(cable.uid), None) for cable in cables]
        result.append(edit)
    return result


def _fields(kind: str, uid: str) -> dict[str, Any] | None:
    row = KINDS[kind].objects.filter(uid=uid).values().first()
    return None if row is None else _plain({name: value for name, value in row.items() if name not in _NEVER_CHANGED})


def _plain(fields: dict[str, Any]) -> dict[str, Any]:
    return {name: str(value) if isinstance(value, uuid.UUID) else value for name, value in fields.items()}


def _write(kind: str, uid: str, fields: dict[str, Any] | None) -> None:
    model = KINDS[kind]
    if fields is None:
        model.objects.filter(uid=uid).delete()
    else:
        model.objects.update_or_create(uid=uid, defaults=fields)
