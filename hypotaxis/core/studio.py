"""The narrow door to the outside: ports, inputs, and "run this schedule, deliver these blocks".

Two clocks: MIDI runs on the computer's (time_ns, from the start of the run), audio on the interface's crystal
(frames from the start of the run, at the nominal rate). Nothing else is learnt from the outside: a studio gives
bytes and samples, never what lies behind them. Samples are float32, full scale ±1.0, shape (frames, inputs).
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np


@dataclass(frozen=True)
class Port:
    """A MIDI port as the system reports it; direction "out" leaves the host. taken: another program holds it."""

    system_name: str
    direction: str
    taken: bool = False


@dataclass(frozen=True)
class Message:
    """Bytes handed to the driver of `port` (system name) at time_ns after the start of the run."""

    time_ns: int
    port: str
    data: bytes


@dataclass(frozen=True)
class Block:
    """Consecutive frames of the asked inputs, in the order asked; start counts frames from the run's start. received:
    messages that came in by ports meanwhile, in order of time."""

    start: int
    samples: np.ndarray
    received: tuple[Message, ...] = ()


class Studio(Protocol):
    """What the application may ask of the outside, real or simulated."""

    simulated: bool
    sample_rate: int
    buffer: int

    def ports(self) -> tuple[Port, ...]:
        """The MIDI ports there are now."""

    def inputs(self) -> tuple[str, ...]:
        """System names of the audio inputs there are now."""

    def outputs(self) -> tuple[str, ...]:
        """System names of the audio outputs there are now."""

    def run(
        self,
        messages: Sequence[Message],
        inputs: Sequence[str],
        *,
        frames: int,
        fast: bool = False,
        echo: Callable[[Message], Sequence[Message]] | None = None,
        sound: Mapping[str, np.ndarray] | None = None,
    ) -> Iterator[Block]:
        """Send the messages at their times and deliver the inputs until `frames` have come.

        messages must be in order of time. echo: asked for each message that comes in by a port, says what leaves for it
        at once. sound: what audio outputs (system names) play from the run's first frame on. fast: as quickly as
        possible instead of in real time, for a simulated studio only; the samples are the same. Closing the iterator
        ends the run and silences what sounds. Raises PortMissing for a port, input or output that is not there,
        StudioTrouble for fast on real hardware.
        """
