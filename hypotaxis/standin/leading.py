"""A box that leads: its own clock, and the start key that someone presses on it.

It goes by its own crystal, wanders a little, as old sequencers do, and its bytes reach the computer with the driver's
jitter; its own pattern and whatever is cabled to its outs hear them without.
"""

import zlib
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from hypotaxis.core.midi.messages import CLOCK, START, STOP
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.rig.values import Box
from hypotaxis.core.units import CLOCKS_A_QUARTER
from hypotaxis.standin.wire import Heard

if TYPE_CHECKING:
    from hypotaxis.standin.desk import Desk

PRESSED_S = 1.0
"""When its start key is pressed, from the beginning of a run: with the next clock but one it starts."""
KEY_NS = 2_000_000
"""From start to its first clock."""
DRIVER_NS, JITTER_NS = 800_000, 120_000
"""What its bytes take into the computer, and the standard deviation of that."""
WANDER, WANDER_S = 0.0008, 17.0
"""How far its tempo swings, as a share of it, and in which time to and fro."""


class Leading:
    """The clock of one box in one run; told in stretches of time that follow each other."""

    def __init__(self, desk: "Desk", box: Box) -> None:
        panel = desk.panels[box.uid]
        nature = zlib.crc32(f"leads {desk.natures.get(box.uid, box.uid)}".encode())
        self._ppm = float(np.random.default_rng(nature).uniform(-60, 60))
        self._jitter = np.random.default_rng([desk.seed, desk.runs, nature])
        self._bpm = panel.leads_bpm
        self._stops = panel.leads_bars * 4 * CLOCKS_A_QUARTER or None
        outs = [one for one in box.sockets if (one.kind, one.direction) == ("midi", "out") and not one.thru_of]
        links = {one.carried_by for one in outs}
        self.ports = sorted({port for link in links for port in desk.ways_back(box, link)})
        ways = (reached for out in outs if not out.carried_by for reached in heard_from(desk.rig, out.uid))
        behind = [one.box for one in ways if one.clock and one.box in desk.units]
        self._boxes = [box.uid, *behind] if box.uid in desk.units else behind
        self._at_s = 0.0
        self._running = False
        self._counted = 0
        self._off = desk.panels[box.uid].off
        self.clocks: list[tuple[float, bool]] = []
        """(when, whether it was running) of every clock, for tests: on the computer's clock, in s."""

    def _until(self, until_ns: int) -> list[Heard]:
        """What it sends before a time and has not sent, in order."""
        found: list[Heard] = []
        while not self._off and self._at_s * 1e9 < until_ns:
            at_ns = round(self._at_s * 1e9)
            if self._running and self._stops is not None and self._counted >= self._stops:
                found.append(Heard(at_ns - 1, STOP, ()))
                self._running, self._stops = False, 0
            pressed = self._at_s >= PRESSED_S and not self._running and self._counted == 0
            found.append(Heard(at_ns, CLOCK, ()))
            self.clocks.append((self._at_s, self._running))
            self._counted += self._running
            swing = 1 + WANDER * np.sin(2 * np.pi * self._at_s / WANDER_S)
            self._at_s += 60 / self._bpm / CLOCKS_A_QUARTER / (1 + self._ppm * 1e-6) / swing
            if pressed:
                found.append(Heard(round(self._at_s * 1e9) - KEY_NS, START, ()))
                self._running = True
        return found

    def tell(self, until_ns: int) -> tuple[list[tuple[str, Heard]], list[tuple[str, Heard]]]:
        """What it sends before a time: (port of the computer, byte), (box, byte) of its own pattern and of what hangs
        on its outs."""
        ports, boxes, latest = [], [], 0
        for message in self._until(until_ns):
            late = DRIVER_NS + max(-DRIVER_NS // 2, round(JITTER_NS * float(self._jitter.standard_normal())))
            latest = max(latest + 1, message.time_ns + late)
            ports += [(port, replace(message, time_ns=latest)) for port in self.ports]
            boxes += [(box, message) for box in self._boxes]
        return ports, boxes
