"""What a sounding plays, and what its groups of hits say.

Three tests stand on the same pattern (see pattern.py): single hits; chords, where a growing number of quiet notes goes
just before the one that is heard, which tells the time a box takes for each simultaneous note; and velocities, which
tells whether soft notes come later than loud ones. A fourth holds a key and sends clock: what a box steps by itself is
measured against the clock's sixteenths, at a tempo at which their distance leaves no doubt which is which.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.messages import CLOCK, START, STOP, note_off, note_on
from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.timing.line import student_quantile
from hypotaxis.core.timing.pattern import HIT_MS, LEAD_MS, TICKS_PER_QUARTER, US_PER_QUARTER, pattern_ms
from hypotaxis.core.units import BYTE_US, CLOCKS_A_QUARTER

TESTS = {
    "hits": "single hits",
    "chord": "time for each simultaneous note",
    "velocity": "soft against loud",
    "clock": "steps driven by clock",
}
HITS = (16, 32, 64, 128)
BEFORE = (0, 1, 2, 3, 4, 5)
"""Quiet notes that go before the heard one, in turn."""
VELOCITIES = (127, 95, 63, 40)
TAIL_MS = 1500
CLOCK_BPM = 40.0
"""Sixteenths 375 ms apart: further than any lateness that is considered, and whole milliseconds."""
CLOCKS_A_STEP = 6
START_MS = 1.0
"""From start to the first clock: a receiver needs at least that long (MIDI 1.0 Detailed Specification, from memory)."""


@dataclass(frozen=True)
class Wish:
    """A sounding as it is asked for."""

    test: str = "hits"
    hits: int = 64
    note: int = 60
    """0–127."""
    velocity: int = 110
    """1–127, of single hits and of the heard note of a chord."""
    patch: str = ""
    """Uid of a percussive patch called up for it, "" = as it is."""
    fast: bool = False
    """On the stand-in only."""


def clock_schedule(wish: Wish, channel: int) -> tuple[tuple[float, bytes], ...]:
    """(ms from the score's zero, bytes): a key that is held, start, clocks for as many sixteenths as there are hits,
    stop, and the key let go."""
    clock_ms = 60_000 / CLOCK_BPM / CLOCKS_A_QUARTER
    last = wish.hits * CLOCKS_A_STEP
    end = LEAD_MS + last * clock_ms
    return (
        (LEAD_MS - 200.0, note_on(channel, wish.note, wish.velocity)),
        (LEAD_MS - START_MS, bytes([START])),
        *((LEAD_MS + number * clock_ms, bytes([CLOCK])) for number in range(last)),
        (end, bytes([STOP])),
        (end + 1.0, note_off(channel, wish.note)),
    )


def seconds_of(hits: int) -> float:
    """How long a sounding of so many hits takes in real time: the pattern, and what rings on."""
    return float(pattern_ms(hits)[-1] + TAIL_MS) / 1000


def values_of(wish: Wish) -> np.ndarray:
    """What differs from hit to hit: notes before it, or its velocity; shape (hits,). The order does not repeat evenly,
    so that a drift is not taken for a difference."""
    choice = {"chord": BEFORE, "velocity": VELOCITIES}.get(wish.test, (0,))
    turns = -(-wish.hits // len(choice))
    rows = [np.roll(choice if turn % 2 else choice[::-1], turn // 2) for turn in range(turns)]
    return np.concatenate(rows)[: wish.hits]


def sounding_score(wish: Wish, channel: int) -> Score:
    """The pattern as a score of one part; the heard notes alone are what a recording is measured against."""
    return _score(wish, channel, [(int(at), wish.note, _velocity(wish, value)) for at, value in _hits(wish)])


def played_score(wish: Wish, channel: int) -> Score:
    """The same with what is played besides: the quiet notes of a chord, handed over ahead of the heard one."""
    rows = []
    for at, value in _hits(wish):
        quiet = value if wish.test == "chord" else 0
        rows += [(int(at), wish.note - step, 1) for step in range(quiet, 0, -1)]
        rows.append((int(at), wish.note, _velocity(wish, value)))
    return _score(wish, channel, rows)


def _hits(wish: Wish) -> list[tuple[int, int]]:
    return list(zip(_moments_ms(wish).tolist(), values_of(wish).tolist(), strict=True))


def _moments_ms(wish: Wish) -> np.ndarray:
    """When each hit is due: by the pattern, or at the clock's sixteenths."""
    if wish.test != "clock":
        return pattern_ms(wish.hits)
    return LEAD_MS + np.arange(wish.hits) * round(15_000 / CLOCK_BPM)


def _velocity(wish: Wish, value: int) -> int:
    return value if wish.test == "velocity" else wish.velocity


def _score(wish: Wish, channel: int, rows: Sequence[tuple[int, int, int]]) -> Score:
    notes = np.zeros(len(rows), dtype=NOTE)
    notes["tick"], notes["note"], notes["velocity"] = np.array(rows).T
    notes["duration"] = HIT_MS
    tempo = TempoMap(TICKS_PER_QUARTER, ((0, US_PER_QUARTER),), ((0, 4, 4),))
    part = ScorePart(f"Sounding, {TESTS[wish.test]}", channel, notes, no_controls())
    return Score(tempo, (part,), int(notes["tick"][-1]) + TAIL_MS)


@dataclass(frozen=True)
class Group:
    """Hits that share a value: their median lateness and the half-width of its 95 % interval, in ms."""

    value: int
    hits: int
    lateness_ms: float
    half_ms: float


def groups_of(wish: Wish, hits: Sequence[Sequence[float]], rate: int) -> tuple[Group, ...]:
    """The measured hits (rows of moment and onset in samples, whether used) by their value, ascending; empty for a test
    of single hits."""
    if wish.test not in ("chord", "velocity"):
        return ()
    at, values = pattern_ms(wish.hits) * rate / 1000, values_of(wish)
    rows: dict[int, list[float]] = {}
    for moment, onset, used in hits:
        if used:
            value = int(values[int(np.argmin(np.abs(at - moment)))])
            rows.setdefault(value, []).append((onset - moment) * 1000 / rate)
    return tuple(
        Group(value, len(late), float(np.median(late)), _half(np.array(late))) for value, late in sorted(rows.items())
    )


def _half(late: np.ndarray) -> float:
    if len(late) < 3:
        return float("inf")
    return float(student_quantile(len(late) - 1) * 1.2533 * np.std(late, ddof=1) / np.sqrt(len(late)))


@dataclass(frozen=True)
class Slope:
    """Lateness for each simultaneous note, in ms, with the half-width of its 95 % interval; wire_ms: what of it the
    wire alone takes."""

    ms: float
    half_ms: float
    wire_ms: float

    @property
    def box_ms(self) -> float:
        """What the box takes for each note."""
        return self.ms - self.wire_ms


def per_note(wish: Wish, hits: Sequence[Sequence[float]], rate: int, *, by_wire: bool) -> Slope | None:
    """The straight line through the hits of a chord test; None for other tests and for too few hits. by_wire: the notes
    queue on a DIN wire, three bytes each."""
    rows = [(moment, onset) for moment, onset, used in hits if used]
    if wish.test != "chord" or len(rows) < 4:
        return None
    moments, onsets = np.array(rows).T
    at = pattern_ms(wish.hits) * rate / 1000
    before = values_of(wish)[np.argmin(np.abs(at[:, None] - moments), axis=0)].astype(float)
    late = (onsets - moments) * 1000 / rate
    away = before - before.mean()
    square = float((away**2).sum())
    if not square:
        return None
    slope = float((away * late).sum() / square)
    rest = late - late.mean() - slope * away
    sigma = float(np.sqrt((rest**2).sum() / (len(rest) - 2)))
    half = student_quantile(len(rest) - 2) * sigma / np.sqrt(square)
    return Slope(slope, float(half), 3 * BYTE_US / 1000 if by_wire else 0.0)
