"""Time code by quarter frames: which pieces leave when?

Eight pieces span two frames, nibbles low first: frames, seconds, minutes, hours; the rate stands with the hours (MIDI
Time Code, MIDI 1.0 Detailed Specification). 29.97 is 30000/1001 frames a second and drops the numbers 0 and 1 of each
minute but every tenth (SMPTE ST 12-1, from memory).
"""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction

from hypotaxis.core.midi.messages import QUARTER_FRAME

PIECES = 8


@dataclass(frozen=True)
class Rate:
    """frames: a second, exactly; numbers: frame numbers in a second; code: bits of the hours byte; drop: whether
    numbers are dropped."""

    frames: Fraction
    numbers: int
    code: int
    drop: bool = False


RATES = {
    "24": Rate(Fraction(24), 24, 0),
    "25": Rate(Fraction(25), 25, 1),
    "29.97": Rate(Fraction(30_000, 1001), 30, 2, drop=True),
    "30": Rate(Fraction(30), 30, 3),
}


@dataclass(frozen=True)
class Label:
    """A frame as it is called."""

    hours: int
    minutes: int
    seconds: int
    frames: int

    def __str__(self) -> str:
        return f"{self.hours:02}:{self.minutes:02}:{self.seconds:02}:{self.frames:02}"


def label(frame: int, rate: Rate) -> Label:
    """How a frame is called, counted from 00:00:00:00; a day goes round.

    >>> str(label(1800, RATES["29.97"])), str(label(1800, RATES["30"]))
    ('00:01:00:02', '00:01:00:00')
    """
    if rate.drop:
        tens, rest = divmod(frame, 17_982)
        frame += 18 * tens + (2 * ((rest - 2) // 1798) if rest > 1 else 0)
    seconds, frames = divmod(frame, rate.numbers)
    return Label(seconds // 3600 % 24, seconds // 60 % 60, seconds % 60, frames)


def piece(number: int, of: Label, rate: Rate) -> bytes:
    """One of the eight quarter frames (0–7) of a frame."""
    fields = (of.frames, of.seconds, of.minutes, of.hours | rate.code << 5)
    value = fields[number // 2]
    return bytes([QUARTER_FRAME, number << 4 | (value >> 4 if number % 2 else value & 15)])


def full(of: Label, rate: Rate) -> bytes:
    """The message that tells a whole frame at once, to all devices."""
    fields = (of.hours | rate.code << 5, of.minutes, of.seconds, of.frames)
    return bytes([0xF0, 0x7F, 0x7F, 0x01, 0x01, *fields, 0xF7])


def first_frame(at_s: Fraction, rate: Rate) -> int:
    """The first frame that begins at or after a moment (s)."""
    return -(-at_s * rate.frames // 1)


def pieces(begin_s: Fraction, end_s: Fraction, rate: Rate, offset: int = 0) -> Iterator[tuple[int, bytes]]:
    """(quarter frames from moment 0, bytes) of the pieces between two moments; the first begins with a frame. offset:
    the frame at moment 0."""
    frame = first_frame(begin_s, rate)
    end = -(-end_s * 4 * rate.frames // 1)
    for quarter in range(4 * frame, end, PIECES):
        told = label(quarter // 4 + offset, rate)
        for number in range(min(PIECES, end - quarter)):
            yield quarter + number, piece(number, told, rate)
