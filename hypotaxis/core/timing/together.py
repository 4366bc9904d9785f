"""How do instruments of different lateness sound together, while they are played and not yet recorded?

Either each is sent earlier by its own lateness, so that all stand on the beat, or all are held to the slowest, so that
nothing has to be sent before its time. What jitter scatters, neither can take away.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from hypotaxis.core.rig.values import TOGETHER


@dataclass(frozen=True)
class Heard:
    """An instrument in a mode. shift_ms: added to when its notes are sent, − earlier; sounds_ms: when it then is heard,
    counted from the beat."""

    uid: str
    shift_ms: float
    sounds_ms: float


def together(lateness_ms: Mapping[str, float], mode: str) -> tuple[Heard, ...]:
    """When each instrument (by uid) is sent and heard in a mode of rig.values.TOGETHER.

    >>> [one.shift_ms for one in together({"a": 14.0, "b": 17.0}, "held to the slowest")]
    [3.0, 0.0]
    """
    slowest = max(lateness_ms.values(), default=0.0)
    goal = dict(zip(TOGETHER, (None, 0.0, slowest), strict=True))[mode]
    rows = []
    for uid, late in lateness_ms.items():
        shift = 0.0 if goal is None else goal - late
        rows.append(Heard(uid, shift, late + shift))
    return tuple(rows)


def spread_ms(rows: tuple[Heard, ...]) -> float:
    """From the first to the last heard, in ms."""
    heard = [one.sounds_ms for one in rows]
    return max(heard, default=0.0) - min(heard, default=0.0)
