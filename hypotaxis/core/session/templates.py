"""What is kept to begin with: an instrument with its maps, a session without takes, a drum grid, a pass plan.

A template holds no socket of a desk: what it is used for is found on the desk where it is used, by names. Rigs that are
kept as templates are rigs of their own.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from hypotaxis.core.grid.borrowing import key_of, namesakes
from hypotaxis.core.grid.values import Grid
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.build import new_uid
from hypotaxis.core.session.archived import ArchivedSession

INSTRUMENT, SESSION, GRID, PASS_PLAN = KINDS = ("instrument", "session", "grid", "pass plan")


@dataclass(frozen=True)
class SeatName:
    """What a track played, by name. instrument, part: uids as the session names them, "" = none."""

    instrument: str
    part: str
    name: str
    part_name: str = ""


@dataclass(frozen=True)
class InstrumentTemplate:
    """An instrument; its sockets mean nothing elsewhere. shape: of its box."""

    shape: str
    instrument: Instrument


@dataclass(frozen=True)
class SessionTemplate:
    """A session without takes, with the names of what its tracks play."""

    session: ArchivedSession
    seats: tuple[SeatName, ...] = ()
    loops: tuple[tuple[str, str], ...] = ()
    """(uid, name) of the effect loops that its tracks are of."""


@dataclass(frozen=True)
class GridTemplate:
    """Patterns with the names of their voices by note, and by which further return each voice came home."""

    grid: Grid
    names: tuple[tuple[int, str], ...]
    apart: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class PlanTemplate:
    """Passes of tracks, by their names."""

    passes: tuple[tuple[str, ...], ...]
    gap_s: float
    repeat: bool


Template = InstrumentTemplate | SessionTemplate | GridTemplate | PlanTemplate
CLASSES: dict[str, type] = {
    INSTRUMENT: InstrumentTemplate,
    SESSION: SessionTemplate,
    GRID: GridTemplate,
    PASS_PLAN: PlanTemplate,
}


def instrument_like(template: InstrumentTemplate, proposed: Instrument, taken: Sequence[str]) -> Instrument:
    """An instrument as the template has it, where `proposed` would stand on this desk: its box, sockets and, where it
    has one box, channel are the desk's. taken: names that are in use. Further returns find theirs by their names, those
    that find none are open."""
    model = template.instrument
    ways = {key_of(one.name): one for one in proposed.further}
    fresh = {one.uid: new_uid() for one in model.further}
    further = tuple(
        replace(one, uid=fresh[one.uid], inputs=ways[key_of(one.name)].inputs if key_of(one.name) in ways else ())
        for one in model.further
    )
    name = next(one for one in (model.name, *(f"{model.name[:74]} {n}" for n in range(2, 10_000))) if one not in taken)
    return replace(
        model,
        uid=proposed.uid,
        name=name,
        box=proposed.box,
        send=proposed.send,
        channel=proposed.channel if proposed.box else model.channel,
        returns=proposed.returns,
        given_ms=None,
        given_from="",
        parts=tuple(replace(one, uid=new_uid(), send="") for one in model.parts),
        further=further,
        voices=tuple(replace(one, home=fresh.get(one.home, "")) for one in model.voices),
        standing=(),
    )


def seats_on(plan: Plan, seats: Sequence[SeatName]) -> dict[tuple[str, str], tuple[str, str]]:
    """What stands for these (instrument, part) on a desk, uids: the same one, otherwise one of its name; what is not
    there is left out."""
    here = [(one, seat) for one in plan.instruments for seat in one.seats]
    by_name = {(key_of(one.name), key_of(seat.name)): (one.uid, seat.part) for one, seat in here}
    there = {(one.uid, seat.part) for one, seat in here}
    found = {}
    for one in seats:
        seat = (one.instrument, one.part)
        mine = seat if seat in there else by_name.get((key_of(one.name), key_of(one.part_name)))
        if mine:
            found[seat] = mine
    return found


@dataclass(frozen=True)
class LaidGrid:
    """Patterns on the notes of another box. lost: names of voices that found none there."""

    grid: Grid
    lost: tuple[str, ...]


def grid_for(template: GridTemplate, mine: Mapping[int, str], bars: int) -> LaidGrid:
    """The template's patterns by the names of the voices here, laid along so many bars: its order again and again."""
    grid, theirs = template.grid, dict(template.names)
    sounding = [row.note for pattern in grid.patterns for row in pattern.rows if row.steps]
    notes = namesakes(sounding, theirs, mine)
    patterns = tuple(
        replace(one, rows=tuple(replace(row, note=notes[row.note]) for row in one.rows if row.note in notes))
        for one in grid.patterns
    )
    voices = tuple(replace(one, note=notes[one.note]) for one in grid.voices if one.note in notes)
    once = grid.order or (grid.patterns[0].name,)
    order = tuple((once * (bars // len(once) + 1))[:bars])
    lost = dict.fromkeys(theirs.get(note, "") or f"note {note}" for note in sounding if note not in notes)
    return LaidGrid(replace(grid, patterns=patterns, voices=voices, order=order, on=True), tuple(lost))


@dataclass(frozen=True)
class LaidPasses:
    """Passes as uids of tracks. lost: names that no track has."""

    passes: tuple[tuple[str, ...], ...]
    lost: tuple[str, ...]


def passes_for(template: PlanTemplate, tracks: Mapping[str, str]) -> LaidPasses:
    """The template's passes of these tracks (uids by name)."""
    by_key = {key_of(name): uid for name, uid in tracks.items()}
    found = ((name, by_key.get(key_of(name))) for one in template.passes for name in one)
    passes = (tuple(by_key[key_of(name)] for name in one if key_of(name) in by_key) for one in template.passes)
    return LaidPasses(tuple(filter(None, passes)), tuple(name for name, uid in found if uid is None))
