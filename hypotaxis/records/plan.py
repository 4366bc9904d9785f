"""Rows to core values and back: the one place that knows both."""

import json
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import asdict, fields, replace
from functools import lru_cache
from typing import Any
from uuid import UUID

import numpy as np
from django.db.models import CharField, QuerySet
from django.db.models.functions import Cast
from django.utils import timezone

from hypotaxis.core import plan as core
from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import as_lists, as_tuples, from_json
from hypotaxis.core.grid.values import Grid
from hypotaxis.core.midi.shaping import Shaping
from hypotaxis.core.rig import values
from hypotaxis.core.session.arrange import Part
from hypotaxis.core.session.generators import Generator
from hypotaxis.core.session.score import CONTROL, NOTE
from hypotaxis.core.session.tempo import DEFAULT_US_PER_QUARTER
from hypotaxis.core.studio import STAND_IN, AudioEnd, Port, Reported, RunTold
from hypotaxis.core.sync.course import Course, course_of_bars
from hypotaxis.core.sync.values import Following, LoopSetting, Sending
from hypotaxis.records import models as rows
from hypotaxis.records.stamps import kept_while, rows_while

RIG_FIELDS = ("name", "sample_rate", "buffer", "echo", "leader", "driver", "stamps", "together")
BOX_FIELDS = ("name", "shape", "note", "colour", "order", "by_hand", "icon", "picture", "identity")
SOCKET_FIELDS = tuple(field.name for field in fields(values.Socket) if field.name != "uid")
BOX_VALUES = ("setup", "delays", "following")
"""Fields of a box that hold a value of a kind, stored as JSON."""
INSTRUMENT_FIELDS = tuple(
    field.name
    for field in fields(core.Instrument)
    if field.name not in ("uid", "box", "send", "returns", "shaping", "parts", "further", "voices", "standing")
)
INSTRUMENT_LISTS = {"parts": core.Part, "further": core.Return, "voices": core.Voice}
"""Fields of an instrument that hold several values of a kind."""
LOOP_FIELDS = tuple(field.name for field in fields(core.Loop) if field.name not in ("uid", "box"))
CABLE_FIELDS = ("kind", "adapter", "length_m", "colour", "label")
ON_THE_BOX = "panel-"
"""How keys of ticks of settings on a box begin; all others belong to the start-up list of a day."""


def load_plan(rig: rows.Rig) -> core.Plan:
    """The whole plan of a rig, its ends called as the studio in use calls them, with what real devices said last; the
    same value as long as nothing of it changes. The stand-in is not asked here."""
    return kept_while(("rig", "studio"), ("plan", str(rig.uid), timezone.localdate()), lambda: _in_its_studio(rig))


def _in_its_studio(rig: rows.Rig) -> core.Plan:
    studio = studio_row()
    known = {"studio_kind": studio.kind, "studio": reported_by(studio), "told": told_by(studio)}
    return with_names_of(replace(load_kept(rig), **known))


def studio_row() -> rows.Studio:
    """The studio that this computer uses."""
    return rows.Studio.objects.first() or rows.Studio()


def reported_by(studio: rows.Studio) -> Reported | None:
    """What a studio of real devices said last."""
    return from_json(Reported, studio.reported) if studio.kind != STAND_IN and studio.reported else None


def told_by(studio: rows.Studio) -> RunTold | None:
    """What the last run on real devices said of itself."""
    return from_json(RunTold, studio.last_run) if studio.kind != STAND_IN and studio.last_run else None


def with_names_of(plan: core.Plan) -> core.Plan:
    """The plan with its ends called as its studio calls them. The stand-in's names are kept with the rig, since it has
    no desk but the rig; those of real devices are this computer's."""
    if plan.studio_kind == STAND_IN:
        return plan
    reported = _reported(plan.studio)
    there, known = {end.key: shown for shown, end in reported}, {shown for shown, _ in reported}
    rows_of = rows.EndName.objects.filter(studio=plan.studio_kind).values_list("socket_uid", "name", "key")
    # What the system names anew is known by its key.
    names = {uid: name if name in known else there.get(key, name) for uid, name, key in rows_of}
    boxes = tuple(
        replace(box, sockets=tuple(replace(one, system_name=names.get(one.uid, "")) for one in box.sockets))
        for box in plan.rig.boxes
    )
    return replace(plan, rig=replace(plan.rig, boxes=boxes))


def _reported(found: Reported | None) -> list[tuple[str, Port | AudioEnd]]:
    """(shown name, end) of all that a studio reports."""
    if found is None:
        return []
    return [(port.system_name, port) for port in found.ports] + [
        (end.name, end) for end in (*found.inputs, *found.outputs)
    ]


def key_of_end(studio: rows.Studio, name: str) -> str:
    """What stays of a reported end's name when the system names it anew; "" where it is not reported."""
    return next((end.key for shown, end in _reported(reported_by(studio)) if shown == name), "")


def load_kept(rig: rows.Rig) -> core.Plan:
    """The whole plan of a rig as it is kept, and leaves in a file; the same value as long as nothing of it changes."""
    return kept_while(("rig",), ("kept", str(rig.uid), timezone.localdate()), lambda: _read_whole(rig.uid))


def _read_whole(uid: UUID) -> core.Plan:
    """It in nine queries; of each kind of rows only where one of them has changed."""
    rig, key = rows.Rig.objects.get(uid=uid), str(uid)
    boxes = kept_while(("boxes",), ("boxes", key), lambda: _boxes_of(rig))
    cables = kept_while(("cables",), ("cables", key), lambda: _cables_of(rig))
    instruments, loops = kept_while(("instruments",), ("instruments", key), lambda: _played_of(rig))
    return core.Plan(
        rig=values.Rig(uid=key, **{name: getattr(rig, name) for name in RIG_FIELDS}, boxes=boxes, cables=cables),
        instruments=instruments,
        loops=loops,
        meant=tuple(core.Meant(**row) for row in rig.meant),
        ticked=ticked(rig),
    )


def _boxes_of(rig: rows.Rig) -> tuple[values.Box, ...]:
    """The boxes with their sockets and routes."""
    sockets = kept_while(("sockets",), ("sockets", str(rig.uid)), lambda: _sockets_of(rig))
    routes = kept_while(("routes",), ("routes", str(rig.uid)), lambda: _routes_of(rig))
    found = []
    for uid, setup, delays, following, *rest in _as_text(rig.boxes.all(), "uid", stored=BOX_VALUES, more=BOX_FIELDS):
        fields_of = dict(zip(BOX_FIELDS, rest, strict=True))
        fields_of |= {"setup": _stored(values.Setup, setup), "delays": _stored(values.Delays, delays)}
        fields_of |= {"following": _stored(Following, following)}
        found.append(values.Box(uid=uid, **fields_of, sockets=sockets.get(uid, ()), routes=routes.get(uid, ())))
    return tuple(found)


def _routes_of(rig: rows.Rig) -> dict[str, tuple[values.Route, ...]]:
    """The routes of each box (uid)."""
    routes: dict[str, list[values.Route]] = defaultdict(list)
    mine, ends = rows.Route.objects.filter(box__rig=rig), ("box_id", "uid", "source_id", "target_id")
    lists, more = ("channels", "remap"), ("clock", "gain_db")
    for box, uid, source, target, channels, remap, *rest in _as_text(mine, *ends, stored=lists, more=more):
        taken = {"channels": _stored(as_tuples, channels), "remap": _stored(as_tuples, remap)}
        taken |= zip(more, rest, strict=True)
        routes[box].append(values.Route(uid=uid, source=source, target=target, **taken))
    return {box: tuple(mine) for box, mine in routes.items()}


def _played_of(rig: rows.Rig) -> tuple[tuple[core.Instrument, ...], tuple[core.Loop, ...]]:
    """The instruments and the effect loops."""
    return tuple(instrument_value(row) for row in rig.instruments.all()), tuple(
        core.Loop(uid=str(row.uid), box=row.box_uid, **{name: as_tuples(getattr(row, name)) for name in LOOP_FIELDS})
        for row in rig.loops.all()
    )


def _sockets_of(rig: rows.Rig) -> dict[str, tuple[values.Socket, ...]]:
    """The sockets of each box (uid)."""
    sockets: dict[str, list[values.Socket]] = defaultdict(list)
    for box, uid, *rest in _as_text(rows.Socket.objects.filter(box__rig=rig), "box_id", "uid", more=SOCKET_FIELDS):
        fields_of = dict(zip(SOCKET_FIELDS, rest, strict=True))
        if fields_of["sending"] is not None:
            fields_of["sending"] = _known(Sending, fields_of["sending"])
        sockets[box].append(values.Socket(uid=uid, **fields_of))
    return {box: tuple(mine) for box, mine in sockets.items()}


def _cables_of(rig: rows.Rig) -> tuple[values.Cable, ...]:
    return tuple(
        values.Cable(uid=uid, source=source, target=target, **dict(zip(CABLE_FIELDS, rest, strict=True)))
        for uid, source, target, *rest in _as_text(rig.cables.all(), "uid", "source_id", "target_id", more=CABLE_FIELDS)
    )


def _as_text(found: QuerySet, *uids: str, stored: tuple[str, ...] = (), more: tuple[str, ...] = ()) -> Iterator[list]:
    """Rows with their uids as text, then JSON as it is stored, then other fields. Thousands of UUID objects, and of
    values out of JSON that are mostly alike, would cost more than the rest."""
    texts = {f"{name}_text": Cast(name, CharField()) for name in (*uids, *stored)}
    for row in found.annotate(**texts).values_list(*texts, *more):
        hexed = row[: len(uids)]
        yield [*(f"{h[:8]}-{h[8:12]}-{h[12:16]}-{h[16:20]}-{h[20:]}" for h in hexed), *row[len(uids) :]]


@lru_cache(maxsize=4096)
def _stored(kind: Callable, text: str) -> Any:
    """A frozen value out of stored JSON: of a kind, its fields; otherwise what a function makes of it."""
    plain = json.loads(text)
    return _known(kind, plain) if isinstance(kind, type) else kind(plain)


def ticked(rig: rows.Rig) -> frozenset[str]:
    """Keys of the start-up list ticked today, and of the settings made on the boxes."""
    today = timezone.localdate()
    found = rig.ticks.values_list("key", "day")
    return frozenset(key for key, day in found if day == today or key.startswith(ON_THE_BOX))


def _known(kind: type, row: dict[str, Any]):
    """A value of this kind out of a stored object; fields that are not stored have their defaults."""
    names = {field.name for field in fields(kind)}
    return kind(**{name: as_tuples(value) for name, value in row.items() if name in names})


def instrument_value(row: rows.Instrument) -> core.Instrument:
    """One instrument row as a core value."""
    return core.Instrument(
        uid=str(row.uid),
        box=row.box_uid,
        send=row.send_uid,
        returns=tuple(row.returns),
        standing=as_tuples(row.standing),
        shaping=_known(Shaping, row.shaping),
        **{name: tuple(_known(kind, one) for one in getattr(row, name)) for name, kind in INSTRUMENT_LISTS.items()},
        **{name: getattr(row, name) for name in INSTRUMENT_FIELDS},
    )


def row_fields(plan: core.Plan) -> dict[tuple[str, str], dict[str, Any]]:
    """Everything of a plan that is kept in rows: (kind, uid) → fields, in an order in which they can be written."""
    rig = plan.rig
    found: dict[tuple[str, str], dict[str, Any]] = {
        ("rig", rig.uid): {name: getattr(rig, name) for name in RIG_FIELDS}
        | {"meant": [asdict(one) for one in plan.meant]}
    }
    for box in rig.boxes:
        found["box", box.uid] = box_fields(box, rig.uid)
    for box in rig.boxes:
        for row, socket in enumerate(box.sockets):
            found["socket", socket.uid] = socket_fields(socket, box.uid, row)
        for row, route in enumerate(box.routes):
            found["route", route.uid] = _route_fields(route, box.uid, row)
    for cable in rig.cables:
        found["cable", cable.uid] = cable_fields(cable, rig.uid)
    for order, instrument in enumerate(plan.instruments):
        found["instrument", instrument.uid] = instrument_fields(instrument, rig.uid, order)
    for order, loop in enumerate(plan.loops):
        plain = {name: as_lists(getattr(loop, name)) for name in LOOP_FIELDS}
        found["loop", loop.uid] = {"rig_id": rig.uid, "order": order, "box_uid": loop.box} | plain
    return found


def box_fields(box: values.Box, rig_uid: str) -> dict[str, Any]:
    """A box's fields as stored."""
    setup = _lists_of(box.setup)
    values_of_box = {name: getattr(box, name) for name in BOX_FIELDS}
    nested = {"setup": setup, "delays": asdict(box.delays), "following": _lists_of(box.following)}
    return {"rig_id": rig_uid} | nested | values_of_box


def _lists_of(value) -> dict[str, Any]:
    return {name: as_lists(one) for name, one in asdict(value).items()}


def socket_fields(socket: values.Socket, box_uid: str, row: int) -> dict[str, Any]:
    """A socket's fields as stored."""
    fields_of = {name: getattr(socket, name) for name in SOCKET_FIELDS}
    sending = None if socket.sending is None else asdict(socket.sending)
    return {"box_id": box_uid, "row": row} | fields_of | {"sending": sending}


def _route_fields(route: values.Route, box_uid: str, row: int) -> dict[str, Any]:
    return {
        "box_id": box_uid,
        "row": row,
        "source_id": route.source,
        "target_id": route.target,
        "channels": list(route.channels),
        "remap": as_lists(route.remap),
        "clock": route.clock,
        "gain_db": route.gain_db,
    }


def cable_fields(cable: values.Cable, rig_uid: str) -> dict[str, Any]:
    """A cable's fields as stored."""
    ends = {"rig_id": rig_uid, "source_id": cable.source, "target_id": cable.target}
    return ends | {name: getattr(cable, name) for name in CABLE_FIELDS}


def instrument_fields(instrument: core.Instrument, rig_uid: str, order: int) -> dict[str, Any]:
    """An instrument's fields as stored."""
    several = {
        name: [{key: as_lists(value) for key, value in asdict(one).items()} for one in getattr(instrument, name)]
        for name in INSTRUMENT_LISTS
    }
    return (
        {
            "rig_id": rig_uid,
            "box_uid": instrument.box,
            "send_uid": instrument.send,
            "returns": list(instrument.returns),
            "standing": as_lists(instrument.standing),
            "shaping": asdict(instrument.shaping),
            "order": order,
        }
        | several
        | {name: getattr(instrument, name) for name in INSTRUMENT_FIELDS}
    )


def loop_of(session: rows.Session) -> LoopSetting:
    """Which bars of a session are looped."""
    return _known(LoopSetting, session.loop)


def session_anew(uid: UUID) -> rows.Session | None:
    """A session as it stands now, None = it is gone. For work that is kept under a stamp: what the page holds already
    may be older than that."""
    return rows.Session.objects.filter(uid=uid).first()


def last_bar_of(session: rows.Session) -> int:
    """The bar in which a session ends."""
    return session.tempo_map.last_bar(session.end_tick)


def song_of(session: rows.Session) -> Course | None:
    """How a session goes through its bars; None where it has none, or its loop makes no sense any more."""
    tempo, loop, last = session.tempo_map, loop_of(session), last_bar_of(session)
    try:
        return course_of_bars(
            tempo,
            first_bar=loop.first_bar if loop.bars else 1,
            bars=loop.bars or last,
            times=loop.times if loop.bars else 1,
            begin_bar=loop.begin_bar if loop.bars else 1,
        )
    except CannotSchedule:
        return None


def standing_pace(rig_uid: str) -> int:
    """The tempo at which clock runs while the song stands, in µs a quarter: the newest session's at its beginning."""
    session = rows.Session.objects.filter(rig=rig_uid, away=False).first()
    return session.tempo_map.us_of_quarter(0) if session else DEFAULT_US_PER_QUARTER


def part_of(track: rows.Track) -> Part:
    """All that is kept with a track and counted in ticks; of single voices nothing, since they play another's notes."""
    played = np.frombuffer(bytes(track.played), dtype=NOTE) if track.played else None
    grid = from_json(Grid, track.grid) if track.grid else None
    generator = from_json(Generator, track.generator) if track.generator else None
    return Part(np.frombuffer(bytes(track.notes), dtype=NOTE), _own_controls(track), played, grid, generator)


def tracks_of(session: rows.Session) -> list[rows.Track]:
    """The tracks of a session that are not put away, in order, each knowing those it belongs to."""
    found = rows_while(("takes",), ("tracks", str(session.uid)), lambda: list(session.tracks.shown()))
    known = {track.uid: track for track in found}
    for track in found:
        track.session = session
        if track.voice_of_id in known:
            track.voice_of = known[track.voice_of_id]
        if track.fed_by_id in known:
            track.fed_by = known[track.fed_by_id]
    return found


def notes_of(track: rows.Track) -> np.ndarray:
    """All notes that a track plays (core.session.score.NOTE), those of its patterns among them; of single voices theirs
    of the track whose notes they play."""
    if track.voice_of_id:
        notes = notes_of(track.voice_of)
        return notes[np.isin(notes["note"], track.voice_notes)]
    return part_of(track).sounding(track.session.tempo_map, track.session.end_tick)


def notes_in_bars(track: rows.Track, first_bar: int, last_bar: int) -> np.ndarray:
    """Those of its notes that begin in these bars, both included."""
    tempo, notes = track.session.tempo_map, notes_of(track)
    first, end = tempo.bar_tick(first_bar), tempo.bar_tick(last_bar + 1)
    return notes[(notes["tick"] >= first) & (notes["tick"] < end)]


def controls_of(track: rows.Track) -> np.ndarray:
    """A track's controls as an array of core.session.score.CONTROL; of single voices those of the track they play
    of."""
    return _own_controls(track.voice_of or track)


def _own_controls(track: rows.Track) -> np.ndarray:
    return np.frombuffer(bytes(track.controls), dtype=CONTROL)
