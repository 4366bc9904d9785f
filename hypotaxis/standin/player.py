"""Someone who plays on keys or pads to the click, as he hears it; or what steps by itself in time with it.

He counts the clicks that reach his ears through the converter, and strikes on the beats that he expects by them, a
little unsteadily, as people do; what he strikes is known to the computer when driver and link have passed it on. A
sequencer, or a keyboard whose repeat goes on, is as steady as its own clock, and divides the beat.
"""

import zlib
from collections import deque
from typing import TYPE_CHECKING

import numpy as np

from hypotaxis.core.midi.messages import note_off, note_on
from hypotaxis.core.rig.values import Box
from hypotaxis.core.studio import Message

if TYPE_CHECKING:
    from hypotaxis.standin.desk import Desk

LISTENS = 4
"""Clicks that he hears before he strikes on the next."""
AUDIBLE = 0.02
AGAIN_S = 0.08
"""So close behind a click no other is heard."""
UNSTEADY_S, STEADY_S = 0.003, 0.0002
KEY_S = 0.0009
"""From the key to the computer."""
HOLDS = 0.5
"""Share of a beat that a key is down."""
TUNE = (60, 62, 64, 67)
STEPS = 4
"""Of a beat, on a sequencer's first channel."""


class Player:
    """One pair of hands in one run."""

    def __init__(self, desk: "Desk", box: Box, port: str) -> None:
        self._steps = STEPS if desk.panels[box.uid].sequences else 1
        self._unsteady_s = STEADY_S if self._steps > 1 else UNSTEADY_S
        self._delay = desk.delay_samples()
        self._port = port
        self._rng = np.random.default_rng([desk.seed, zlib.crc32(f"plays {box.uid}".encode())])
        self._heard: list[float] = []
        self._quiet_until = 0.0
        self._struck = 0
        self._next_s: float | None = None
        self._beat = 0.0
        self._strikes: deque[tuple[float, float]] = deque()
        """(when a key goes down, the beat it is meant for); one may still be to come when the next click is heard."""
        self._ends: list[tuple[int, int, int]] = []
        self.aimed: list[float] = []
        """When each beat that he struck on reached his ears, for tests."""

    def hear(self, sound: np.ndarray, start: int, crystal: float) -> None:
        """What the outputs have played in a block, from a frame on."""
        for frame in np.flatnonzero(np.abs(sound) >= AUDIBLE):
            at_s = (start + int(frame) + self._delay) / crystal
            if at_s >= self._quiet_until:
                self._heard.append(at_s)
                self._quiet_until = at_s + AGAIN_S
        if len(self._heard) >= LISTENS:
            beat = (self._heard[-1] - self._heard[-LISTENS]) / (LISTENS - 1)
            expected = self._heard[-1] + beat
            # The tune goes on as long as clicks come.
            if self._next_s is None or expected > self._next_s + beat / 2:
                self._next_s, self._beat = expected, beat
                for step in range(self._steps):
                    meant = expected + beat * step / self._steps
                    self._strikes.append((meant + float(self._rng.normal(0.0, self._unsteady_s)), meant))

    def until(self, until_ns: int) -> list[Message]:
        """What is struck and let go before a time, in order."""
        found = []
        while self._strikes and (arrives := round((self._strikes[0][0] + KEY_S) * 1e9)) < until_ns:
            self.aimed.append(self._strikes.popleft()[1])
            note, velocity = TUNE[self._struck % len(TUNE)], 70 + 10 * (self._struck % 4)
            channels = (1, 2) if self._steps > 1 and self._struck % self._steps == 0 else (1,)
            self._struck += 1
            for channel in channels:
                found.append(Message(arrives, self._port, note_on(channel, note, velocity)))
                self._ends.append((arrives + round(HOLDS * self._beat / self._steps * 1e9), channel, note))
        found += [Message(at, self._port, note_off(on, note)) for at, on, note in self._ends if at < until_ns]
        self._ends = [one for one in self._ends if one[0] >= until_ns]
        return sorted(found, key=lambda one: one.time_ns)
