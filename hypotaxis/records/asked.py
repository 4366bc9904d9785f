"""Numbers and uids out of an address: anything that is none, or absurd, is the default; and how much a page tells
before it is asked for all."""

import uuid

LISTED = 24
"""Of how many things that grow in number (takes, soundings, files), the newest, a page tells one by one."""


def number(text: str | None, default: float) -> float:
    """A number of a query string."""
    try:
        value = float(text)
    except (TypeError, ValueError):
        return default
    return value if abs(value) < 1e12 else default


def whole(text: str | None, default: int, low: int, high: int) -> int:
    """A whole number of a query string, held between low and high."""
    return int(min(high, max(low, number(text, default))))


def one_line(text: str | None, longest: int = 80) -> str:
    """A name as it is kept: without line ends and blanks to no purpose.

    >>> one_line("  Ebb\\r\\n and  flow ")
    'Ebb and flow'
    """
    return " ".join((text or "").split())[:longest].strip()


def as_uuid(text: str) -> uuid.UUID | None:
    """A uid; None where it is none."""
    try:
        return uuid.UUID(text)
    except ValueError:
        return None
