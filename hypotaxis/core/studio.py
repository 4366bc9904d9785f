"""The narrow door to the outside: ports, inputs, and "run this, deliver these blocks".

What leaves is pulled, a little ahead of its time, from a source that may change while the run goes on; what comes in
is delivered in blocks. Times are counted from the beginning of the run: MIDI in ns of the computer's clock, audio in
frames of the interface's crystal, at the nominal rate (one clock, where the studio says so). Nothing else is learnt
from the outside: a studio gives bytes and samples, never what lies behind them. Samples are float32, full scale ±1.0,
shape (frames, inputs).
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from hypotaxis.core.midi.shaping import Shaping

STAND_IN, JACK, PORTABLE = KINDS = ("stand-in", "jack", "portable")
"""The kinds of studio: simulated; a JACK server; what the system offers of audio and MIDI."""
STUDIO_NAMES = {STAND_IN: "stand-in", JACK: "JACK", PORTABLE: "system audio"}
MIDI, AUDIO = "midi", "audio"
EVERY = "*"
"""Instead of a device's name: of all that there are."""
AHEAD_S = 10.0
"""A studio asks its source for no more than this ahead."""
AT_ONCE, WITH_A_MESSAGE, WITH_A_NOTE = BEGINS = ("at once", "with a message", "with a note")


@dataclass(frozen=True)
class Port:
    """A MIDI port as the system reports it."""

    system_name: str
    direction: str
    """"out" leaves the host, "in" comes to it."""
    taken: bool = False
    """Another program holds it."""
    key: str = ""
    """What stays the same when its shown name changes, "" = its name."""
    own: bool = False
    """It is ours, for other programs to connect to."""


@dataclass(frozen=True)
class AudioEnd:
    """An audio input or output as the system reports it."""

    name: str
    key: str
    """What stays the same when its shown name changes."""
    physical: bool = True
    """A socket of an interface, not another program's."""
    latency: int = 0
    """Frames between the socket and the run, as the studio reports it."""
    own: bool = False
    """It is ours, for other programs to connect to."""


@dataclass(frozen=True)
class OwnEnd:
    """A port, input or output of our own that other programs can connect to. direction: as the host sees it, "in" is
    what they send to us."""

    name: str
    kind: str
    """MIDI or AUDIO."""
    direction: str


@dataclass(frozen=True, kw_only=True)
class Wanted:
    """Which studio is to be opened, and how. What is 0 or "" is the studio's own choice."""

    kind: str = STAND_IN
    """One of KINDS."""
    server: str = ""
    """JACK's, where several run."""
    input_device: str = ""
    """Of system audio, by its name; EVERY = all, for a look round."""
    output_device: str = ""
    rate: int = 0
    """Of system audio, Hz."""
    buffer: int = 0
    """Of system audio, frames."""
    own: tuple[OwnEnd, ...] = ()


@dataclass(frozen=True, kw_only=True)
class Reported:
    """What a studio says of itself now."""

    studio: str
    """Which kind it is, one of KINDS."""
    server: str
    """Its name, where there are several."""
    rate: int
    """Hz."""
    buffer: int
    """Frames a period."""
    realtime: bool | None
    """Whether it runs with the rights of real time, None = it does not say."""
    ports: tuple[Port, ...] = ()
    inputs: tuple[AudioEnd, ...] = ()
    outputs: tuple[AudioEnd, ...] = ()
    one_clock: bool = True
    """Whether MIDI is timed by the audio's clock."""
    input_devices: tuple[str, ...] = ()
    """Of system audio: what can be chosen."""
    output_devices: tuple[str, ...] = ()
    devices: tuple[str, ...] = ()
    """Of system audio: those in use."""


@dataclass(frozen=True, kw_only=True)
class RunTold:
    """What a run says of itself when it has ended."""

    seconds: float = 0.0
    xruns: int = 0
    """Periods in which the server was late."""
    lost: int = 0
    """Frames that did not come."""
    late: int = 0
    """Messages that left behind their time."""


@dataclass(frozen=True)
class Message:
    """Bytes handed to the driver of `port` (system name) at time_ns after the start of the run."""

    time_ns: int
    port: str
    data: bytes


@dataclass(frozen=True)
class Lost:
    """Frames that the system did not deliver; they are filled with silence, so that places stay true."""

    start: int
    frames: int


@dataclass(frozen=True)
class Block:
    """Consecutive frames of the asked inputs, in the order asked. While a run waits for its beginning, blocks have no
    frames."""

    start: int
    """Frames from the run's start."""
    samples: np.ndarray
    received: tuple[Message, ...] = ()
    """What came in by ports meanwhile, in order of time."""
    sent: tuple[Message, ...] = ()
    """What left for it by the rules of the echo."""
    lost: tuple[Lost, ...] = ()


@dataclass(frozen=True)
class EchoRule:
    """What comes in by a port on some channels leaves by another at once."""

    port: str
    """System name of the port it comes by."""
    channels: tuple[int, ...]
    """1–16."""
    out: str
    """System name of the port it leaves by."""
    channel: int
    """On which it leaves."""
    shaping: Shaping = field(default_factory=Shaping)
    of: str = ""
    """Uid of the instrument that it plays."""


@dataclass(frozen=True)
class KeptOut:
    """A key that plays nothing: what comes in of it is delivered, and neither echoed nor waited for. kind: a status
    without its channel, of notes NOTE_ON; channel 1–16; number: note, controller or program."""

    port: str
    kind: int
    channel: int
    number: int


@dataclass(frozen=True)
class Passed:
    """An input that is heard on an output while the run goes on: monitoring through the host, a block later."""

    input: str
    output: str
    gain_db: float = 0.0


@dataclass(frozen=True, kw_only=True)
class RunSetup:
    """What a run is asked to do, besides what its source sends. Inputs and outputs by system name."""

    inputs: tuple[str, ...] = ()
    """Those that are recorded, in the order of the blocks' columns."""
    outputs: tuple[str, ...] = ()
    """Those that the source plays on."""
    frames: int | None = None
    """How long it goes on; None = until its source has ended, or it is closed."""
    fast: bool = False
    """As quickly as possible instead of in real time; the samples are the same."""
    echo: tuple[EchoRule, ...] = ()
    passed: tuple[Passed, ...] = ()
    """Of inputs that are recorded."""
    kept_out: tuple[KeptOut, ...] = ()
    """Keys that play nothing."""
    begins: str = AT_ONCE
    """One of BEGINS: what comes first in by a port is the run's time zero."""


class Source(Protocol):
    """What a run sends and plays. It is asked in ascending order, for each stretch once, and may change its mind about
    all that it has not been asked for yet."""

    ports: frozenset[str]
    """System names of the ports it will send on."""

    def messages(self, until_ns: int) -> Sequence[Message]:
        """What leaves before this time and has not been asked for, in order of time."""

    def sound(self, output: str, start: int, frames: int) -> np.ndarray:
        """What an output plays in these frames, shape (frames,)."""

    def ended(self) -> bool:
        """Whether nothing more will come, so that a run without a length may end."""


Sound = Callable[[int, int], np.ndarray]
"""The samples of (first frame, how many), shape (frames,), silence where there are none."""


def sound_of(samples: np.ndarray) -> Sound:
    """Samples that are in memory, played from the run's first frame on."""

    def read(start: int, frames: int) -> np.ndarray:
        first, last = max(0, start), max(0, start + frames)
        piece = samples[first:last]
        before = min(frames, max(0, -start))
        return np.pad(piece, (before, frames - before - len(piece)))

    return read


class Written:
    """A source that is known from the beginning: messages in any order, and sounds by output."""

    def __init__(self, messages: Sequence[Message] = (), sounds: Mapping[str, Sound] | None = None) -> None:
        self.written = sorted(messages, key=lambda message: message.time_ns)
        self._next = 0
        self._sounds = sounds or {}
        self.ports = frozenset(message.port for message in messages)

    def add(self, messages: Sequence[Message]) -> None:
        """More of them, none earlier than what has been asked for."""
        rest = sorted([*self.written[self._next :], *messages], key=lambda message: message.time_ns)
        self.written = [*self.written[: self._next], *rest]

    def beside(self, messages: Sequence[Message]) -> "Written":
        """The same with more messages."""
        return Written([*self.written, *messages], self._sounds)

    def messages(self, until_ns: int) -> Sequence[Message]:
        """What leaves before this time and has not been asked for."""
        first = self._next
        while self._next < len(self.written) and self.written[self._next].time_ns < until_ns:
            self._next += 1
        return self.written[first : self._next]

    def sound(self, output: str, start: int, frames: int) -> np.ndarray:
        """What an output plays; silence where nothing is written for it."""
        sound = self._sounds.get(output)
        return sound(start, frames) if sound else np.zeros(frames)

    def ended(self) -> bool:
        """Whether the last message has left."""
        return self._next == len(self.written)


class Studio(Protocol):
    """What the application may ask of the outside, real or simulated."""

    simulated: bool
    hurries: bool
    """Whether runs can be faster than real time."""
    one_clock: bool
    """Whether MIDI is timed by the audio's clock."""
    sample_rate: int
    buffer: int
    told: RunTold
    """What the last run says of itself."""

    def ports(self) -> tuple[Port, ...]:
        """The MIDI ports there are now."""

    def inputs(self) -> tuple[str, ...]:
        """System names of the audio inputs there are now."""

    def outputs(self) -> tuple[str, ...]:
        """System names of the audio outputs there are now."""

    def run(self, source: Source, setup: RunSetup) -> Iterator[Block]:
        """Send and play what the source says, and deliver the inputs until the setup's frames have come, or the source
        has ended.

        Closing the iterator ends the run and silences what sounds. Raises PortMissing for a port, input or output that
        is not there, PortTaken for one that another program holds, StudioTrouble where it cannot be done as asked.
        """

    def close(self) -> None:
        """Let go of the outside."""
