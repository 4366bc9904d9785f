"""The DIN wire and the box's ear: bytes in a queue, and messages out of bytes.

31,250 baud, 10 bits a byte: 320 µs each (MIDI 1.0 Detailed Specification). Times in ns of the computer's clock.
"""

from collections import deque
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from hypotaxis.core.midi.messages import (
    CLOCK,
    CONTINUE,
    DATA_BYTES,
    EXCLUSIVE,
    EXCLUSIVE_END,
    FIRST_STATUS,
    REAL_TIME,
    SONG_POSITION,
    START,
    STOP,
    kind_of,
)

BYTE_NS = 320_000
NEVER = 1 << 62
CLOCK_BYTES = (CLOCK, START, CONTINUE, STOP)
FOLLOWED = (*CLOCK_BYTES, SONG_POSITION)
"""What boxes follow by, whatever their channel."""
THRU_NS = 2_000
"""Rise and fall of one opto-isolator (under 2 µs each by the specification)."""


@dataclass(frozen=True)
class Heard:
    """A whole message at the box: the end of its last byte, its status with channel, its data."""

    time_ns: int
    status: int
    data: tuple[int, ...]


class Wire:
    """A DIN wire: a queue of bytes, in which real-time bytes go in between. Messages are handed over at ascending
    times."""

    def __init__(self) -> None:
        self._waiting: deque[tuple[int, int]] = deque()
        self._urgent: deque[tuple[int, int]] = deque()
        self._free = 0

    def hand(self, time_ns: int, data: bytes) -> None:
        """Let a message queue."""
        for byte in data:
            (self._urgent if byte >= REAL_TIME else self._waiting).append((time_ns, byte))

    def until(self, time_ns: int) -> Iterator[tuple[int, int]]:
        """(end of the byte in ns, byte) of those that begin before this time. What is handed over later is not earlier
        than that."""
        while self._waiting or self._urgent:
            plain, quick = (max(self._free, queue[0][0]) if queue else NEVER for queue in (self._waiting, self._urgent))
            if min(plain, quick) >= time_ns:
                return
            _, byte = (self._urgent if quick <= plain else self._waiting).popleft()
            self._free = min(plain, quick) + BYTE_NS
            yield self._free, byte


class Packets:
    """The inside of a USB link: the bytes of a message are all there at its frame."""

    def __init__(self) -> None:
        self._waiting: deque[tuple[int, bytes]] = deque()

    def hand(self, time_ns: int, data: bytes) -> None:
        """Let a message leave with its frame."""
        self._waiting.append((time_ns, data))

    def until(self, time_ns: int) -> Iterator[tuple[int, int]]:
        """(time in ns, byte) of what leaves before this time."""
        while self._waiting and self._waiting[0][0] < time_ns:
            at_ns, data = self._waiting.popleft()
            for byte in data:
                yield at_ns, byte


class Ear:
    """Channel messages, clock and song position out of timed bytes, with running status; other system bytes are passed
    over. exclusives: (end of the last byte in ns, whole message) of the exclusive ones, for whoever takes them off."""

    def __init__(self) -> None:
        self._status = 0
        self._data: list[int] = []
        self._exclusive: bytearray | None = None
        self.exclusives: list[tuple[int, bytes]] = []

    def hear(self, bytes_in: Iterable[tuple[int, int]]) -> Iterator[Heard]:
        """The messages that are whole with these bytes."""
        for time_ns, byte in bytes_in:
            if byte >= REAL_TIME:
                if byte in CLOCK_BYTES:
                    yield Heard(time_ns, byte, ())
                continue
            self._gather(time_ns, byte)
            if byte >= FIRST_STATUS:
                # System common and exclusive cancel running status.
                self._status = byte if byte < EXCLUSIVE or byte == SONG_POSITION else 0
                self._data = []
                continue
            if not self._status:
                continue
            self._data.append(byte)
            common = self._status == SONG_POSITION
            if len(self._data) == (2 if common else DATA_BYTES[kind_of(self._status)]):
                yield Heard(time_ns, self._status, tuple(self._data))
                self._data = []
                self._status = 0 if common else self._status

    def _gather(self, time_ns: int, byte: int) -> None:
        if byte == EXCLUSIVE:
            self._exclusive = bytearray()
        if self._exclusive is None:
            return
        self._exclusive.append(byte)
        if byte == EXCLUSIVE_END:
            self.exclusives.append((time_ns, bytes(self._exclusive)))
        if byte >= FIRST_STATUS and byte != EXCLUSIVE:
            self._exclusive = None
