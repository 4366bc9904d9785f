"""Rows to core values and back: the one place that knows both."""

import uuid
from typing import Any

import numpy as np

from hypotaxis.core import plan as core
from hypotaxis.core.rig import values
from hypotaxis.core.session.score import CONTROL, NOTE
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.records import models as rows

SOCKET_FIELDS = (
    "label",
    "direction",
    "kind",
    "thru_of",
    "separate",
    "stereo",
    "port_name",
    "system_name",
    "duty",
)


def load_plan(rig: rows.Rig) -> core.Plan:
    """The whole plan of a rig in four queries."""
    sockets: dict[uuid.UUID, list[values.Socket]] = {}
    for row in rows.Socket.objects.filter(box__rig=rig):
        value = values.Socket(uid=str(row.uid), **{name: getattr(row, name) for name in SOCKET_FIELDS})
        sockets.setdefault(row.box_id, []).append(value)
    boxes = tuple(
        values.Box(
            uid=str(row.uid),
            name=row.name,
            shape=row.shape,
            note=row.note,
            colour=row.colour,
            order=row.order,
            sockets=tuple(sockets.get(row.uid, ())),
        )
        for row in rig.boxes.all()
    )
    cables = tuple(
        values.Cable(
            uid=str(row.uid),
            source=str(row.source_id),
            target=str(row.target_id),
            length_m=row.length_m,
            colour=row.colour,
            label=row.label,
        )
        for row in rig.cables.all()
    )
    return core.Plan(
        rig=values.Rig(
            uid=str(rig.uid),
            name=rig.name,
            sample_rate=rig.sample_rate,
            buffer=rig.buffer,
            boxes=boxes,
            cables=cables,
        ),
        instruments=tuple(instrument_value(row) for row in rig.instruments.all()),
    )


def instrument_value(row: rows.Instrument) -> core.Instrument:
    """One instrument row as a core value."""
    return core.Instrument(
        uid=str(row.uid),
        name=row.name,
        box=row.box_uid,
        send=row.send_uid,
        channel=row.channel,
        returns=tuple(row.returns),
        home_trim_db=row.home_trim_db,
        lateness_ms=row.lateness_ms,
        colour=row.colour,
    )


def box_fields(box: values.Box, rig_uid: str) -> dict[str, Any]:
    """A box's fields for the journal."""
    return {
        "rig_id": rig_uid,
        "name": box.name,
        "shape": box.shape,
        "note": box.note,
        "colour": box.colour,
        "order": box.order,
    }


def socket_fields(socket: values.Socket, box_uid: str, row: int) -> dict[str, Any]:
    """A socket's fields for the journal."""
    return {"box_id": box_uid, "row": row} | {name: getattr(socket, name) for name in SOCKET_FIELDS}


def cable_fields(cable: values.Cable, rig_uid: str) -> dict[str, Any]:
    """A cable's fields for the journal."""
    return {
        "rig_id": rig_uid,
        "source_id": cable.source,
        "target_id": cable.target,
        "length_m": cable.length_m,
        "colour": cable.colour,
        "label": cable.label,
    }


def instrument_fields(instrument: core.Instrument, rig_uid: str, order: int) -> dict[str, Any]:
    """An instrument's fields for the journal."""
    return {
        "rig_id": rig_uid,
        "name": instrument.name,
        "box_uid": instrument.box,
        "send_uid": instrument.send,
        "channel": instrument.channel,
        "returns": list(instrument.returns),
        "home_trim_db": instrument.home_trim_db,
        "lateness_ms": instrument.lateness_ms,
        "colour": instrument.colour,
        "order": order,
    }


def tempo_of(session: rows.Session) -> TempoMap:
    """The tempo map of a session row."""
    return TempoMap(
        session.ticks_per_quarter,
        tuple(tuple(item) for item in session.tempos),
        tuple(tuple(item) for item in session.meters),
    )


def notes_of(track: rows.Track) -> np.ndarray:
    """A track's notes as an array of core.session.score.NOTE."""
    return np.frombuffer(bytes(track.notes), dtype=NOTE)


def controls_of(track: rows.Track) -> np.ndarray:
    """A track's controls as an array of core.session.score.CONTROL."""
    return np.frombuffer(bytes(track.controls), dtype=CONTROL)
