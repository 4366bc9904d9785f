"""The sheet of settings: all that has to be typed, set, plugged or told elsewhere, on a few pages, as tables.

It is built from the plan and from what is known of latenesses, and holds nothing of its own. What a number does not
hold for any more, or was only predicted or borrowed, says so beside it.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.panels import panel_settings
from hypotaxis.core.rig.printed import cable_rows
from hypotaxis.core.rig.startup import startup_list
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.sync.following import ports_that_send
from hypotaxis.core.sync.values import WRAP_WORDS, Sending
from hypotaxis.core.timing.applied import KnownLateness
from hypotaxis.core.units import clock_text, counted, signed

OUT, BACK = "out", "back"
"""The two inks: what leaves the host, what comes home."""


@dataclass(frozen=True)
class Column:
    """A column of a table. ink: OUT, BACK or ""; number: it is right-aligned; share: of the table's width."""

    head: str
    share: float = 1.0
    ink: str = ""
    number: bool = False


NARROW_COLUMNS = 3
"""Columns that stand side by side where there is little room; a number's own column is narrow."""


@dataclass(frozen=True)
class Folded:
    """A row where there is little room: its first cells, and what stands below them."""

    cells: tuple[tuple[Column, str], ...]
    more: str = ""


@dataclass(frozen=True)
class Section:
    """A table with its title. note: a sentence below it; empty tables are left out."""

    title: str
    columns: tuple[Column, ...]
    rows: tuple[tuple[str, ...], ...]
    note: str = ""

    @property
    def cells(self) -> list[list[tuple[Column, str]]]:
        """Each row's texts beside their columns."""
        return [list(zip(self.columns, row, strict=True)) for row in self.rows]

    @property
    def first_columns(self) -> tuple[Column, ...]:
        """Those that stand side by side where there is little room: the numbers, or a few texts."""
        numbers = [place for place, column in enumerate(self.columns) if column.number]
        count = numbers[-1] + 1 if numbers and numbers[-1] > 1 else NARROW_COLUMNS
        return self.columns[:count]

    @property
    def folded(self) -> list[Folded]:
        """The rows where there is little room."""
        count = len(self.first_columns)
        return [
            Folded(
                tuple(zip(self.columns, row[:count], strict=False)),
                "; ".join(text for text in row[count:] if text and text != "–"),
            )
            for row in self.rows
        ]


@dataclass(frozen=True)
class Sound:
    """What is called up on a part: as the box displays it, and on the wire."""

    name: str
    wire: str


@dataclass(frozen=True)
class Label:
    """A text in the picture, at its baseline. anchor: "start", "middle" or "end" of it stands at x."""

    x: float
    y: float
    text: str
    anchor: str


@dataclass(frozen=True)
class Card:
    """A box in the picture. name: where its title stands; colour: the owner's, "" = none."""

    x: float
    y: float
    w: float
    h: float
    name: Label
    colour: str
    labels: tuple[Label, ...]


@dataclass(frozen=True)
class Wire:
    """A cable in the picture, as SVG path data. ink: OUT, BACK or ""; dashed: sent to an effect, or through the air."""

    path: str
    ink: str
    dashed: bool


@dataclass(frozen=True)
class RigPicture:
    """The rig, out and back, in units of its own."""

    width: float
    height: float
    cards: tuple[Card, ...]
    wires: tuple[Wire, ...]


@dataclass(frozen=True)
class Photo:
    """A box's picture. file: a PNG on the disk; address: where the page finds it."""

    name: str
    file: str
    address: str


@dataclass(frozen=True, kw_only=True)
class Known:
    """What the plan itself does not say. latenesses: by the uid of instrument or loop; sounds: by (instrument, part);
    maps: named notes by the uid of the instrument, as (note, name, return); day: in words; days: on which settings on
    the boxes were ticked, by their key, in words; picture: of the rig."""

    session: str
    day: str
    tempo: TempoMap | None = None
    last_bar: int = 0
    wrap: str = ""
    latenesses: Mapping[str, KnownLateness] = field(default_factory=dict)
    sounds: Mapping[tuple[str, str], Sound] = field(default_factory=dict)
    maps: Mapping[str, Sequence[tuple[int, str, str]]] = field(default_factory=dict)
    days: Mapping[str, str] = field(default_factory=dict)
    picture: RigPicture | None = None


@dataclass(frozen=True)
class Sheet:
    """The whole of it. under: what stands below the title; sections: in order; picture, photos: behind them."""

    title: str
    rig: str
    under: str
    day: str
    sections: tuple[Section, ...]
    picture: RigPicture | None = None
    photos: tuple[Photo, ...] = ()


def sheet_of(plan: Plan, known: Known) -> Sheet:
    """The sheet of a plan."""
    made = (
        _late_by(plan, known),
        _out_and_back(plan, known),
        *_note_maps(plan, known),
        _clock(plan, known),
        _panels(plan, known),
        _export(plan, known),
        _cables(plan),
        _start_up(plan),
    )
    return Sheet(
        title=known.session or plan.rig.name,
        rig=plan.rig.name,
        under=_under(plan, known),
        day=known.day,
        sections=tuple(one for one in made if one.rows),
        picture=known.picture,
    )


def _under(plan: Plan, known: Known) -> str:
    rate = f"{plan.rig.sample_rate} Hz, buffer {plan.rig.buffer}"
    if known.tempo is None:
        return rate
    beats, unit = known.tempo.meters[0][1:]
    lasts = clock_text(_seconds(known))
    return f"{known.tempo.told} BPM, {beats}/{unit}, {counted(known.last_bar, 'bar')}, {lasts}; {rate}"


def _seconds(known: Known) -> float:
    return float(known.tempo.us_at(known.tempo.bar_tick(known.last_bar + 1))) / 1e6 if known.tempo else 0.0


# --- lateness


def _late_by(plan: Plan, known: Known) -> Section:
    rig = plan.rig
    rows = tuple(
        _late_row(one, known.latenesses.get(one.uid), rig.sample_rate) for one in (*plan.instruments, *plan.loops)
    )
    note = (
        f"Holds for {rig.sample_rate} Hz and a buffer of {rig.buffer} samples. Type the delay where a host asks how "
        "late something is, the shift where it asks by how much to move it."
    )
    columns = (
        Column("", 2.2),
        Column("delay, ms", ink=BACK, number=True),
        Column("samples", number=True),
        Column("shift, ms", number=True),
        Column("doubt, ms", 1.0, number=True),
        Column("known by", 2.4),
    )
    return Section("Late by, and what to type", columns, rows, note if rows else "")


def _late_row(one: Instrument | Loop, found: KnownLateness | None, rate: int) -> tuple[str, ...]:
    if found is None or found.lateness_ms is None:
        return (one.name, "–", "–", "–", "–", "not known: measure it")
    ms = found.lateness_ms
    doubt = f"±{found.half_ms:.2f}" if found.half_ms else "–"
    stale = f"stale: {', '.join(found.stale)}" if found.stale else ""
    by = found.source + (f" from {found.lender}" if found.lender else "")
    shift = signed(-ms, 2)
    return (one.name, f"{ms:.2f}", str(round(ms * rate / 1000)), shift, doubt, stale or by)


# --- where things go


def _out_and_back(plan: Plan, known: Known) -> Section:
    rows = []
    for one in plan.instruments:
        for seat in one.seats:
            sound = known.sounds.get((one.uid, seat.part))
            name = f"{one.name}: {seat.name}" if seat.name else one.name
            goes = f"{plan.rig.socket_text(seat.send)}, ch {seat.channel}" if seat.send else "nowhere yet"
            home = "" if seat.part else _home(plan, one)
            rows.append((name, goes, home, sound.name if sound else "", sound.wire if sound else ""))
    for loop in plan.loops:
        sends = " and ".join(plan.rig.socket_text(uid) for uid in loop.sends) or "nowhere yet"
        rows.append((loop.name, sends, _trimmed(returns_text(plan.rig, loop.returns), loop.home_trim_db), "", ""))
    columns = (
        Column("", 1.6),
        Column("goes to", 1.7, OUT),
        Column("comes home on", 1.9, BACK),
        Column("sound", 1.4),
        Column("bytes", 1.7),
    )
    return Section("Out and back", columns, tuple(rows))


def _home(plan: Plan, one: Instrument) -> str:
    ways = [
        f"{returns_text(plan.rig, back.inputs)} ({back.name})" if back.name else returns_text(plan.rig, back.inputs)
        for back in one.every_return
        if back.inputs
    ]
    return _trimmed(", ".join(ways) or "no return", one.home_trim_db)


def _trimmed(text: str, trim_db: float) -> str:
    return f"{text}, {signed(trim_db)} dB" if trim_db else text


def _note_maps(plan: Plan, known: Known) -> Iterator[Section]:
    columns = (Column("note", 0.6, number=True), Column("plays", 2), Column("comes home on", 2, BACK))
    for one in plan.instruments:
        rows = tuple((str(note), name, home) for note, name, home in known.maps.get(one.uid, ()))
        yield Section(f"Notes of {one.name}", columns, rows)


# --- clock, panels


def _clock(plan: Plan, known: Known) -> Section:
    rows = [(plan.rig.socket_text(port.uid), _sends(sending)) for port, sending in ports_that_send(plan)]
    leader = plan.rig.box(plan.rig.leader)
    if leader:
        rows.append((leader.name, "leads: its clock is the tempo, the host follows"))
    for box in plan.rig.boxes:
        if box.following.plays:
            taken = f"follows {box.following.by}" if box.following.by else "follows"
            rows.append((box.name, f"{taken}: {box.following.plays}, counts {box.following.pace}"))
    return Section("Clock", (Column("", 1.4), Column("what it sends, or makes of it", 4)), tuple(rows), known.wrap)


def _sends(sending: Sending) -> str:
    told = ["clock, also while the song stands" if sending.always else "clock while the song runs"]
    told.append("start and stop" if sending.keys else "no start, no stop")
    if sending.position:
        told.append("song position")
    told.append(f"at the wrap {WRAP_WORDS[sending.wrap]}")
    if sending.time_code:
        told.append(f"time code {sending.time_code}")
    if sending.shift_ms:
        told.append(f"{signed(sending.shift_ms)} ms")
    if sending.compensate:
        told.append("earlier by what its box is late")
    return ", ".join(told)


def _panels(plan: Plan, known: Known) -> Section:
    rows = []
    for one in panel_settings(plan):
        for number, step in enumerate(one.settings):
            done = f"ticked {known.days.get(step.key, '')}".strip() if step.key in plan.ticked else "not ticked"
            rows.append((one.box.name if number == 0 else "", step.text, done))
    return Section("On the panels", (Column("", 1.2), Column("set by hand", 3.6), Column("", 1.3)), tuple(rows))


# --- elsewhere


def _export(plan: Plan, known: Known) -> Section:
    inputs = tuple(dict.fromkeys(uid for one in (*plan.instruments, *plan.loops) for uid in _inputs(one)))
    rows = []
    if known.tempo and inputs:
        lasts = clock_text(_seconds(known))
        rows.append(("Render in real time", f"{lasts}, as long as the music: the hardware has to play it"))
    if inputs:
        rows.append(("Leave outside inputs on", returns_text(plan.rig, inputs)))
        rows.append(("Silence live returns", "where a take stands, or it is heard twice"))
    return Section("Before you export elsewhere", (Column("", 1.4), Column("", 4)), tuple(rows))


def _inputs(one: Instrument | Loop) -> tuple[str, ...]:
    return one.inputs if isinstance(one, Instrument) else one.returns


def _cables(plan: Plan) -> Section:
    rows = tuple(
        (
            str(row.number),
            row.source,
            row.target,
            row.kind,
            " ".join(filter(None, (row.length, row.cable.colour))),
            row.cable.label,
        )
        for row in cable_rows(plan)
    )
    columns = (
        Column("no.", 0.4, number=True),
        Column("from", 2),
        Column("to", 2),
        Column("kind", 1),
        Column("length, colour", 1.1),
        Column("label", 0.8),
    )
    return Section("Cables", columns, rows)


def _start_up(plan: Plan) -> Section:
    rows = [
        (stage.title if number == 0 else "", step.text)
        for stage in startup_list(plan)
        for number, step in enumerate(stage.steps)
    ]
    return Section("Start-up list", (Column("", 1.4), Column("in this order", 4)), tuple(rows))
