"""A pass that a box leads: what leaves when its clock comes, and which tempo was really played.

The pass is written at the session's tempo, as any other; each of its messages then stands at a place in the bars, and
leaves when the leader's clock gets there, or a little before that is heard: the line through the last clocks says when
(see leader.py). Clocks are counted from the session's bar 1, 24 a quarter; times are ns from the beginning of the run.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from hypotaxis.core.midi.messages import (
    CLOCK,
    CONTINUE,
    EXCLUSIVE,
    NOTE_OFF,
    NOTE_ON,
    SONG_POSITION,
    START,
    STOP,
    channel_of,
    kind_of,
    note_off,
)
from hypotaxis.core.session.passes import LedBy
from hypotaxis.core.session.schedule import LEAD_IN_S, TAIL_S, Schedule
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import Block, Message
from hypotaxis.core.sync.leader import FLOOD, STALLED, Follower, TempoIn
from hypotaxis.core.sync.misstep import TICKS_A_SIXTEENTH
from hypotaxis.core.units import CLOCKS_A_QUARTER

CALLED_NS = round(LEAD_IN_S / 2 * 1e9)
"""What is written before this calls up sounds, and leaves when the run begins; the rest belongs to the bars."""
LATE_NS = 1_000_000
"""What leaves later than this is told as late."""
AHEAD = CLOCKS_A_QUARTER
"""Clocks: nothing leaves further beyond the last one that was heard, so that a leader that stops is not overrun."""
VANISHED_S = 2.0
"""Without a clock for so long the leader is gone."""
SMOOTHNESS = (1.0, 16.0, 256.0, 4096.0, 65536.0)
"""How stiff the line through the clocks may be: each step is twice as many clocks that share their jitter."""
LEAST_NS = 1_000.0
"""Nothing is timed finer than that."""
WORSE = 1.15
"""What is left may exceed the jitter by so much; a line that leaves more has lost some of the tempo's movement."""
NEAR, BENT = 12, 1.3
"""So many neighbouring clocks may lie on one side of the line by this share of the jitter on average: 4.5 standard
errors. A step of tempo leaves more than that of a line that is too stiff for it."""


@dataclass(frozen=True, kw_only=True)
class LedRun:
    """What came of a pass that a box led."""

    first_sample: int
    """Session position, by the tempo that was played, of the first frame that was kept."""
    first_bar: int
    last_bar: int
    """The first and the last bar that were reached."""
    whole: bool = False
    """It reached its end as it was wished."""
    told: str = ""
    """What ended it or was wrong with its clock, "" = nothing."""
    bpm: tuple[float, float] = (0.0, 0.0)
    """The slowest and the quickest bar."""
    late_ms: float = 0.0
    """By how much its first notes left too late: what is due when the leader starts cannot be sent before that is
    heard."""
    late_tick: int = -1
    """The last tick whose notes left so."""

    @property
    def bpm_told(self) -> str:
        """Its tempo, or the slowest and the quickest bar."""
        slowest, quickest = (f"{one:.2f}" for one in self.bpm)
        return slowest if slowest == quickest else f"{slowest}–{quickest}"


@dataclass(frozen=True, kw_only=True)
class LedNow:
    """Where a pass stands that a box leads. clock: the last that was heard, None = it waits for the start key."""

    tempo: TempoIn = field(default_factory=TempoIn)
    clock: int | None = None
    share: float = 0.0
    told: str = ""


class Led:
    """A source that plays a schedule by a leader's clock (core.studio.Source); `hear` takes every block that came.

    Start begins the pass's first bar. Continue goes on where song position says; before the first bar the pass waits
    for it. Stop, another start, and a clock that vanishes end it; what was recorded is kept.
    """

    def __init__(self, schedule: Schedule, tempo: TempoMap, leader: LedBy, *, rate: int) -> None:
        self.tempo, self.rate, self.until_stop = tempo, rate, leader.until_stop
        self.ports = frozenset(message.port for message in schedule.messages)
        self._leader, self._follower = leader.port, Follower()
        pace = CLOCKS_A_QUARTER / tempo.ticks_per_quarter
        self.first, self.end = schedule.first_tick * pace, schedule.end_tick * pace
        zero_us = schedule.first_sample * 1e6 / schedule.sample_rate
        self._calls = [one for one in schedule.messages if one.time_ns < CALLED_NS]
        written = [one for one in schedule.messages if one.time_ns >= CALLED_NS]
        at_us = np.array([one.time_ns / 1000 for one in written]) + zero_us
        places = tempo.ticks_at_us(at_us) * pace
        self._cues = sorted(zip(places.tolist(), written, strict=True), key=lambda cue: cue[0])
        self._next = 0
        self._sounding: dict[tuple[str, int, int], None] = {}
        self._usual_ns = tempo.us_of_quarter(schedule.first_tick) * 1000 / CLOCKS_A_QUARTER
        self._late = 0.0, -1
        self._jumped = ""
        self._clock: float | None = None
        self._position: float | None = None
        self._now_ns = self._left_ns = 0
        self._over_ns: int | None = None
        self._silenced = False
        self.whole = False
        self.told = ""
        self.times: list[int] = []
        """When each clock from `first_clock` on was heard."""
        self.first_clock = self.first

    # --- what it hears

    @property
    def begun(self) -> bool:
        """Whether the pass's first clock has come."""
        return bool(self.times)

    @property
    def begun_ns(self) -> int:
        """When it came."""
        return self.times[0]

    def hear(self, block: Block) -> None:
        """Take in what came."""
        for message in block.received:
            if message.port == self._leader:
                self._hear(message)
        self._now_ns = round((block.start + len(block.samples)) * 1e9 / self.rate)
        if self.begun and self._over_ns is None:
            if self._now_ns - self.times[-1] > VANISHED_S * 1e9:
                self._finish(self._now_ns, f"Its clock stopped coming in {self._bar_told()}")
            elif self._follower.flooded:
                self._finish(self._now_ns, f"More than {FLOOD:,} clocks a second came in {self._bar_told()}")

    def _hear(self, message: Message) -> None:
        status, at = message.data[0], message.time_ns
        running = self._clock is not None
        if status == SONG_POSITION and self.begun and self._over_ns is None:
            # A receiver takes a position only while it stands (MIDI 1.0), and so do the boxes that follow.
            self._jumped = f"It named another position in {self._bar_told()}, while it ran, and was not followed there."
        elif status == SONG_POSITION and len(message.data) == 3 and not running:
            self._position = float(TICKS_A_SIXTEENTH * (message.data[1] | message.data[2] << 7))
        elif status in (START, CONTINUE):
            if self.begun:
                self._finish(at, f"It was started again in {self._bar_told()}")
            elif status == START or self._position is None:
                self._clock = self.first
            elif self._position < self.end or self.until_stop:
                self._clock = self._position
            else:
                self.told = "It went on behind the last bar of this pass, so nothing began."
        elif status == STOP:
            if self.begun:
                place = self._bar_told()
                self._finish(at, "" if self.until_stop else f"It was stopped in {place}", whole=self.until_stop)
            self._clock = None
        if len(message.data) == 1:
            self._follower.hear(at, status)
        if status == CLOCK and running and self._over_ns is None:
            self._count(at)

    def _count(self, at: int) -> None:
        clock, self._clock = self._clock, self._clock + 1
        if clock < self.first:
            return
        if not self.times:
            self.first_clock, self.told = clock, ""
            self._pass_over(clock)
        if self.times and at <= self.times[-1]:
            at = self.times[-1] + 1
        self.times.append(at)
        if clock >= self.end and not self.until_stop:
            self._finish(at, "", whole=True)

    def _pass_over(self, clock: float) -> None:
        """Where it begins later than written, the notes before are left out; what else was set there is sent. What is
        sent earlier than written by less than a clock still belongs to it."""
        limit = clock - 1 if clock > self.first else float("-inf")
        while self._next < len(self._cues) and self._cues[self._next][0] < limit:
            message = self._cues[self._next][1]
            if _kind(message) not in (NOTE_ON, NOTE_OFF):
                self._calls.append(replace(message, time_ns=0))
            self._next += 1

    def _finish(self, at: int, told: str, *, whole: bool = False) -> None:
        if self._over_ns is None:
            self._over_ns, self.whole, self.told = at, whole, f"{told}." if told else ""
            self._silenced = not whole or self.until_stop

    def _bar_told(self) -> str:
        return str(self.tempo.position(self._tick(self.first_clock + max(0, len(self.times) - 1))))

    def _tick(self, clock: float) -> int:
        return round(clock * self.tempo.ticks_per_quarter / CLOCKS_A_QUARTER)

    # --- what it sends

    def messages(self, until_ns: int) -> Sequence[Message]:
        """What leaves before this time and has not been asked for, in order of time."""
        found = [self._leaves(one, one.time_ns) for one in self._calls]
        self._calls = []
        if self._silenced:
            held, self._sounding = self._sounding, {}
            found += [self._leaves(Message(0, port, note_off(channel, note)), 0) for port, channel, note in held]
        elif self._clock is not None:
            found += self._due(until_ns)
        return found

    def _due(self, until_ns: int) -> list[Message]:
        line = self._follower.line()
        if line is None and not self.times:
            return []
        last, interval = (line.last_ns, line.slope_ns) if line else (self.times[-1], self._usual_ns)
        if self._now_ns - last > STALLED * interval:
            # It sends no clock while it stands, or it has stalled: its next one is not foreseen.
            return []
        heard = self._clock - 1
        ahead = AHEAD if self.times else 1
        found = []
        while self._next < len(self._cues):
            place, message = self._cues[self._next]
            at = round(last + (place - heard) * interval)
            if at >= until_ns or place > heard + ahead:
                break
            self._next += 1
            if self._now_ns - at > LATE_NS and _kind(message) == NOTE_ON:
                self._late = max(self._late[0], (self._now_ns - at) / 1e6), self._tick(place)
            found.append(self._leaves(message, at))
        return found

    def _leaves(self, message: Message, at: int) -> Message:
        """A message that leaves at a time, or now where that is past; nothing overtakes what left before it."""
        self._left_ns = max(at, self._now_ns, self._left_ns)
        kind = _kind(message)
        if kind in (NOTE_ON, NOTE_OFF):
            key = (message.port, channel_of(message.data[0]), message.data[1])
            if kind == NOTE_ON and message.data[2]:
                self._sounding[key] = None
            else:
                self._sounding.pop(key, None)
        return replace(message, time_ns=self._left_ns)

    def sound(self, output: str, start: int, frames: int) -> np.ndarray:
        """Nothing is played."""
        return np.zeros(frames)

    def ended(self) -> bool:
        """Whether its tail has come."""
        return self._over_ns is not None and self._now_ns >= self._over_ns + TAIL_S * 1e9

    # --- what is known of it

    def now(self) -> LedNow:
        """Where it stands."""
        tempo = self._follower.now(self._now_ns)
        if not self.begun:
            return LedNow(tempo=tempo, told=self.told)
        clock = self.first_clock + len(self.times) - 1
        share = 0.0 if self.until_stop else min(1.0, (clock - self.first) / (self.end - self.first))
        return LedNow(tempo=tempo, clock=int(clock), share=share, told=self.told)

    def played(self, kept_from: int, *, ended: bool = True) -> tuple[TempoMap, LedRun]:
        """(the tempo that was really played, what has come of it) so far. kept_from: the run's frame that is the first
        kept; ended: the clocks' jitter is taken off, which costs a second in hours: too long while it runs."""
        times = np.array(self.times)
        smooth = smoothed(times) if ended else times.astype(np.float64)
        played = _tempo_of(self.tempo, smooth, self.first_clock)
        return played, self._run(smooth, played, kept_from)

    def _run(self, smooth: np.ndarray, played: TempoMap, kept_from: int) -> LedRun:
        tick = self._tick(self.first_clock)
        begins = float(played.samples_at(tick, self.rate))
        # A clock that only marks the end begins no bar.
        reached = self._tick(self.first_clock + len(self.times) - 1)
        return LedRun(
            first_sample=round(begins - (float(smooth[0]) * self.rate / 1e9 - kept_from)),
            first_bar=self.tempo.position(tick).bar,
            last_bar=self.tempo.last_bar(max(reached, tick + 1)),
            whole=self.whole,
            told=" ".join(filter(None, (self._jumped, self.told or _trouble_told(self._follower, self.times[-1])))),
            bpm=_bar_tempos(smooth),
            late_ms=round(self._late[0], 1),
            late_tick=self._late[1],
        )


def _trouble_told(follower: Follower, at_ns: int) -> str:
    trouble = follower.now(at_ns).trouble
    return f"Its clock {trouble}." if trouble else ""


def _kind(message: Message) -> int:
    return kind_of(message.data[0]) if message.data[0] < EXCLUSIVE else message.data[0]


def smoothed(times_ns: np.ndarray) -> np.ndarray:
    """When clocks were meant that arrived at these times (ns, ascending), as float64: their jitter is shared among as
    many neighbours as the tempo's own movement allows (Whittaker's smoother, the stiffest that leaves no more than the
    jitter, which the third differences of the times tell: they hold neither tempo nor its steady change)."""
    count = len(times_ns)
    if count < 2 * NEAR:
        return times_ns.astype(np.float64)
    # Off a straight line from the first to the last, so that hours lose no digits.
    straight = np.linspace(0.0, float(times_ns[-1] - times_ns[0]), count)
    away = (times_ns - times_ns[0]) - straight
    # Third differences of independent errors have twenty times their variance (1 + 9 + 9 + 1).
    jitter = max(LEAST_NS, float(np.median(np.abs(np.diff(away, 3)))) / (0.6745 * np.sqrt(20)))
    best = away
    for stiff in SMOOTHNESS:
        line = _whittaker(away, stiff)
        rest = away - line
        near = np.convolve(rest, np.full(NEAR, 1 / NEAR), "valid")
        if float(np.sqrt((rest**2).mean())) > WORSE * jitter or np.abs(near).max() > BENT * jitter:
            break
        best = line
    return best + straight + float(times_ns[0])


def _whittaker(values: np.ndarray, stiff: float) -> np.ndarray:
    from scipy.linalg import solveh_banded  # Takes long to import, and only what a box led needs it.

    count = len(values)
    diagonal = np.full(count, 6.0)
    diagonal[[0, -1]], diagonal[[1, -2]] = 1.0, 5.0
    beside = np.full(count, -4.0)
    beside[[1, -1]] = -2.0
    bands = np.zeros((3, count))
    bands[2] = 1 + stiff * diagonal
    bands[1, 1:] = stiff * beside[1:]
    bands[0, 2:] = stiff
    return solveh_banded(bands, values)


def played_tempo(tempo: TempoMap, times_ns: Sequence[int], first_clock: float) -> TempoMap:
    """The tempo map by which a leader's clocks were played: up to first_clock the session's, then a tempo a quarter,
    whole µs each, chosen so that no rounding adds up; behind the last clock its last tempo goes on."""
    return _tempo_of(tempo, smoothed(np.array(times_ns)), first_clock)


def _tempo_of(tempo: TempoMap, meant_ns: np.ndarray, first_clock: float) -> TempoMap:
    first_tick = round(first_clock * tempo.ticks_per_quarter / CLOCKS_A_QUARTER)
    if len(meant_ns) < 2:
        return tempo
    smooth = meant_ns / 1000
    knots = list(range(0, len(smooth), CLOCKS_A_QUARTER))
    before = tuple((tick, us) for tick, us in tempo.tempos if tick < first_tick)
    found, spent = [], 0
    for place, knot in enumerate(knots):
        end = knots[place + 1] if place + 1 < len(knots) else len(smooth) - 1
        if end == knot:
            continue
        quarters = (end - knot) / CLOCKS_A_QUARTER
        whole = end - knot == CLOCKS_A_QUARTER
        us = (smooth[end] - smooth[0] - spent) if whole else (smooth[end] - smooth[knot]) / quarters
        us = max(1, round(float(us)))
        spent += us
        if not found or found[-1][1] != us:
            found.append((first_tick + place * tempo.ticks_per_quarter, us))
    return replace(tempo, tempos=(*before, *found))


def _bar_tempos(smooth: np.ndarray) -> tuple[float, float]:
    """The slowest and the quickest stretch of four quarters, BPM."""
    bar = 4 * CLOCKS_A_QUARTER
    at = smooth[::bar] if len(smooth) > bar else smooth[[0, -1]]
    clocks = bar if len(smooth) > bar else len(smooth) - 1
    if clocks < 1:
        return (0.0, 0.0)
    paces = 60e9 / (np.diff(at) / clocks * CLOCKS_A_QUARTER)
    return float(round(paces.min(), 2)), float(round(paces.max(), 2))
