"""The sheet of settings of the rig and session in use: what is known of them, gathered for core.session.sheet."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import date
from uuid import UUID

from django.urls import reverse
from django.utils import timezone
from django.utils.formats import date_format

from hypotaxis.core.drawing.sheet import BoxDrawing, draw_sheet
from hypotaxis.core.midi.programs import wire_told
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.sheet import (
    BACK,
    OUT,
    Card,
    Known,
    Label,
    Photo,
    RigPicture,
    Sheet,
    Sound,
    Wire,
    sheet_of,
)
from hypotaxis.records.lateness import known_latenesses
from hypotaxis.records.models import Session, Tick, Track
from hypotaxis.records.patch_lists import all_picked, programs_of, voices_of
from hypotaxis.records.pictures import picture_path
from hypotaxis.records.plan import last_bar_of, loop_of, session_anew, tracks_of
from hypotaxis.records.stamps import kept_with

SUBJECTS = ("rig", "studio", "takes", "names", "soundings")


def settings_sheet(plan: Plan, session: Session | None) -> Sheet:
    """Of a rig, with its session where there is one."""
    sheet = kept_with(plan, SUBJECTS, _sheet, session and session.uid, timezone.localdate())
    return replace(sheet, photos=tuple(_photos(plan)))


def _sheet(plan: Plan, uid: UUID | None, day: date) -> Sheet:
    """All of it but the photos."""
    session = session_anew(uid) if uid else None
    tracks = tracks_of(session) if session else ()
    known = Known(
        session=session.name if session else "",
        day=date_format(day, "j F Y"),
        tempo=session.tempo_map if session else None,
        last_bar=last_bar_of(session) if session else 0,
        wrap=_wrap_told(session) if session else "",
        latenesses=known_latenesses(plan),
        sounds=dict(_sounds(plan, tracks)),
        maps={one.uid: _notes(plan, one) for one in plan.instruments},
        days=_days(plan),
        picture=_picture(plan),
    )
    return sheet_of(plan, known)


def _days(plan: Plan) -> dict[str, str]:
    """On which day what is ticked was ticked, the last one."""
    ticks = Tick.objects.filter(rig__uid=plan.rig.uid, key__in=plan.ticked).order_by("day")
    return {tick.key: date_format(tick.day, "j M Y") for tick in ticks}


def _picture(plan: Plan) -> RigPicture | None:
    """The out-and-back sheet as the sheet of settings shows it: cards, labels and cables."""
    if not plan.rig.boxes:
        return None
    drawn = draw_sheet(plan)
    cards = tuple(Card(box.x, box.y, box.w, box.h, _name(box), box.colour, tuple(_labels(box))) for box in drawn.boxes)
    inks = {"out": OUT, "back": BACK}
    dashed = ("send", "network")
    wires = tuple(Wire(one.path, inks.get(one.ink, ""), one.kind in dashed) for one in drawn.cables)
    return RigPicture(drawn.width, drawn.height, cards, wires)


def _name(box: BoxDrawing) -> Label:
    if box.compact:
        return Label(box.x + box.w / 2, box.y + box.h / 2 + 5, box.title, "middle")
    return Label(box.x + 10, box.y + 18, box.title, "start")


def _labels(box: BoxDrawing) -> Iterator[Label]:
    anchors = {"left": ("start", 9.0, 4.0), "right": ("end", -9.0, 4.0), "bottom": ("start", 9.0, -5.0)}
    for one in box.sockets:
        anchor, right, down = anchors[one.side]
        yield Label(one.x + right, one.y + down, one.label, anchor)


def _photos(plan: Plan) -> Iterator[Photo]:
    for box in plan.rig.boxes:
        if box.picture and (path := picture_path(box.picture)).exists():
            yield Photo(box.name, str(path), reverse("rig:picture", args=[box.picture]))


def _wrap_told(session: Session) -> str:
    loop = loop_of(session)
    if not loop.bars:
        return ""
    last = loop.first_bar + loop.bars - 1
    return f"The loop is bars {loop.first_bar} to {last}, {loop.times} times; what is sent at its wrap stands above."


def _sounds(plan: Plan, tracks: Sequence[Track]):
    """What is called up on each part: on its track, otherwise as it was picked."""
    first = {}
    for track in tracks:
        if track.is_written:
            first.setdefault((track.instrument_uid, track.part_uid), track)
    called, patches = programs_of(list(first.values())), all_picked(plan.instruments)
    for one in plan.instruments:
        for seat in one.seats:
            track, patch = first.get((one.uid, seat.part)), patches.get((one.uid, seat.part))
            sound = called[track.uid] if track and not patch else None
            if patch:
                yield (
                    (one.uid, seat.part),
                    Sound(f"{patch.number} {patch.name}", wire_told(patch.program, patch.msb, patch.lsb)),
                )
            elif sound:
                yield (one.uid, seat.part), Sound("", wire_told(sound.program, sound.msb, sound.lsb))


def _notes(plan: Plan, one: Instrument) -> list[tuple[int, str, str]]:
    homes = {back.uid: returns_text(plan.rig, back.inputs) for back in one.every_return if back.inputs}
    main = homes.get("", "no return")
    return [(voice.note, voice.name, homes.get(voice.home, main)) for voice in voices_of(one)]
