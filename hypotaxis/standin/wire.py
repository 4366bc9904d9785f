"""The DIN wire and the box's ear: bytes in a queue, and messages out of bytes.

31,250 baud, 10 bits a byte: 320 µs each (MIDI 1.0 Detailed Specification). Times in ns of the computer's clock.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from hypotaxis.core.midi.messages import (
    CLOCK,
    CONTINUE,
    DATA_BYTES,
    EXCLUSIVE,
    FIRST_STATUS,
    REAL_TIME,
    START,
    STOP,
    kind_of,
)

BYTE_NS = 320_000
CLOCK_BYTES = (CLOCK, START, CONTINUE, STOP)
THRU_NS = 2_000
"""Rise and fall of one opto-isolator (under 2 µs each by the specification)."""


@dataclass(frozen=True)
class Heard:
    """A whole message at the box: the end of its last byte, its status with channel, its data."""

    time_ns: int
    status: int
    data: tuple[int, ...]


def on_the_wire(handed: Sequence[tuple[int, bytes]]) -> Iterator[tuple[int, int]]:
    """(end of the byte in ns, byte) of messages handed over at ascending times; real-time bytes go in between."""
    waiting: list[tuple[int, int]] = []
    urgent: list[tuple[int, int]] = []
    for time_ns, data in handed:
        for byte in data:
            (urgent if byte >= REAL_TIME else waiting).append((time_ns, byte))
    free = plain = quick = 0
    while plain < len(waiting) or quick < len(urgent):
        next_plain = max(free, waiting[plain][0]) if plain < len(waiting) else None
        next_quick = max(free, urgent[quick][0]) if quick < len(urgent) else None
        if next_quick is not None and (next_plain is None or next_quick <= next_plain):
            start, byte = next_quick, urgent[quick][1]
            quick += 1
        else:
            start, byte = next_plain, waiting[plain][1]
            plain += 1
        free = start + BYTE_NS
        yield free, byte


def parse(bytes_in: Iterable[tuple[int, int]]) -> Iterator[Heard]:
    """Channel messages and clock out of timed bytes, with running status; other system bytes are passed over."""
    status = 0
    data: list[int] = []
    for time_ns, byte in bytes_in:
        if byte >= REAL_TIME:
            if byte in CLOCK_BYTES:
                yield Heard(time_ns, byte, ())
            continue
        if byte >= FIRST_STATUS:
            # System common and exclusive cancel running status.
            status = byte if byte < EXCLUSIVE else 0
            data = []
            continue
        if not status:
            continue
        data.append(byte)
        if len(data) == DATA_BYTES[kind_of(status)]:
            yield Heard(time_ns, status, tuple(data))
            data = []
