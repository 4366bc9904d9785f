"""Lists to print: every cable with its two ends, and strips of labels for the boxes. Colours are named in words too."""

from dataclasses import dataclass

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.plug import CABLE_KINDS, kind_of_cable
from hypotaxis.core.rig.values import Box, Cable, Rig


@dataclass(frozen=True)
class CableRow:
    """A cable as it is printed."""

    number: int
    """Counts from 1 and stands on its flag."""
    cable: Cable
    source: str
    target: str
    kind: str
    length: str
    """With its unit, or empty."""


@dataclass(frozen=True)
class Strip:
    """A box's strip: what is plugged where, as (socket, number of the cable, other end, colour in words)."""

    box: Box
    rows: tuple[tuple[str, int, str, str], ...]


def cable_rows(plan: Plan) -> tuple[CableRow, ...]:
    """Every cable, in the order of the boxes and sockets it leaves by."""
    rig = plan.rig
    place = {socket.uid: number for number, (_, socket) in enumerate(rig.each_socket())}
    cables = sorted(rig.cables, key=lambda cable: place.get(cable.source, len(place)))
    return tuple(
        CableRow(
            number=number,
            cable=cable,
            source=_end(rig, cable.source),
            target=_end(rig, cable.target),
            kind=CABLE_KINDS[kind_of_cable(rig, cable)],
            length=f"{cable.length_m:g} m" if cable.length_m else "",
        )
        for number, cable in enumerate(cables, start=1)
    )


def label_strips(plan: Plan) -> tuple[Strip, ...]:
    """A strip for every box at which a cable ends."""
    rig = plan.rig
    numbers = {end: row for row in cable_rows(plan) for end in (row.cable.source, row.cable.target)}
    strips = []
    for box in sorted(rig.boxes, key=lambda box: box.order):
        rows = []
        for socket in box.sockets:
            row = numbers.get(socket.uid)
            if row and box.shape != "host":
                other = row.target if row.cable.source == socket.uid else row.source
                rows.append((socket.label, row.number, other, row.cable.colour))
        if rows:
            strips.append(Strip(box, tuple(rows)))
    return tuple(strips)


def _end(rig: Rig, uid: str) -> str:
    found = rig.find(uid)
    return f"{found[0].name} {found[1].label}" if found else "a socket that is gone"
