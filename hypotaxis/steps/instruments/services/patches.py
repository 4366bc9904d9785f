"""Patch lists: looked at before anything is kept, kept, searched, called up.

What is uploaded or pasted waits as a file in the data folder while its preview is looked at; "keep" reads it again.
"""

import uuid
from collections.abc import Callable
from dataclasses import asdict, replace
from datetime import date
from pathlib import Path

import numpy as np
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from hypotaxis.core.errors import UnreadableFile
from hypotaxis.core.formats.unknown import patches_in
from hypotaxis.core.patches import values
from hypotaxis.core.patches.general_midi import general_midi
from hypotaxis.core.patches.search import NameIndex
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.change import set_instrument
from hypotaxis.records.audio import folder, forget_old, write_whole
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Patch, PatchList, Rig, Session
from hypotaxis.records.patch_lists import store
from hypotaxis.records.stamps import kept_while

SHOWN = 60
"""Rows shown at once of a search."""
AT_HAND = 24
ONLY: dict[str, Callable[[QuerySet], QuerySet]] = {
    "favourites": lambda patches: patches.filter(favourite=True),
    "used": lambda patches: patches.exclude(used=None).order_by("-used"),
}
"""What a search may be kept to."""
WAITING = 20
"""Previews kept at the most."""


def put_aside(data: bytes, *, pasted: bool) -> str:
    """Keep what was uploaded or pasted until its preview is decided on; its name."""
    ending = ".pasted" if pasted else ".list"
    path = write_whole("previews", ending, lambda stream: stream.write(data))
    forget_old("previews", "*", WAITING)
    return path.name


def preview(name: str, form: str = "") -> tuple[str, values.ReadList]:
    """(what it is, the list in it). form: the number form that was chosen for pasted text. Raises UnreadableFile, also
    when it no longer waits."""
    path = _waiting(name)
    return patches_in(path, pasted=path.suffix == ".pasted", form=form)


def _waiting(name: str) -> Path:
    path = folder("previews") / Path(name).name
    if not path.is_file():
        raise UnreadableFile("This preview is gone. Choose the file, or paste the text, again.")
    return path


def keep(name: str, title: str, banks: list[tuple[int | None, int | None]], form: str = "") -> PatchList:
    """Store what waits under a name, with the bank numbers and the number form as they were confirmed."""
    _, found = preview(name, form)
    patches = with_banks(found.patches, banks)
    kept = store(patches, title, found.form)
    _waiting(name).unlink(missing_ok=True)
    return kept


def with_banks(patches: values.PatchList, banks: list[tuple[int | None, int | None]]) -> values.PatchList:
    """The list with other bank numbers; patches that had their bank's follow."""
    rows = []
    for patch in patches.patches:
        bank = patches.banks[patch.bank]
        msb, lsb = banks[patch.bank] if patch.bank < len(banks) else (bank.msb, bank.lsb)
        follows = (patch.msb, patch.lsb) == (bank.msb, bank.lsb)
        rows.append(values.Patch(**asdict(patch) | ({"msb": msb, "lsb": lsb} if follows else {})))
    named = tuple(
        values.Bank(name=bank.name, msb=numbers[0], lsb=numbers[1])
        for bank, numbers in zip(patches.banks, banks, strict=False)
    )
    return values.PatchList(
        name=patches.name,
        banks=named + patches.banks[len(named) :],
        patches=tuple(rows),
        note_maps=patches.note_maps,
    )


def add_general_midi() -> PatchList:
    """The General MIDI sound set as a list of its own."""
    return store(general_midi(), "General MIDI 1", "1")


def find(kept: PatchList, words: str, *, only: str = "") -> tuple[list[Patch], int]:
    """(the first of the patches that hold all the words, how many there are). only: "favourites" or "used"."""
    rows, index = _index_of(kept)
    found = rows[index.find(words)]
    if only not in ONLY:
        return list(kept.patches.filter(row__in=found[:SHOWN].tolist())), len(found)
    holding = set(found.tolist())
    mine = [patch for patch in ONLY[only](kept.patches.all()) if patch.row in holding]
    return mine[:SHOWN], len(mine)


def _index_of(kept: PatchList) -> tuple[np.ndarray, NameIndex]:
    """(the rows of a list's patches in their order, their names to be searched). A patch is never renamed: another list
    takes its list's place."""

    def made() -> tuple[np.ndarray, NameIndex]:
        sounds = list(kept.patches.values_list("row", "name", "category", "number"))
        return np.array([row for row, *_ in sounds], dtype=int), NameIndex(sound for _, *sound in sounds)

    return kept_while(("lists",), ("names", str(kept.uid)), made)


def at_hand(kept: PatchList) -> list[Patch]:
    """What is offered before anything is typed: the favourites, otherwise the beginning of the list."""
    return find(kept, "", only="favourites")[0] or list(kept.patches.all()[:AT_HAND])


@transaction.atomic
def pick(
    rig: Rig, plan: Plan, instrument: Instrument, patch: Patch, session: Session | None, *, part: str = ""
) -> None:
    """Call a patch up on an instrument, or on one of its parts (uid): it is kept with the instrument, and with the
    tracks of the session that play it."""
    Patch.objects.filter(uid=patch.uid).update(used=timezone.now())
    fields: dict = {"patch": str(patch.uid)}
    if part:
        fields = {"parts": tuple(replace(p, patch=str(patch.uid)) if p.uid == part else p for p in instrument.parts)}
    after = set_instrument(plan, instrument.uid, patch_list=str(patch.list_id), **fields)
    change_plan(rig, f"{instrument.name}: {patch.number} {patch.name}", plan, after)
    if session:
        session.tracks.filter(instrument_uid=instrument.uid, part_uid=part).update(
            program=patch.program, msb=patch.msb, lsb=patch.lsb, patch_uid=str(patch.uid)
        )


def use_list(rig: Rig, plan: Plan, instrument: Instrument, kept: PatchList | None) -> None:
    """Let a list name an instrument's sounds, or none."""
    title = f"{instrument.name}: sounds of {kept.name}" if kept else f"{instrument.name}: no patch list"
    uid = str(kept.uid) if kept else ""
    patch = instrument.patch if uid == instrument.patch_list else ""
    parts = instrument.parts if uid == instrument.patch_list else tuple(replace(p, patch="") for p in instrument.parts)
    change_plan(rig, title, plan, set_instrument(plan, instrument.uid, patch_list=uid, patch=patch, parts=parts))


def neighbour(patch: Patch, step: int) -> Patch | None:
    """The patch before or after in its list."""
    if step > 0:
        return patch.list.patches.filter(row__gt=patch.row).first()
    return patch.list.patches.filter(row__lt=patch.row).last()


def list_of(instrument: Instrument) -> PatchList | None:
    """The list that names an instrument's sounds."""
    try:
        return PatchList.objects.filter(uid=uuid.UUID(instrument.patch_list)).first()
    except ValueError:
        return None


def mark(patch: Patch, what: str) -> None:
    """Turn a mark on or off: "favourite", or "checked" by ear today."""
    if what == "favourite":
        patch.favourite = not patch.favourite
    else:
        patch.checked = None if patch.checked else date.today()
    patch.save(update_fields=["favourite", "checked"])
