"""Every DIN wire of the rig while the session plays: how busy it is, what waits, what would help."""

from dataclasses import dataclass
from uuid import UUID

import numpy as np

from hypotaxis.core.drawing.load import load_path, top_of
from hypotaxis.core.midi.wire import Sent, Waits, send, waits
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import heard_from, send_sockets
from hypotaxis.core.session.schedule import PlayedPart, Schedule, plan_run
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Message
from hypotaxis.core.timing.budget import budget
from hypotaxis.core.timing.remedies import Remedy, late_notes, remedies, traffic_of
from hypotaxis.core.timing.wires import WireReport, wire_report
from hypotaxis.core.units import CLOCKS_A_QUARTER, clock_text
from hypotaxis.records.models import Session
from hypotaxis.records.patch_lists import calls_with, programs_of
from hypotaxis.records.plan import controls_of, notes_of, session_anew
from hypotaxis.records.stamps import kept_with

SUBJECTS = ("takes", "names")
"""What is read here besides the plan."""
MOST_NOTES = 8000
LIMIT_MS = 3.0
"""A wait that is told as late where no other limit is chosen: three notes of a chord ahead."""


@dataclass(frozen=True)
class PartOnWire:
    """One channel of a wire. late, notes: notes that wait longer than the limit, and all of them."""

    channel: int
    name: str
    waits: Waits
    late: int
    notes: int


@dataclass(frozen=True)
class Wire:
    """A wire as its row shows it."""

    uid: str
    name: str
    report: WireReport
    late: int
    notes: int
    parts: tuple[PartOnWire, ...]
    hops: tuple[str, ...]
    """What software on the way adds, as sentences."""
    load: str
    """Its picture."""
    remedies: tuple[Remedy, ...] = ()

    @property
    def busiest(self) -> str:
        return f"{self.report.utilisation_peak:.1%}"


@dataclass(frozen=True)
class Wires:
    """All wires with traffic; free: names of those without; top: the load at full height; told: how long the session
    plays."""

    wires: tuple[Wire, ...]
    free: tuple[str, ...]
    top: float
    told: str

    @property
    def full_height(self) -> str:
        return f"{self.top:.0%}"


def wires_of(plan: Plan, session: Session, *, limit_ms: float, opened: str = "") -> Wires:
    """The wires of a session; opened: the send socket whose remedies are computed. Worked out once as long as they, the
    session and its sounds stay."""
    return kept_with(plan, SUBJECTS, _wires, session.uid, limit_ms, opened)


def _wires(plan: Plan, uid: UUID, limit_ms: float, opened: str) -> Wires:
    session = session_anew(uid)
    if session is None:
        return Wires((), (), top_of(0.0), clock_text(0.0))
    schedule, sending = _sending(plan, session)
    sockets = [socket for _, socket in send_sockets(plan.rig) if not socket.carried_by]
    used = {one.uid for one in sending}
    # A clock alone is light; a wire that carries nothing else is as good as free.
    free = tuple(plan.rig.socket_text(s.uid) for s in sockets if s.uid not in used and not _claimed(plan, s.uid))
    top = top_of(max((one.sent.utilisation_peak() for one in sending), default=0.0))
    rows = []
    for one in sending:
        uid, sent = one.uid, one.sent
        late, named = late_notes(sent, limit_ms), _names(plan, uid)
        boxes = {channel: " and ".join(dict.fromkeys(box for _, box in sitting)) for channel, sitting in named.items()}
        names = {channel: " and ".join(name for name, _ in sitting) for channel, sitting in named.items()}
        rows.append(
            Wire(
                uid=uid,
                name=plan.rig.socket_text(uid),
                report=wire_report(sent),
                late=sum(count for count, _ in late.values()),
                notes=sum(count for _, count in late.values()),
                parts=tuple(
                    PartOnWire(
                        channel,
                        names.get(channel, f"channel {channel}"),
                        waits(sent, sent.traffic.parts == channel),
                        *late.get(channel, (0, 0)),
                    )
                    for channel in (int(part) for part in np.unique(sent.traffic.parts) if part)
                ),
                hops=_hops(plan, uid),
                load=load_path(sent, schedule.seconds, top),
                remedies=remedies(one.messages, one.ticking, names=names, boxes=boxes, free=free)
                if uid == opened
                else (),
            )
        )
    return Wires(tuple(rows), free, top, clock_text(schedule.seconds))


def waits_by_instrument(plan: Plan, session: Session | None) -> dict[str, float]:
    """The wait that 95 % of each instrument's notes stay under, in ms, by its uid; empty without a session, and for one
    with so many notes that a page would wait for it (its wires are told on their own page)."""
    if session is None:
        return {}
    return kept_with(plan, SUBJECTS, _waits, session.uid)


def _waits(plan: Plan, uid: UUID) -> dict[str, float]:
    session = session_anew(uid)
    if session is None:
        return {}
    if sum(len(notes_of(track)) for track in session.tracks.playing()) not in range(1, MOST_NOTES):
        return {}
    found = {}
    for wire in _sending(plan, session)[1]:
        parts = wire.sent.traffic.parts
        for one in plan.instruments:
            if one.send == wire.uid and (mine := parts == one.channel).any():
                found[one.uid] = waits(wire.sent, mine).p95_wait_ms
    return found


@dataclass(frozen=True, eq=False)
class _Sending:
    """What a session sends through a send socket (uid). ticking: when each of its clocks is due, in ns of the run."""

    uid: str
    messages: list[Message]
    ticking: np.ndarray
    sent: Sent


def _sending(plan: Plan, session: Session) -> tuple[Schedule, list[_Sending]]:
    """A session played once, and each wire with traffic."""
    tempo = session.tempo_map
    last_bar = tempo.last_bar(session.end_tick)
    schedule = plan_run(_parts(plan, session), tempo, first_bar=1, last_bar=last_bar, sample_rate=plan.rig.sample_rate)
    by_port: dict[str, list[Message]] = {}
    for message in schedule.messages:
        by_port.setdefault(message.port, []).append(message)
    clocks, found = _clocks(tempo, schedule), []
    for _, socket in send_sockets(plan.rig):
        messages = by_port.get(socket.system_name)
        if messages and not socket.carried_by:
            ticking = clocks if socket.clock else np.zeros(0, dtype=np.int64)
            found.append(_Sending(socket.uid, messages, ticking, send(traffic_of(messages, ticking))))
    return schedule, found


def _parts(plan: Plan, session: Session) -> list[PlayedPart]:
    parts, tracks = [], list(session.tracks.playing())
    sounds = programs_of(tracks)
    for track in tracks:
        instrument = plan.instrument(track.instrument_uid)
        seat = instrument.seat(track.part_uid) if instrument else None
        found = plan.rig.find(seat.send) if seat else None
        if found:
            calls = tuple(calls_with(sounds[track.uid], track, instrument))
            parts.append(
                PlayedPart(
                    found[1].system_name, seat.channel, notes_of(track), controls_of(track), calls, instrument.gap_ms
                )
            )
    return parts


def _clocks(tempo: TempoMap, schedule: Schedule) -> np.ndarray:
    """When each clock is due, in ns of the run: 24 a quarter, while the bars play."""
    count = (schedule.end_tick - schedule.first_tick) * CLOCKS_A_QUARTER // tempo.ticks_per_quarter + 1
    ticks = schedule.first_tick * CLOCKS_A_QUARTER + np.arange(count) * tempo.ticks_per_quarter
    us = tempo.exact_us(ticks, CLOCKS_A_QUARTER) / (tempo.ticks_per_quarter * CLOCKS_A_QUARTER)
    return np.rint(us * 1000 - schedule.first_sample * 1e9 / schedule.sample_rate).astype(np.int64)


def _claimed(plan: Plan, uid: str) -> bool:
    return any(seat.send == uid for one in plan.instruments for seat in one.seats)


def _names(plan: Plan, uid: str) -> dict[int, list[tuple[str, str]]]:
    """(instrument or part, box) that sit on each channel of a send socket."""
    names: dict[int, list[tuple[str, str]]] = {}
    for one in plan.instruments:
        box = plan.rig.box(one.box)
        for seat in one.seats:
            if seat.send == uid:
                name = f"{one.name}: {seat.name}" if seat.name else one.name
                names.setdefault(seat.channel, []).append((name, box.name if box else one.name))
    return names


def _hops(plan: Plan, uid: str) -> tuple[str, ...]:
    """What a message waits for besides, where software passes it on: once for every instrument behind it."""
    told = []
    for one in plan.instruments:
        if one.send == uid and any(reached.box == one.box for reached in heard_from(plan.rig, uid)):
            for leg in budget(plan, one).legs:
                if leg.kind == "hop" and leg.name.startswith("passed on"):
                    told.append(f"{one.name}: {leg.name}, {leg.ms:.2f} ±{leg.half_ms:.2f} ms more")
    return tuple(dict.fromkeys(told))
