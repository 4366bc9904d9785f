"""What would make a crowded wire better, computed, not just advised.

Each remedy plays the same messages over the wire again, changed, and lays what waits then beside what waits now.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.messages import (
    CHANNEL_PRESSURE,
    CONTROL_CHANGE,
    EXCLUSIVE,
    KEY_PRESSURE,
    NOTE_ON,
    PITCH_BEND,
    channel_of,
    kind_of,
)
from hypotaxis.core.midi.wire import Sent, Traffic, Waits, send, waits
from hypotaxis.core.studio import Message

PER_US = 1000
"""Units of a schedule: nanoseconds."""
THIN_NS = 10_000_000
"""A controller is heard as smooth from about 100 values a second (common practice)."""
NEVER_THINNED = frozenset([0, 6, 32, 38, *range(64, 70), *range(96, 102), *range(120, 128)])
"""Controllers of which every message counts: bank select, data entry and its numbers, switches, channel modes."""


@dataclass(frozen=True)
class Remedy:
    """A change and its figures."""

    name: str
    told: str
    now: Waits
    then: Waits
    by_part: tuple[tuple[int, Waits, Waits], ...]
    """(part, waits now, waits then)."""
    moved: Waits | None = None
    """Of what went to a wire of its own."""

    @property
    def helps(self) -> bool:
        """Whether the longest wait or the usual one gets shorter."""
        return (self.then.max_wait_ms, self.then.p95_wait_ms) < (self.now.max_wait_ms, self.now.p95_wait_ms)


def traffic_of(messages: Sequence[Message], clocks: np.ndarray) -> Traffic:
    """The messages of one port as traffic; parts are channels 1–16, 0 for system messages. clocks: ns."""
    statuses = np.array([message.data[0] for message in messages], dtype=np.int64)
    return Traffic(
        ready=np.array([message.time_ns for message in messages], dtype=np.int64),
        statuses=statuses,
        sizes=np.array([len(message.data) for message in messages], dtype=np.int64),
        parts=np.where(statuses < EXCLUSIVE, channel_of(statuses), 0),
        clocks=clocks,
        per_us=PER_US,
    )


def remedies(
    messages: Sequence[Message],
    clocks: np.ndarray,
    *,
    names: Mapping[int, str],
    boxes: Mapping[int, str],
    free: Sequence[str],
) -> tuple[Remedy, ...]:
    """Every remedy that helps, the best first. names, boxes: of the parts and of what they play, by channel; free:
    names of wires without traffic."""
    traffic = traffic_of(messages, clocks)
    now = send(traffic)
    found = [
        _remedy(
            "running status",
            "Switch running status on in the host or interface: a repeated status byte is left out.",
            now,
            send(traffic, running_status=True),
        ),
        *_dense_first(traffic, now, names),
        *_thinned(messages, clocks, now),
        *_moved(traffic, now, boxes, free),
    ]
    helping = [one for one in found if one.helps]
    return tuple(sorted(helping, key=lambda one: (one.then.max_wait_ms, one.then.p95_wait_ms)))


def _remedy(name: str, told: str, now: Sent, then: Sent, moved: Waits | None = None) -> Remedy:
    parts = [int(part) for part in np.unique(now.traffic.parts)]
    rows = tuple((p, waits(now, now.traffic.parts == p), waits(then, then.traffic.parts == p)) for p in parts)
    return Remedy(name, told, waits(now), waits(then), rows, moved)


def _dense_first(traffic: Traffic, now: Sent, names: Mapping[int, str]) -> list[Remedy]:
    """At one time, what has most to send goes first."""
    parts, counts = np.unique(traffic.parts, return_counts=True)
    if len(parts) < 2:
        return []
    rank = np.zeros(len(counts), dtype=int)
    rank[np.argsort(-counts, kind="stable")] = np.arange(len(counts))
    order = np.lexsort((rank[np.searchsorted(parts, traffic.parts)], traffic.ready))
    densest = names.get(int(parts[counts.argmax()]), f"channel {int(parts[counts.argmax()])}")
    then = send(traffic.only(order))
    remedy = _remedy(
        f"{densest} first", f"Send {densest} first of what is due at one time; the figures are its own.", now, then
    )
    # The whole waits as long; what counts is the dense part's own wait.
    part = int(parts[counts.argmax()])
    before, after = next((b, a) for number, b, a in remedy.by_part if number == part)
    return [Remedy(remedy.name, remedy.told, before, after, remedy.by_part)]


def _thinned(messages: Sequence[Message], clocks: np.ndarray, now: Sent) -> list[Remedy]:
    kept = thin(messages)
    if len(kept) == len(messages):
        return []
    told = f"Thin controllers to one value in 10 ms: {len(messages) - len(kept):,} of {len(messages):,} messages less."
    return [_remedy("thinner controllers", told, now, send(traffic_of(kept, clocks)))]


def thin(messages: Sequence[Message]) -> list[Message]:
    """The messages with each continuous controller, bend and pressure of a channel sent at most once in 10 ms; where it
    comes to rest its last value stays."""
    later: dict[tuple, int] = {}
    gaps = []
    for message in reversed(messages):
        kind = _continuous(message.data)
        gaps.append(later.get(kind, message.time_ns + 2 * THIN_NS) - message.time_ns if kind else 0)
        if kind:
            later[kind] = message.time_ns
    kept, last = [], {}
    for message, gap in zip(messages, reversed(gaps), strict=True):
        kind = _continuous(message.data)
        if not kind or gap >= THIN_NS or message.time_ns - last.get(kind, -THIN_NS) >= THIN_NS:
            kept.append(message)
            if kind:
                last[kind] = message.time_ns
    return kept


def _continuous(data: bytes) -> tuple | None:
    status = data[0]
    if kind_of(status) == CONTROL_CHANGE:
        return None if data[1] in NEVER_THINNED else (status, data[1])
    if kind_of(status) == KEY_PRESSURE:
        return status, data[1]
    return (status,) if kind_of(status) in (CHANNEL_PRESSURE, PITCH_BEND) else None


def _moved(traffic: Traffic, now: Sent, boxes: Mapping[int, str], free: Sequence[str]) -> list[Remedy]:
    """One box, with all its parts, on a wire of its own: the one whose going helps most."""
    parts: dict[str, list[int]] = {}
    for part in np.unique(traffic.parts[traffic.parts > 0]).tolist():
        parts.setdefault(boxes.get(part, f"channel {part}"), []).append(part)
    if len(parts) < 2 or not free:
        return []
    best = None
    for box, mine in parts.items():
        going = np.isin(traffic.parts, mine)
        rest, alone = send(traffic.only(~going)), waits(send(traffic.only(going)))
        left = waits(rest)
        worst = max(left.max_wait_ms, alone.max_wait_ms), max(left.p95_wait_ms, alone.p95_wait_ms)
        if best is None or worst < best[0]:
            best = worst, box, rest, alone
    _, box, rest, alone = best
    told = f"Plug {box} into {free[0]}, on which nothing is sent yet, and let its instruments leave by it."
    return [_remedy(f"{box} on a wire of its own", told, now, rest, alone)]


def late_notes(sent: Sent, limit_ms: float) -> dict[int, tuple[int, int]]:
    """By part: (notes whose first byte waits longer than the limit, notes in all)."""
    notes = kind_of(sent.traffic.statuses) == NOTE_ON
    late = notes & (sent.waits_ms > limit_ms)
    parts = sent.traffic.parts
    counts = {}
    for part in np.unique(parts[notes]).tolist():
        mine = parts == part
        counts[part] = int((late & mine).sum()), int((notes & mine).sum())
    return counts
