"""Patch lists between rows and core values, and on their way in and out with a rig's file."""

from collections.abc import Iterable, Sequence
from dataclasses import asdict, fields
from uuid import UUID

from django.db import transaction

from hypotaxis.core.midi.programs import Program, change_messages, mix_messages
from hypotaxis.core.patches import values
from hypotaxis.core.plan import Instrument, Plan, Voice
from hypotaxis.records.models import Patch, PatchList, Track
from hypotaxis.records.stamps import kept_while

_PATCH_FIELDS = tuple(field.name for field in fields(values.Patch))
_LONGEST = {"name": 120, "number": 12, "category": 80}
"""Characters kept of a text (as in the model)."""


@transaction.atomic
def store(patches: values.PatchList, title: str, form: str = "") -> PatchList:
    """Store a list, all or nothing."""
    kept = PatchList.objects.create(name=title[:80], form=form, **_lists(patches))
    _store_patches(kept, ({} for _ in patches.patches), patches.patches)
    return kept


def _lists(patches: values.PatchList) -> dict:
    return {
        "banks": [asdict(bank) for bank in patches.banks],
        "note_maps": [asdict(one) for one in patches.note_maps],
    }


def _store_patches(kept: PatchList, noted: Iterable[dict], patches: Iterable[values.Patch]) -> None:
    rows = []
    for row, (more, patch) in enumerate(zip(noted, patches, strict=True)):
        texts = {name: getattr(patch, name)[:longest] for name, longest in _LONGEST.items()}
        plain = {name: getattr(patch, name) for name in _PATCH_FIELDS}
        rows.append(Patch(list=kept, row=row, **plain | texts | more))
    Patch.objects.bulk_create(rows, batch_size=1000)


def as_value(kept: PatchList) -> values.PatchList:
    """A stored list as a core value, to be written as a file."""
    return values.PatchList(
        name=kept.name,
        banks=tuple(values.Bank(**bank) for bank in kept.banks),
        patches=tuple(
            values.Patch(**row | {"controls": _pairs(row["controls"])}) for row in kept.patches.values(*_PATCH_FIELDS)
        ),
        note_maps=note_maps_of(kept),
    )


def note_maps_of(kept: PatchList) -> tuple[values.NoteMap, ...]:
    """The note maps of a stored list."""
    return tuple(
        values.NoteMap(name=one["name"], notes=tuple(values.NoteName(**note) for note in one["notes"]))
        for one in kept.note_maps
    )


def voices_of(instrument: Instrument) -> list[Voice]:
    """The voices of an instrument: its own, otherwise those that its note map names."""
    if instrument.voices:
        return list(instrument.voices)
    maps = kept_while(("names",), "note maps", _every_map).get(instrument.patch_list, {})
    notes = maps[instrument.note_map].notes if instrument.note_map in maps else ()
    return [Voice(note=note.note, name=note.name) for note in notes]


def _every_map() -> dict[str, dict[str, values.NoteMap]]:
    """The note maps of each list (uid) that has any, by name."""
    lists = PatchList.objects.exclude(note_maps=[]).defer("banks")
    return {str(one.uid): {named.name: named for named in note_maps_of(one)} for one in lists}


def picked(instrument: Instrument, part: str = "") -> Patch | None:
    """The patch that is called up on an instrument, or on one of its parts (uid), if its list is still there."""
    return all_picked([instrument]).get((instrument.uid, part))


def all_picked(instruments: Sequence[Instrument]) -> dict[tuple[str, str], Patch]:
    """The same of many instruments and all of their parts at once, by the uids of instrument and part ("" = the
    first)."""
    uids = {(one.uid, ""): one.patch for one in instruments}
    uids |= {(one.uid, part.uid): part.patch for one in instruments for part in one.parts}
    found = Patch.objects.filter(uid__in={uid for uid in uids.values() if uid}).select_related("list")
    patches = {str(patch.uid): patch for patch in found}
    return {seat: patches[uid] for seat, uid in uids.items() if uid in patches}


def on_the_wire(patch: Patch) -> Program:
    """A stored patch's numbers."""
    return Program(patch.program, patch.msb, patch.lsb, _pairs(patch.controls))


def sound_of(track: Track) -> Program | None:
    """What is called up for a track: the patch it was picked as while that says the same, otherwise its numbers."""
    return programs_of([track])[track.uid]


def programs_of(tracks: Sequence[Track]) -> dict[UUID, Program | None]:
    """The same of many tracks (uid) at once."""
    uids = {track.patch_uid for track in tracks if track.patch_uid}
    patches = {str(patch.uid): patch for patch in Patch.objects.filter(uid__in=uids)} if uids else {}
    return {track.uid: _called(track, patches.get(track.patch_uid)) for track in tracks}


def _called(track: Track, patch: Patch | None) -> Program | None:
    same = patch and (patch.program, patch.msb, patch.lsb) == (track.program, track.msb, track.lsb)
    return on_the_wire(patch) if same else track.sound


def _pairs(rows: Iterable[Iterable[int]]) -> tuple[tuple[int, int], ...]:
    return tuple((number, value) for number, value in rows)


def calls_of(instrument: Instrument) -> list[tuple[str, bytes]]:
    """The messages that call up the patches that are picked for an instrument's parts, with their level and pan; each
    with the port (socket uid) it leaves by."""
    calls = []
    for seat, part in zip(instrument.seats, (None, *instrument.parts), strict=True):
        patch = picked(instrument, seat.part)
        if patch:
            calls += change_messages(seat.channel, on_the_wire(patch), instrument.bank_form)
        calls += mix_messages(seat.channel, part.level, part.pan) if part else []
        calls = [(seat.send, one) if isinstance(one, bytes) else one for one in calls]
    return calls


def track_calls(track: Track, instrument: Instrument) -> list[bytes]:
    """The messages that call up a track's sound, in the form its instrument's box wants, with its part's level and
    pan."""
    return calls_with(sound_of(track), track, instrument)


def calls_with(sound: Program | None, track: Track, instrument: Instrument) -> list[bytes]:
    """The same where the track's sound is known."""
    seat = instrument.seat(track.part_uid)
    part = next((one for one in instrument.parts if one.uid == seat.part), None)
    calls = change_messages(seat.channel, sound, instrument.bank_form) if sound else []
    return [*calls, *(mix_messages(seat.channel, part.level, part.pan) if part else ())]


def lists_of(plan: Plan) -> tuple[values.KeptList, ...]:
    """The lists that name the sounds of a plan's instruments, with what their owner noted, for the rig's file."""
    uids = tuple(sorted({one.patch_list for one in plan.instruments if one.patch_list}))
    return kept_while(("names",), ("lists", uids), lambda: _read_lists(uids))


def _read_lists(uids: Sequence[str]) -> tuple[values.KeptList, ...]:
    return tuple(_kept_value(kept) for kept in PatchList.objects.filter(uid__in=uids).order_by("uid"))


def _kept_value(kept: PatchList) -> values.KeptList:
    plain = as_value(kept)
    noted = kept.patches.values_list("uid", "favourite", "checked")
    patches = tuple(
        values.KeptPatch(
            uid=str(uid), favourite=favourite, checked=checked.isoformat() if checked else "", **asdict(patch)
        )
        for patch, (uid, favourite, checked) in zip(plain.patches, noted, strict=True)
    )
    return values.KeptList(
        uid=str(kept.uid),
        form=kept.form,
        name=plain.name,
        banks=plain.banks,
        patches=patches,
        note_maps=plain.note_maps,
    )


@transaction.atomic
def keep_lists(lists: Iterable[values.KeptList]) -> None:
    """Keep the lists that came with a rig's file; one that is there already stays as it is."""
    for one in lists:
        taken = Patch.objects.filter(uid__in=[patch.uid for patch in one.patches]).exists()
        if taken or PatchList.objects.filter(uid=one.uid).exists():
            continue
        kept = PatchList.objects.create(uid=one.uid, name=one.name[:80], form=one.form, **_lists(one))
        noted = ({"uid": p.uid, "favourite": p.favourite, "checked": p.checked or None} for p in one.patches)
        _store_patches(kept, noted, one.patches)
