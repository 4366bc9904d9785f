"""One run in an audio callback: what is fed, what comes, and where it stands. For any studio of real devices.

The callback gives it a period at a time. Frames count from the run's first; the last period is held back, since only
the next one tells whether frames were lost before it.
"""

import re
import threading
from collections import deque
from collections.abc import Callable, Iterable

import numpy as np

from hypotaxis.core.midi.messages import (
    ALL_NOTES_OFF,
    ALL_SOUND_OFF,
    DATA_BYTES,
    EXCLUSIVE,
    FIRST_STATUS,
    NOTE_ON,
    SUSTAIN,
    channel_of,
    control_change,
    kind_of,
    struck,
)
from hypotaxis.core.playing.keys import Echo
from hypotaxis.core.playing.stand_keys import is_of
from hypotaxis.core.studio import AT_ONCE, WITH_A_NOTE, Block, Lost, Message, RunSetup
from hypotaxis.devices.protocol import Feed, Piece
from hypotaxis.devices.timeline import Timeline

CLIENT = "hypotaxis"
"""What other programs know us by."""
OURS = re.compile(rf"{CLIENT}(-\d+)?:")
"""Ports of our own, of whatever process: clients of one name are numbered."""
INSTALL = "make devices"
ACTIVE_SENSING = b"\xfe"
"""It says only that the cable is there, three times a second and more (MIDI 1.0)."""


def is_heard(data: bytes) -> bool:
    """Whether something that came in is told: neither active sensing nor a broken message of a channel."""
    if not data or data == ACTIVE_SENSING:
        return False
    of_a_channel = FIRST_STATUS <= data[0] < EXCLUSIVE
    return not of_a_channel or len(data) == 1 + DATA_BYTES[kind_of(data[0])]


Samples = Callable[[int], np.ndarray]
"""The samples of an input in this period, by its place in the setup, shape (frames,)."""


def quieting(channels: Iterable[tuple[str, int]]) -> dict[str, list[bytes]]:
    """What silences these channels (port, channel), by port: pedals up, notes off, then all sound."""
    found: dict[str, list[bytes]] = {}
    for port, channel in channels:
        rows = found.setdefault(port, [])
        rows += [control_change(channel, number, 0) for number in (SUSTAIN, ALL_NOTES_OFF, ALL_SOUND_OFF)]
    return found


def every_channel(ports: Iterable[str]) -> list[tuple[str, int]]:
    """All sixteen channels of these ports."""
    return [(port, channel) for port in sorted(ports) for channel in range(1, 17)]


def unique_keys(keys: Iterable[str]) -> list[str]:
    """Keys of things that may be alike, told apart by their order.

    >>> unique_keys(["Heron", "Heron", "Sedge"])
    ['Heron', 'Heron #2', 'Sedge']
    """
    seen: dict[str, int] = {}
    found = []
    for key in keys:
        seen[key] = seen.get(key, 0) + 1
        found.append(key if seen[key] == 1 else f"{key} #{seen[key]}")
    return found


class Run:
    """What a callback does in a run, whatever the library."""

    def __init__(self, setup: RunSetup, rate: int) -> None:
        self.setup, self.rate = setup, rate
        self.playing: dict[str, np.ndarray] = {}
        """What outputs play in this period."""
        self.done: deque[Block] = deque()
        self.over = threading.Event()
        """It has ended, or is to end."""
        self.late = 0
        self.used: set[tuple[str, int]] = set()
        """(port, channel) of all that notes have left by."""
        self.echo = Echo(setup.echo, setup.kept_out)
        self.timeline: Timeline | None = None
        self.fed = threading.Condition()
        self.until = 0
        """Up to which frame its source has been asked."""
        self.messages: deque[tuple[int, Message]] = deque()
        """(frame, message) still to leave, in order of time."""
        self._pieces: dict[str, tuple[Piece, ...]] = {}
        """What outputs still play: never changed, only replaced, since the callback goes through it meanwhile."""
        self._at = 0
        """The frame from which the callback plays."""
        self._held: Block | None = None

    @property
    def begun(self) -> bool:
        """Whether its first frame has come."""
        return self.timeline is not None

    @property
    def behind(self) -> int:
        """Messages that left behind their time, or had not left when the run ended though their time had come."""
        ended = self.timeline.count if self.timeline else 0
        return self.late + sum(frame < ended for frame, _ in list(self.messages))

    def feed(self, feed: Feed) -> None:
        """Take in what leaves next."""
        with self.fed:
            self.messages += [(round(m.time_ns * self.rate / 1e9), m) for m in feed.messages]
            pieces = {
                name: tuple(one for one in mine if one.start + len(one.samples) > self._at)
                for name, mine in self._pieces.items()
            }
            for piece in feed.pieces:
                pieces[piece.output] = (*pieces.get(piece.output, ()), piece)
            self._pieces = pieces
            self.until = feed.until
            self.fed.notify()

    def begins_with(self, name: str, data: bytes) -> bool:
        """Whether a message that came in by a port is what the run waits for."""
        if any(is_of(key, Message(0, name, data)) for key in self.setup.kept_out):
            return False
        return self.setup.begins != AT_ONCE and (struck(data) is not None or self.setup.begins != WITH_A_NOTE)

    def note(self, message: Message) -> None:
        """Remember where a message that leaves may sound."""
        if message.data[0] < EXCLUSIVE and kind_of(message.data[0]) == NOTE_ON:
            self.used.add((message.port, channel_of(message.data[0])))

    def quiet(self) -> dict[str, list[bytes]]:
        """What silences the channels that were used, by port."""
        return quieting(sorted(self.used))

    def rest(self) -> None:
        """Let go of the period that is held back, once the callback has let go of the run."""
        if self._held:
            self.done.append(self._held)
            self._held = None

    def record(self, start: int, frames: int, samples: Samples, lost: int, received=(), sent=()) -> None:
        """Keep the last frames of this period, those from `start` on; lost: frames that are missing before the period
        that is held back."""
        block = np.empty((frames, len(self.setup.inputs)), np.float32)
        for column in range(len(self.setup.inputs)):
            block[:, column] = samples(column)[-frames:]
        if lost and self._held:
            gap = Lost(self._held.start, lost)
            silence = np.zeros((lost, block.shape[1]), np.float32)
            self.done.append(Block(self._held.start, silence, lost=(gap,)))
            held = self._held
            self._held = Block(held.start + lost, held.samples, held.received, held.sent)
        if self._held:
            self.done.append(self._held)
        self._held = Block(start, block, tuple(received), tuple(sent))
        if self.setup.frames is not None and self.timeline.count >= self.setup.frames:
            self.rest()
            self.over.set()

    def play(self, start: int, first: int, frames: int, samples: Samples) -> None:
        """Work out what outputs play in this period, of which the run has all frames from `first` on."""
        playing, self._at = {}, start
        for name, pieces in self._pieces.items():
            sound = np.zeros(frames, np.float32)
            for piece in pieces:
                begins, ends = max(start, piece.start), min(start + frames - first, piece.start + len(piece.samples))
                if begins < ends:
                    into = slice(first + begins - start, first + ends - start)
                    sound[into] = piece.samples[begins - piece.start : ends - piece.start]
            playing[name] = sound
        for one in self.setup.passed:
            heard = samples(self.setup.inputs.index(one.input)) * 10 ** (one.gain_db / 20)
            playing[one.output] = playing.get(one.output, 0.0) + heard
        self.playing = playing
