"""When does each message really leave on a DIN wire, and how long does it wait?

31,250 baud, ten bits a byte: 320 µs each (MIDI 1.0 Detailed Specification). First come, first served, a message whole;
real-time bytes (clock) go between any two bytes, ahead of what waits. All times are integers in units of 1/per_us
microseconds from the wire's zero, so that nothing is rounded; results in milliseconds are floats.
"""

import math
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.messages import EXCLUSIVE
from hypotaxis.core.units import BYTE_US

SECOND_US = 1_000_000


@dataclass(frozen=True, eq=False)
class Traffic:
    """Messages handed to one wire, in order."""

    ready: np.ndarray
    """When each may leave, ascending."""
    statuses: np.ndarray
    """First byte (F7 for the continuation of a system exclusive message)."""
    sizes: np.ndarray
    """Bytes, the status included."""
    parts: np.ndarray
    """Whose each is, any whole number."""
    clocks: np.ndarray
    """When each clock byte may leave, ascending. All arrays have shape (messages,) but clocks (clocks,)."""
    per_us: int
    """Units in a microsecond."""

    def only(self, which: np.ndarray) -> "Traffic":
        """Some of the messages, by a mask or by places in a new order."""
        picked = (column[which] for column in (self.ready, self.statuses, self.sizes, self.parts))
        return Traffic(*picked, self.clocks, self.per_us)


@dataclass(frozen=True, eq=False)
class Sent:
    """How the traffic went: start of the first and end of the last byte of each message, and the start of each clock
    byte, in the traffic's units. sizes: bytes that really went."""

    traffic: Traffic
    sizes: np.ndarray
    start: np.ndarray
    end: np.ndarray
    clock_start: np.ndarray

    @property
    def waits_ms(self) -> np.ndarray:
        """How long the first byte of each message waited."""
        return (self.start - self.traffic.ready) / (self.traffic.per_us * 1000)

    @property
    def arrivals_ms(self) -> np.ndarray:
        """From the time of each message to the end of its last byte."""
        return (self.end - self.traffic.ready) / (self.traffic.per_us * 1000)

    @property
    def clock_waits_ms(self) -> np.ndarray:
        """How long each clock byte waited."""
        return (self.clock_start - self.traffic.clocks) / (self.traffic.per_us * 1000)

    @property
    def byte_count(self) -> int:
        """Bytes on the wire, the clock's included."""
        return int(self.sizes.sum()) + len(self.clock_start)

    @property
    def duration_ms(self) -> float:
        """From zero to the end of the last byte."""
        last = [column.max() for column in (self.end, self.clock_start + self._byte) if len(column)]
        return float(max(last)) / (self.traffic.per_us * 1000) if last else 0.0

    @property
    def _byte(self) -> int:
        return BYTE_US * self.traffic.per_us

    def busy(self) -> tuple[np.ndarray, np.ndarray]:
        """(starts, ends) of the stretches in which the wire carries bytes without a pause, ascending."""
        start = np.concatenate([self.start, self.clock_start])
        end = np.concatenate([self.end, self.clock_start + self._byte])
        order = np.argsort(start, kind="stable")
        start, reach = start[order], np.maximum.accumulate(end[order])
        opens = np.concatenate([[True], start[1:] > reach[:-1]]) if len(start) else np.zeros(0, bool)
        closes = np.concatenate([opens[1:], [True]]) if len(start) else opens
        return start[opens], reach[closes]

    def utilisation(self, at: np.ndarray) -> np.ndarray:
        """Share (0–1) of the second that begins at each time (units) in which the wire carries bytes."""
        second = SECOND_US * self.traffic.per_us
        starts, ends = self.busy()
        carried = np.concatenate([[0], np.cumsum(ends - starts)])

        def until(times: np.ndarray) -> np.ndarray:
            place = np.searchsorted(starts, times, side="right")
            over = np.maximum(ends[np.maximum(place - 1, 0)] - times, 0) if len(ends) else 0
            return carried[place] - np.where(place > 0, over, 0)

        return (until(at + second) - until(at)) / second

    def utilisation_peak(self) -> float:
        """The busiest sliding second, 0–1: one that begins with a byte or ends with one."""
        starts, ends = self.busy()
        if not len(starts):
            return 0.0
        return float(self.utilisation(np.concatenate([starts, ends - SECOND_US * self.traffic.per_us])).max())


def send(traffic: Traffic, *, running_status: bool = False) -> Sent:
    """The queue, byte by byte. running_status: a status byte that repeats the one before is left out, also after a
    pause; real-time bytes do not cancel it, system messages do."""
    sizes = traffic.sizes.astype(np.int64)
    if running_status and len(sizes):
        repeats = (traffic.statuses[1:] == traffic.statuses[:-1]) & (traffic.statuses[1:] < EXCLUSIVE)
        sizes[1:] -= repeats
    byte = BYTE_US * traffic.per_us
    length = sizes * byte
    if len(traffic.clocks):
        return _with_clock(traffic, sizes, byte)
    total = np.cumsum(length)
    end = total + np.maximum.accumulate(traffic.ready - (total - length)) if len(sizes) else total
    return Sent(traffic, sizes, end - length, end, np.zeros(0, dtype=np.int64))


def _with_clock(traffic: Traffic, sizes: np.ndarray, byte: int) -> Sent:
    clocks = [*traffic.clocks.tolist(), math.inf]
    begun, starts, ends = [], [], []
    free, tick = 0, 0
    for ready, size in zip(traffic.ready.tolist(), sizes.tolist(), strict=True):
        while clocks[tick] <= max(free, ready):
            free = max(free, clocks[tick]) + byte
            begun.append(free - byte)
            tick += 1
        free = max(free, ready)
        starts.append(free)
        left = size
        # As many bytes as go before the next clock is due; it then goes ahead of the next one.
        while left and clocks[tick] <= free + (left - 1) * byte:
            gone = max(1, -(-(clocks[tick] - free) // byte))
            free += gone * byte
            left -= gone
            while clocks[tick] <= free and left:
                begun.append(free)
                free += byte
                tick += 1
        free += left * byte
        ends.append(free)
    for ready in clocks[tick:-1]:
        free = max(free, ready) + byte
        begun.append(free - byte)
    return Sent(traffic, sizes, *(np.array(column, dtype=np.int64) for column in (starts, ends, begun)))


@dataclass(frozen=True)
class Waits:
    """What messages had to wait, in ms: the first byte's start and the last byte's end after their time. p95: by
    nearest rank."""

    messages: int
    max_wait_ms: float
    p95_wait_ms: float
    max_arrival_ms: float


def waits(sent: Sent, which: np.ndarray | None = None) -> Waits:
    """The waits of all messages, or of those under a mask; of none they are 0."""
    waited, arrived = sent.waits_ms, sent.arrivals_ms
    if which is not None:
        waited, arrived = waited[which], arrived[which]
    if not len(waited):
        return Waits(0, 0.0, 0.0, 0.0)
    return Waits(len(waited), float(waited.max()), nearest_rank(waited, 0.95), float(arrived.max()))


def nearest_rank(values: np.ndarray, share: float) -> float:
    """The smallest value that at least `share` of the values do not exceed.

    >>> nearest_rank(np.array([15.0, 20, 35, 40, 50]), 0.3)
    20.0
    """
    return float(np.sort(values)[math.ceil(share * len(values)) - 1])
