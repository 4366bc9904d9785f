"""Conversions between the units of the job.

Samples are integers in one named clock when they are positions, floats when they are durations;
levels in decibels are relative to the named reference; minus infinity is silence.
"""

import math

BYTE_US = 320
"""Time of one byte on a DIN wire in µs: 10 bits at 31,250 baud (MIDI 1.0 Detailed Specification)."""
CLOCKS_A_QUARTER = 24
"""Clock bytes a quarter note (MIDI 1.0 Detailed Specification)."""
CLIP_RUN = 3
"""Samples in a row at full scale that count as clipping (common practice)."""


def samples_to_ms(samples: float, rate: int) -> float:
    """Duration in ms of `samples` at `rate` Hz.

    >>> round(samples_to_ms(256, 48000), 3)
    5.333
    """
    return 1000.0 * samples / rate


def ms_to_samples(ms: float, rate: int) -> float:
    """Duration in samples (not rounded) of `ms` at `rate` Hz."""
    return ms * rate / 1000.0


def db_to_factor(db: float) -> float:
    """Amplitude factor of a level difference in dB."""
    return 10.0 ** (db / 20.0)


def factor_to_db(factor: float) -> float:
    """Level in dB of an amplitude relative to 1.0; silence gives minus infinity.

    >>> factor_to_db(0.0)
    -inf
    """
    return 20.0 * math.log10(factor) if factor > 0 else -math.inf


def signed(value: float, digits: int = 1) -> str:
    """A number with its sign always shown, with a real minus, as offsets are written.

    >>> signed(12.43), signed(-0.8), signed(0.0), signed(-682, 0)
    ('+12.4', '−0.8', '0.0', '−682')
    """
    text = f"{abs(value):.{digits}f}"
    if float(text) == 0:
        return text
    return ("+" if value > 0 else "−") + text


FLOOR_DB = -120.0
"""What stands for silence where a level is stored (JSON has no infinity)."""


def stored_db(db: float) -> float:
    """A level as it is stored: silence, and what is below the floor, as the floor.

    >>> stored_db(-14.0), stored_db(-math.inf)
    (-14.0, -120.0)
    """
    return max(FLOOR_DB, db)


def stored_level_text(db: float) -> str:
    """A stored level as it stands beside a meter.

    >>> stored_level_text(-14.0), stored_level_text(FLOOR_DB)
    ('−14.0', '−∞')
    """
    return level_text(db if db > FLOOR_DB else -math.inf)


def level_text(db: float) -> str:
    """A level as it stands beside a meter: one decimal, real minus, −∞ for silence.

    >>> level_text(-14.04), level_text(-math.inf)
    ('−14.0', '−∞')
    """
    if db == -math.inf:
        return "−∞"
    return signed(db) if db < 0 else f"{db:.1f}"


def clock_text(seconds: float) -> str:
    """A duration as minutes and seconds with one decimal.

    >>> clock_text(18.83), clock_text(125)
    ('0:18.8', '2:05.0')
    """
    tenths = round(max(0.0, seconds) * 10)
    return f"{tenths // 600}:{tenths % 600 / 10:04.1f}"


def whole_of(text: str) -> int | None:
    """A whole number of one to nine plain digits, blanks around it or not; None for anything else, so that no file
    makes a number of thousands of digits.

    >>> whole_of(" 127 "), whole_of("-1"), whole_of("9" * 5000)
    (127, None, None)
    """
    text = text.strip()
    return int(text) if len(text) <= 9 and text.isascii() and text.isdecimal() else None


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its noun.

    >>> counted(1, "box", "boxes"), counted(3, "box", "boxes"), counted(0, "take")
    ('1 box', '3 boxes', 'no takes')
    """
    return f"{number or 'no'} {one if number == 1 else many or f'{one}s'}"
