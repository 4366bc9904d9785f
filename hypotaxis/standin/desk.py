"""A whole simulated studio behind the interface of `core.studio`.

It is plugged as the sheet of the rig says (there is no hand here to plug anything else); the boxes' front panels
are their own. MIDI times are the computer's; the interface's crystal is some ppm off, so that frame n is sampled at
n / (rate · (1 + ppm/10⁶)) seconds of the computer's clock. One interface, the first of the rig.
"""

import time
import zlib
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import PortMissing
from hypotaxis.core.rig.shapes import SHAPES, is_interface
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.rig.values import Box, Rig
from hypotaxis.core.studio import Block, Message, Port
from hypotaxis.standin.units import (
    FrontPanel,
    Played,
    Unit,
    hidden_values,
    panel_as_delivered,
)
from hypotaxis.standin.wire import THRU_NS, Heard, on_the_wire, parse

BLOCK = 1024
"""Frames a block in every mode, so that real time and fast mode compute the same numbers."""


@dataclass(frozen=True)
class InterfaceNature:
    """An interface's hidden values. out_ms: driver and USB on the way out; converter and driver in samples."""

    crystal_ppm: float
    out_ms: float
    usb_frame_ms: float
    converter_samples: float
    driver_samples: float
    noise_db: float = -98.0


def interface_nature(uid: str) -> InterfaceNature:
    """Fixed by the interface's uid."""
    rng = np.random.default_rng(zlib.crc32(uid.encode()))
    return InterfaceNature(
        crystal_ppm=round(float(rng.uniform(6, 28)) * (1 if rng.random() > 0.5 else -1), 2),
        out_ms=round(float(rng.uniform(0.8, 1.4)), 3),
        usb_frame_ms=0.125,
        converter_samples=round(float(rng.uniform(24, 40)), 2),
        driver_samples=round(float(rng.uniform(8, 30)), 2),
    )


class Desk:
    """The stand-in as a Studio. panels: front panels by box uid, those not named are as delivered; natures: for a box
    that stands on the sheet as a copy, the uid of the one it is a copy of, since it is the same box on the desk."""

    simulated = True

    def __init__(
        self,
        rig: Rig,
        panels: Mapping[str, FrontPanel] | None = None,
        *,
        natures: Mapping[str, str] | None = None,
        seed: int = 1,
    ) -> None:
        self.rig = rig
        self.sample_rate = rig.sample_rate
        self.buffer = rig.buffer
        self.seed = seed
        self.runs = 0
        self.interface = next((box for box in rig.boxes if is_interface(box.shape)), None)
        panels, natures = panels or {}, natures or {}
        known = natures.get(self.interface.uid, self.interface.uid) if self.interface else ""
        self.nature = interface_nature(known) if self.interface else None
        self.units = {
            box.uid: Unit(
                box, panels.get(box.uid, panel_as_delivered(box)), hidden_values(box, natures.get(box.uid, box.uid))
            )
            for box in rig.boxes
            if box.shape in SHAPES and SHAPES[box.shape].sounds
        }

    # --- the Studio interface

    def ports(self) -> tuple[Port, ...]:
        sockets = self.interface.sockets if self.interface else ()
        return tuple(Port(s.system_name, s.direction) for s in sockets if s.kind == "midi")

    def inputs(self) -> tuple[str, ...]:
        sockets = self.interface.sockets if self.interface else ()
        return tuple(s.system_name for s in sockets if s.kind == "audio" and s.direction == "in")

    def run(
        self, messages: Sequence[Message], inputs: Sequence[str], *, frames: int, fast: bool = False
    ) -> Iterator[Block]:
        self._check(messages, inputs)
        self.runs += 1
        self._let_units_listen(messages)
        sources = [self._source_of(name) for name in inputs]
        return self._blocks(sources, frames, fast)

    # --- for tests only: what a measurement has to find out

    def played(self) -> list[Played]:
        """Every hit of the last run, in order of its beginning."""
        hits = [hit for unit in self.units.values() for hit in unit.log]
        return sorted(hits, key=lambda hit: hit.begins_s)

    def frame_of(self, begins_s: float) -> float:
        """The recorded frame at which something sounds that begins at a box's output at this time."""
        rate = self.sample_rate * (1 + self.nature.crystal_ppm * 1e-6)
        return begins_s * rate + self._delay_samples()

    # --- inside

    def _check(self, messages: Sequence[Message], inputs: Sequence[str]) -> None:
        ports = {port.system_name for port in self.ports() if port.direction == "out"}
        for name in sorted({message.port for message in messages} - ports):
            raise PortMissing(f"The studio does not report a MIDI output “{name}”. Only one interface is there.")
        for name in inputs:
            if name not in self.inputs():
                raise PortMissing(f"The studio does not report an audio input “{name}”. Only one interface is there.")

    def _delay_samples(self) -> float:
        return self.nature.converter_samples + self.nature.driver_samples + self.buffer

    def _let_units_listen(self, messages: Sequence[Message]) -> None:
        handed: dict[str, list[tuple[int, bytes]]] = defaultdict(list)
        frame_ns = int(self.nature.usb_frame_ms * 1e6) if self.nature else 1
        for message in messages:
            ready = message.time_ns + int(self.nature.out_ms * 1e6)
            handed[message.port].append((-(-ready // frame_ns) * frame_ns, message.data))
        heard: dict[str, list[Heard]] = defaultdict(list)
        for socket in self.interface.sockets if self.interface else ():
            if not handed.get(socket.system_name):
                continue
            arrived = list(parse(on_the_wire(handed[socket.system_name])))
            for reached in heard_from(self.rig, socket.uid):
                late = THRU_NS * sum(hop.by_thru for hop in reached.hops)
                heard[reached.box] += [Heard(h.time_ns + late, h.status, h.data) for h in arrived]
        for uid, unit in self.units.items():
            told = sorted(heard[uid], key=lambda message: message.time_ns)
            unit.listen(told, seed=self.seed * 1000 + self.runs, cabled=self._cabled(unit.box))

    def _cabled(self, box: Box) -> frozenset[str]:
        return frozenset(socket.label for socket in box.sockets if self.rig.cable_at(socket.uid))

    def _source_of(self, input_name: str) -> tuple[Unit, str] | None:
        """The unit and the label of its out whose cable ends at this input."""
        socket = next(s for s in self.interface.sockets if s.system_name == input_name)
        found = self.rig.far_end(socket.uid)
        if found is None or found[0].uid not in self.units:
            return None
        return self.units[found[0].uid], found[1].label

    def _blocks(self, sources: Sequence[tuple[Unit, str] | None], frames: int, fast: bool) -> Iterator[Block]:
        began = time.monotonic()
        heard = {unit.box.uid: self._cabled(unit.box) for unit, _ in filter(None, sources)}
        rate = self.sample_rate * (1 + self.nature.crystal_ppm * 1e-6)
        for start in range(0, frames, BLOCK):
            count = min(BLOCK, frames - start)
            # Always a whole block is computed, so that a run's end does not change its numbers.
            analogue = (start + np.arange(BLOCK) - self._delay_samples()) / rate
            samples = np.zeros((BLOCK, len(sources)), dtype=np.float64)
            rng = np.random.default_rng([self.seed, self.runs, start])
            samples += rng.standard_normal(samples.shape) * 10 ** (self.nature.noise_db / 20)
            rendered = {uid: self.units[uid].render(analogue, cabled) for uid, cabled in heard.items()}
            for column, source in enumerate(sources):
                if source:
                    unit, label = source
                    samples[:, column] += rendered[unit.box.uid].get(label, 0.0)
            held = np.clip(samples, -1.0, 1.0 - 2.0**-23)
            if not fast:
                self._wait_until(began + (start + count) / self.sample_rate)
            yield Block(start, held[:count].astype(np.float32))

    @staticmethod
    def _wait_until(moment: float) -> None:
        rest = moment - time.monotonic()
        if rest > 0:
            time.sleep(rest)
