"""How loud is a signal at each socket on its way home, and how much room is left at the input?

Levels in dBu (0 dBu = √0.6 V RMS) of a sine at the nominal level of the socket it leaves by; headroom is the maximum of
a socket minus the level that arrives there. A route may raise or lower it on the way. Sockets without a level class
are not judged.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from hypotaxis.core.rig.values import Cable, Rig, Socket

REFERENCE_V = math.sqrt(0.6)
"""Volt RMS of 0 dBu (IEC 60268-17; EBU Tech 3276)."""


@dataclass(frozen=True)
class LevelClass:
    """A class of sockets: nominal level and usual maximum in dBu; source tells where they come from."""

    name: str
    nominal_dbu: float
    maximum_dbu: float
    source: str


def dbu_of(volt_rms: float) -> float:
    """Level in dBu of a voltage.

    >>> round(dbu_of(1.228), 2), round(dbu_of(1.0), 2)
    (4.0, 2.22)
    """
    return 20 * math.log10(volt_rms / REFERENCE_V)


def volt_of(dbu: float) -> float:
    """Volt RMS of a level in dBu."""
    return REFERENCE_V * 10 ** (dbu / 20)


def sine_dbu(volt_peak_to_peak: float) -> float:
    """Level in dBu of a sine of this peak-to-peak voltage.

    >>> round(sine_dbu(10), 2), round(sine_dbu(20), 2)
    (13.19, 19.21)
    """
    return dbu_of(volt_peak_to_peak / 2 / math.sqrt(2))


CLASSES: dict[str, LevelClass] = {
    "line +4": LevelClass("line level, +4 dBu", 4.0, 18.0, "EBU R 68: 0 dBFS = +18 dBu"),
    "line -10": LevelClass("line level, −10 dBV", dbu_of(10 ** (-10 / 20)), 6.2, "−10 dBV; maximum common practice"),
    "instrument": LevelClass("instrument level", -20.0, -6.0, "common practice"),
    "microphone": LevelClass("microphone level", -40.0, 0.0, "common practice, preamp at its lowest gain"),
    "modular": LevelClass("modular level", sine_dbu(10), sine_dbu(20), "10 V and 20 V peak to peak, common practice"),
}
"""By the level of a socket. Maxima of inputs are used where a socket notes none of its own."""


@dataclass(frozen=True)
class LevelPoint:
    """The signal at one socket. headroom_db: None at an out, or where no maximum is known."""

    socket: str
    level_dbu: float
    maximum_dbu: float | None
    headroom_db: float | None


def nominal_dbu(socket: Socket) -> float | None:
    """What a socket gives or expects, in dBu; None when its class is not noted."""
    return CLASSES[socket.level].nominal_dbu if socket.level in CLASSES else None


def maximum_dbu(socket: Socket) -> float | None:
    """The most a socket takes, in dBu: as noted, otherwise the usual of its class."""
    if socket.max_dbu is not None:
        return socket.max_dbu
    return CLASSES[socket.level].maximum_dbu if socket.level in CLASSES else None


def levels_along(rig: Rig, way: Sequence[Cable]) -> tuple[LevelPoint, ...]:
    """The level at each socket of a way home, from the out it leaves by to the host's input; empty when the first out
    notes no level class. Where a box on the way has an out of a class of its own, its route's gain is what counts."""
    first = rig.find(way[0].source) if way else None
    level = nominal_dbu(first[1]) if first else None
    if level is None:
        return ()
    points = []
    for number, cable in enumerate(way):
        if number:
            before = way[number - 1].target
            route = next((r for r in rig.routes_into(cable.source) if r.source == before), None)
            level += route.gain_db if route else 0.0
        points.append(LevelPoint(cable.source, level, None, None))
        target = rig.find(cable.target)
        most = maximum_dbu(target[1]) if target else None
        points.append(LevelPoint(cable.target, level, most, None if most is None else most - level))
    return tuple(points)


def advice(rig: Rig, way: Sequence[Cable]) -> str:
    """Gain structure of a way home in one sentence, with its numbers; empty when nothing is known of it."""
    points = levels_along(rig, way)
    target = rig.find(way[-1].target) if way else None
    if not points or target is None or points[-1].headroom_db is None:
        return ""
    last = points[-1]
    wants = nominal_dbu(target[1])
    room = last.headroom_db
    if room < 0:
        return f"{-room:.0f} dB over what {target[1].name} takes: a pad of {math.ceil(-room)} dB or more is needed."
    if room < 6:
        return f"Only {room:.0f} dB of headroom at {target[1].name}: preamp all the way down, or a pad of 10 dB."
    if wants is not None and last.level_dbu < wants - 6:
        return (
            f"{wants - last.level_dbu:.0f} dB below what {target[1].name} expects: the box all the way up, then the "
            "input's gain."
        )
    return f"{room:.0f} dB of headroom at {target[1].name}: the box all the way up, the preamp low."
