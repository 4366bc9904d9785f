"""A whole simulated studio behind the interface of `core.studio`.

It is plugged as the sheet of the rig says (there is no hand here to plug anything else); the boxes' front panels
are their own. MIDI times are the computer's; the interface's crystal is some ppm off, so that frame n is sampled at
n / (rate · (1 + ppm/10⁶)) seconds of the computer's clock. Audio comes by one interface, the first of the rig that
has inputs; MIDI by every box that a link joins to the computer.
"""

import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from hypotaxis.core.errors import PortMissing, PortTaken, StudioTrouble
from hypotaxis.core.midi.identity import Identity
from hypotaxis.core.rig.build import socket_uid
from hypotaxis.core.rig.ports import host_direction, hubs_between, is_port, reported_name
from hypotaxis.core.rig.shapes import SHAPES, is_interface
from hypotaxis.core.rig.trips import heard_from
from hypotaxis.core.rig.values import Box, Rig, Socket
from hypotaxis.core.studio import Block, Port, RunSetup, RunTold, Source
from hypotaxis.standin.run import Run
from hypotaxis.standin.units import FrontPanel, Played, Unit, hidden_values, panel_as_delivered


@dataclass(frozen=True)
class InterfaceNature:
    """An interface's hidden values."""

    crystal_ppm: float
    out_ms: float
    """Driver and USB on the way out; converter and driver in samples."""
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
    that stands on the sheet as a copy, the uid of the one it is a copy of, since it is the same box on the desk;
    turned: asks for the front panels as they are turned while a run goes on in real time; levels and gains follow;
    shown: told the tempo in BPM that each box that hears clock has on its display, by its uid; memories: what boxes
    have in theirs as hexadecimal digits by uid, those not named as delivered; remembered: told that of boxes that were
    sent something."""

    simulated = True
    hurries = True
    one_clock = False
    told = RunTold()

    def __init__(
        self,
        rig: Rig,
        panels: Mapping[str, FrontPanel] | None = None,
        *,
        natures: Mapping[str, str] | None = None,
        turned: Callable[[], Mapping[str, FrontPanel]] | None = None,
        shown: Callable[[Mapping[str, float]], None] | None = None,
        memories: Mapping[str, str] | None = None,
        remembered: Callable[[Mapping[str, str]], None] | None = None,
        seed: int = 1,
    ) -> None:
        panels, natures = panels or {}, natures or {}
        self.panels = {box.uid: panels.get(box.uid, panel_as_delivered(box)) for box in rig.boxes}
        self.rig = self._as_it_stands(rig)
        self.sample_rate = rig.sample_rate
        self.buffer = rig.buffer
        self.seed = seed
        self.turned, self.shown = turned, shown
        self.memories, self.remembered = dict(memories or {}), remembered
        self.runs = 0
        self.natures = natures
        self.interface = next((box for box in self.rig.boxes if is_interface(box.shape) and _has_inputs(box)), None)
        self.nature = interface_nature(natures.get(self.interface.uid, self.interface.uid)) if self.interface else None

    def _as_it_stands(self, rig: Rig) -> Rig:
        """The rig without what has slipped out, and without whatever is switched off."""
        gone = {
            socket.uid
            for box in rig.boxes
            for socket in box.sockets
            if self.panels[box.uid].off or socket.label in self.panels[box.uid].loose
        }
        if not gone:
            return rig
        return replace(rig, cables=tuple(c for c in rig.cables if not {c.source, c.target} & gone))

    # --- the Studio interface

    def ports(self) -> tuple[Port, ...]:
        found = []
        for name, (box, socket) in self.ends.items():
            taken = socket.label in self.panels[box.uid].taken
            found.append(Port(name, host_direction(box, socket), taken))
            if box.shape == "keyboard":
                # Some drivers show the same port once more.
                found.append(Port(f"{name} (2)", host_direction(box, socket), taken))
        return tuple(found)

    def inputs(self) -> tuple[str, ...]:
        return tuple(self.audio_in)

    def outputs(self) -> tuple[str, ...]:
        return tuple(self.audio_out)

    def run(self, source: Source, setup: RunSetup) -> Iterator[Block]:
        self.check_ports(sorted(source.ports | {rule.out for rule in setup.echo}))
        self._check_ends(setup)
        self.runs += 1
        return Run(self, source, setup).blocks()

    def close(self) -> None:
        """Nothing is held."""

    # --- for tests only: what a measurement has to find out

    def played(self) -> list[Played]:
        """Every hit of the last run, in order of its beginning."""
        hits = [hit for unit in self.units.values() for hit in unit.log]
        return sorted(hits, key=lambda hit: hit.begins_s)

    def frame_of(self, begins_s: float) -> float:
        """The recorded frame at which something sounds that begins at a box's output at this time."""
        rate = self.sample_rate * (1 + self.nature.crystal_ppm * 1e-6)
        return begins_s * rate + self.delay_samples()

    # --- for a run

    @cached_property
    def units(self) -> dict[str, Unit]:
        """The boxes that sound, by uid."""
        return {
            box.uid: Unit(box, self.panels[box.uid], hidden_values(box, self.natures.get(box.uid, box.uid)))
            for box in self.rig.boxes
            if box.shape in SHAPES and SHAPES[box.shape].sounds
        }

    @cached_property
    def ends(self) -> dict[str, tuple[Box, Socket]]:
        """The MIDI ends that the computer sees, by system name."""
        return {
            self._system_name(box, socket): (box, socket)
            for box, socket in self.rig.each_socket()
            if is_port(self.rig, box, socket) and hubs_between(self.rig, box, socket.carried_by) is not None
        }

    @cached_property
    def audio_in(self) -> dict[str, Socket]:
        """The inputs by system name."""
        return self._audio("in")

    @cached_property
    def audio_out(self) -> dict[str, Socket]:
        """The outputs by system name."""
        return self._audio("out")

    def check_ports(self, names: Iterable[str]) -> None:
        """Raises PortMissing for an output that is not there, PortTaken for one that another program holds."""
        for name in names:
            port = self._ports_out.get(name)
            if port is None:
                raise PortMissing(f"The studio does not report a MIDI output “{name}”. Look at the ports of the rig.")
            if port.taken:
                raise PortTaken(f"Another program holds the MIDI output “{name}”. Close it, then try again.")

    @cached_property
    def _ports_out(self) -> dict[str, Port]:
        return {port.system_name: port for port in self.ports() if port.direction == "out"}

    def delay_samples(self) -> float:
        """Converter, driver and buffer, on one way."""
        return self.nature.converter_samples + self.nature.driver_samples + self.buffer if self.nature else 0.0

    def cabled(self, box: Box) -> frozenset[str]:
        """Labels of a box's sockets that carry a cable."""
        return frozenset(socket.label for socket in box.sockets if self.rig.cable_at(socket.uid))

    def ways_back(self, box: Box, by_usb: str) -> list[str]:
        """The host's ports at which what a box sends arrives: inside its own link, or by its MIDI outs."""
        found = []
        for name, (other, end) in self.ends.items():
            if host_direction(other, end) != "in":
                continue
            ends = (s for s in box.sockets if s.kind == "midi" and s.direction == "out" and not s.thru_of)
            outs = [out.uid for out in ends if out.carried_by == by_usb]
            if end.uid in outs or any(end.uid == one.socket for out in outs for one in heard_from(self.rig, out)):
                found.append(name)
        return found

    def identity(self, box: Box) -> Identity:
        """What a unit says of itself; 7D is the maker's number for what is not sold (MIDI 1.0 specification)."""
        nature = self.natures.get(box.uid, box.uid)
        family, model = zlib.crc32(box.shape.encode()) & 0x3FFF, zlib.crc32(nature.encode()) & 0x3FFF
        return Identity(0, bytes([0x7D]), family, model)

    # --- inside

    def _audio(self, direction: str) -> dict[str, Socket]:
        """The interface's audio sockets of a direction by system name; none while it is not joined."""
        if self.interface is None or hubs_between(self.rig, self.interface) is None:
            return {}
        audio = (s for s in self.interface.sockets if s.kind == "audio" and s.direction == direction)
        return {self._system_name(self.interface, socket): socket for socket in audio}

    def _system_name(self, box: Box, socket: Socket) -> str:
        """A device names its ends as they left the factory, whatever the owner calls them."""
        shape = SHAPES.get(box.shape)
        labels = [item.label for item in shape.sockets] if shape else []
        label = next((one for one in labels if socket_uid(box.uid, one) == socket.uid), socket.label)
        return reported_name(self.natures.get(box.uid, box.uid), box.shape, label, socket.kind)

    def _check_ends(self, setup: RunSetup) -> None:
        for name in setup.inputs:
            if name not in self.audio_in:
                raise PortMissing(f"The studio does not report an audio input “{name}”. Is its interface joined?")
        for name in (*setup.outputs, *(one.output for one in setup.passed)):
            if name not in self.audio_out:
                raise PortMissing(f"The studio does not report an audio output “{name}”. Is its interface joined?")
        for one in setup.passed:
            if one.input not in setup.inputs:
                raise StudioTrouble(f"“{one.input}” is passed on to an output and not recorded. Record it, too.")


def _has_inputs(box: Box) -> bool:
    return any(socket.kind == "audio" and socket.direction == "in" for socket in box.sockets)
