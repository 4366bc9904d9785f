"""How loud, and how far to which side, is each track heard in the mix?

Levels in dB, 0 as recorded; pan from −100 (left) to +100 (right). A mono sound is laid between the sides at equal power
(−3 dB at each in the middle), a stereo one keeps its sides, and the farther one is turned down: both common practice.
"""

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from hypotaxis.core.errors import BadLevel
from hypotaxis.core.units import db_to_factor

LOWEST_DB, HIGHEST_DB = -60.0, 12.0
FARTHEST = 100
Read = Callable[[int, int], np.ndarray]
"""The frames between two session positions, shape (frames, channels), silence where there are none."""
OFF, BEATS, NOTES = CLICKS = ("off", "beats", "notes")
"""Where it clicks: nowhere, on the beats, on every note that is heard."""
COUNTED = "count-in"
"""In a pass: while it is counted in only."""
PLACED, ARRIVED = AS = ("placed", "arrived")
"""How takes are heard: as they stand, or each where it arrived."""


@dataclass(frozen=True)
class Fader:
    """How a track or a group is heard."""

    level_db: float = 0.0
    pan: int = 0
    muted: bool = False
    soloed: bool = False


@dataclass(frozen=True)
class Mixing:
    """What a session's mix is set to, besides its tracks. groups: by name; outputs: the sockets (uids) of the pair on
    which it plays while a pass is recorded, left and right; in_passes: whether it does; click, click_db: where it
    clicks there, one of CLICKS, and how loud; through: the inputs that are recorded are heard there, too."""

    groups: Mapping[str, Fader] = field(default_factory=dict)
    outputs: tuple[str, ...] = ()
    in_passes: bool = False
    click: str = OFF
    click_db: float = -12.0
    through: bool = False

    def of_group(self, name: str) -> Fader:
        """A group's fader."""
        return self.groups.get(name, Fader())


def check_fader(fader: Fader) -> Fader:
    """The same. Raises BadLevel for what no fader can be set to."""
    if not LOWEST_DB <= fader.level_db <= HIGHEST_DB:
        raise BadLevel(f"A level of {fader.level_db:g} dB is out of reach: {LOWEST_DB:g} to +{HIGHEST_DB:g} are.")
    if not -FARTHEST <= fader.pan <= FARTHEST:
        raise BadLevel(
            f"A pan of {fader.pan} is beyond the sides: −{FARTHEST} is left, 0 the middle, +{FARTHEST} right."
        )
    return fader


@dataclass(frozen=True)
class Strip:
    """A track at the desk. key: its own; group: a name, "" = none."""

    key: str
    fader: Fader
    group: str = ""


def heard(strips: Sequence[Strip], groups: Mapping[str, Fader]) -> dict[str, Fader]:
    """The faders of those that are heard, each with its group's level added. Where any track or group is soloed only
    those are heard; what is muted, or whose group is, never is."""
    none = Fader()
    mine = [(one, groups.get(one.group, none) if one.group else none) for one in strips]
    alone = any(one.fader.soloed or group.soloed for one, group in mine)
    found = {}
    for one, group in mine:
        silent = one.fader.muted or group.muted or (alone and not (one.fader.soloed or group.soloed))
        if not silent:
            pan = max(-FARTHEST, min(FARTHEST, one.fader.pan + group.pan))
            found[one.key] = Fader(one.fader.level_db + group.level_db, pan)
    return found


def sides(fader: Fader, channels: int) -> tuple[float, float]:
    """The factors of the left and the right side for a sound of one or two channels."""
    angle = (fader.pan + FARTHEST) / (2 * FARTHEST) * math.pi / 2
    left, right = math.cos(angle), math.sin(angle)
    if channels > 1:
        left, right = min(1.0, left * math.sqrt(2)), min(1.0, right * math.sqrt(2))
    gain = db_to_factor(fader.level_db)
    return gain * left, gain * right


@dataclass(frozen=True, eq=False)
class Heard:
    """A sound in the mix. channels: its own, one or two."""

    read: Read
    channels: int
    fader: Fader


def mixed(sounds: Iterable[Heard], first: int, last: int) -> np.ndarray:
    """The sum of the sounds between two session positions, shape (frames, 2)."""
    total = np.zeros((last - first, 2))
    for one in sounds:
        frames = one.read(first, last)
        left, right = sides(one.fader, one.channels)
        total[:, 0] += left * frames[:, 0]
        total[:, 1] += right * frames[:, -1]
    return total
