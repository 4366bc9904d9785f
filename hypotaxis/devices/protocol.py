"""What passes between the application and the device process: commands one way, answers the other.

The audio's callback has a process of its own: beside other threads of Python it would lose frames. The two talk in
these values, over a pipe.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.studio import Block, Message, RunSetup, Wanted


@dataclass(frozen=True)
class Open:
    """The first command: open this studio."""

    wanted: Wanted
    panic: str = ""
    """Path of the local socket by which silence is asked for, "" = none."""


@dataclass(frozen=True)
class Look:
    """Say what is there now; answered by `studio.Reported`."""


@dataclass(frozen=True)
class Begin:
    """Begin a run as soon as it has been fed; answered by blocks, and an Ended."""

    setup: RunSetup
    sends: tuple[str, ...]
    """The ports that its source sends on."""


@dataclass(frozen=True)
class Piece:
    """What an output plays from a frame on."""

    output: str
    start: int
    samples: np.ndarray


@dataclass(frozen=True)
class Feed:
    """All that leaves before a frame of the run and has not been fed yet."""

    until: int
    messages: tuple[Message, ...] = ()
    pieces: tuple[Piece, ...] = ()


@dataclass(frozen=True)
class Stop:
    """End the run now, and silence what sounds."""


@dataclass(frozen=True)
class Came:
    """What came since the last answer."""

    block: Block


@dataclass(frozen=True)
class Ended:
    """The run has ended and all is silent. late: messages that left behind their time."""

    xruns: int
    late: int


@dataclass(frozen=True)
class Trouble:
    """It cannot be done, in words for the person. kind: name of an error of `core.errors`."""

    kind: str
    words: str
