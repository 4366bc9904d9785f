"""A whole simulated studio behind the interface of `core.studio`.

It is plugged as the sheet of the rig says (there is no hand here to plug anything else); the boxes' front panels
are their own. MIDI times are the computer's; the interface's crystal is some ppm off, so that frame n is sampled at
n / (rate · (1 + ppm/10⁶)) seconds of the computer's clock. Audio comes by one interface, the first of the rig that
has inputs; MIDI by every box that a link joins to the computer.
"""

import time
import zlib
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise

import numpy as np

from hypotaxis.core.errors import PortMissing, PortTaken
from hypotaxis.core.midi.identity import Identity, is_request, reply_bytes
from hypotaxis.core.midi.messages import channel_of, kind_of, note_off, note_on, status_of
from hypotaxis.core.rig.build import socket_uid
from hypotaxis.core.rig.ports import host_direction, hubs_between, is_port, reported_name
from hypotaxis.core.rig.shapes import SHAPES, column_of, is_interface
from hypotaxis.core.rig.trips import Reached, heard_from, ways_into
from hypotaxis.core.rig.values import Box, Cable, Rig, Socket
from hypotaxis.core.studio import Block, Message, Port
from hypotaxis.standin.units import (
    DEMO_NOTES,
    FrontPanel,
    Played,
    Unit,
    hidden_values,
    panel_as_delivered,
)
from hypotaxis.standin.wire import BYTE_NS, CLOCK_BYTES, THRU_NS, Heard, on_the_wire, parse

SOFT_NS = 250_000
"""What a processor that passes MIDI on needs after a whole message has come in."""
HOST_NS = 1_000_000
"""From a key's message in the computer to what leaves for it."""
PHRASE_STEP_S = 0.35
REPLY_NS = 8_000_000
"""Until a box has put its identity reply together, and a hop more has passed it on."""
EFFECT_TAPS = ((0.0013, 1.0), (0.3763, 0.45), (0.7513, 0.2))
"""An outboard delay: (seconds, gain), the dry sound behind its converters first."""
LOOK_BLOCKS = 12
"""How often the levels on the boxes are looked at in real time, a quarter of a second at 48 kHz."""
BLOCK = 1024
"""Frames a block in every mode, so that real time and fast mode compute the same numbers."""


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
    turned: asks for the front panels as they are turned while a run goes on in real time; levels and gains follow."""

    simulated = True

    def __init__(
        self,
        rig: Rig,
        panels: Mapping[str, FrontPanel] | None = None,
        *,
        natures: Mapping[str, str] | None = None,
        turned: Callable[[], Mapping[str, FrontPanel]] | None = None,
        seed: int = 1,
    ) -> None:
        panels, natures = panels or {}, natures or {}
        self.panels = {box.uid: panels.get(box.uid, panel_as_delivered(box)) for box in rig.boxes}
        self.rig = self._as_it_stands(rig)
        self.sample_rate = rig.sample_rate
        self.buffer = rig.buffer
        self.seed = seed
        self.turned = turned
        self.runs = 0
        self.natures = natures
        self.interface = next((box for box in self.rig.boxes if is_interface(box.shape) and _has_inputs(box)), None)
        self.nature = interface_nature(natures.get(self.interface.uid, self.interface.uid)) if self.interface else None
        self.units = {
            box.uid: Unit(box, self.panels[box.uid], hidden_values(box, natures.get(box.uid, box.uid)))
            for box in rig.boxes
            if box.shape in SHAPES and SHAPES[box.shape].sounds
        }

    def _as_it_stands(self, rig: Rig) -> Rig:
        """The rig without what has slipped out, and without whatever is switched off."""
        gone = {
            socket.uid
            for box in rig.boxes
            for socket in box.sockets
            if self.panels[box.uid].off or socket.label in self.panels[box.uid].loose
        }
        return replace(rig, cables=tuple(c for c in rig.cables if not {c.source, c.target} & gone))

    # --- the Studio interface

    def ports(self) -> tuple[Port, ...]:
        found = []
        for name, (box, socket) in self._ends.items():
            taken = socket.label in self.panels[box.uid].taken
            found.append(Port(name, host_direction(box, socket), taken))
            if box.shape == "keyboard":
                # Some drivers show the same port once more.
                found.append(Port(f"{name} (2)", host_direction(box, socket), taken))
        return tuple(found)

    def inputs(self) -> tuple[str, ...]:
        return tuple(self._inputs)

    def outputs(self) -> tuple[str, ...]:
        return tuple(self._outputs)

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
        self._check(messages, inputs, sound or {})
        self.runs += 1
        played = self._hands(frames / self.sample_rate)
        if echo:
            echoed = [replace(out, time_ns=out.time_ns + HOST_NS) for message in played for out in echo(message)]
            self._check(echoed)
            messages = sorted([*messages, *echoed], key=lambda message: message.time_ns)
        self._let_units_listen(messages, frames / self.sample_rate)
        sources = [self._source_of(name) for name in inputs]
        looped = {place: self._looped(name, sound, frames) for place, name in enumerate(inputs)} if sound else {}
        blocks = self._blocks(inputs, sources, looped, frames, fast)
        return self._with_replies(blocks, self._received(messages, played))

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

    @cached_property
    def _ends(self) -> dict[str, tuple[Box, Socket]]:
        """The MIDI ends that the computer sees, by system name."""
        return {
            self._system_name(box, socket): (box, socket)
            for box, socket in self.rig.each_socket()
            if is_port(self.rig, box, socket) and hubs_between(self.rig, box, socket.carried_by) is not None
        }

    @cached_property
    def _inputs(self) -> dict[str, Socket]:
        return self._audio("in")

    @cached_property
    def _outputs(self) -> dict[str, Socket]:
        return self._audio("out")

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

    def _check(self, messages: Sequence[Message], inputs: Sequence[str] = (), outputs: Iterable[str] = ()) -> None:
        ports = {port.system_name: port for port in self.ports() if port.direction == "out"}
        for name in sorted({message.port for message in messages}):
            if name not in ports:
                raise PortMissing(f"The studio does not report a MIDI output “{name}”. Look at the ports of the rig.")
            if ports[name].taken:
                raise PortTaken(f"Another program holds the MIDI output “{name}”. Close it, then try again.")
        for name in inputs:
            if name not in self._inputs:
                raise PortMissing(f"The studio does not report an audio input “{name}”. Is its interface joined?")
        for name in outputs:
            if name not in self._outputs:
                raise PortMissing(f"The studio does not report an audio output “{name}”. Is its interface joined?")

    def _delay_samples(self) -> float:
        return self.nature.converter_samples + self.nature.driver_samples + self.buffer

    def _received(self, messages: Sequence[Message], played: list[Message]) -> list[Message]:
        return sorted([*played, *self._replies(messages)], key=lambda message: message.time_ns)

    def _hands(self, seconds: float) -> list[Message]:
        """A phrase on every keyboard or pad box on which someone plays, as it arrives at the computer."""
        found = []
        for name, (box, end) in self._ends.items():
            plays = self.panels[box.uid].demo and not self.panels[box.uid].off
            if not plays or column_of(box.shape) != "hands" or host_direction(box, end) != "in":
                continue
            for number, at_s in enumerate(np.arange(0.4, seconds - 1.0, PHRASE_STEP_S)):
                note, begin_ns = DEMO_NOTES[number % len(DEMO_NOTES)] + 12, round(at_s * 1e9)
                found.append(Message(begin_ns, name, note_on(1, note, 70 + 6 * (number % 5))))
                found.append(Message(begin_ns + round(0.7e9 * PHRASE_STEP_S), name, note_off(1, note)))
        return sorted(found, key=lambda message: message.time_ns)

    def _with_replies(self, blocks: Iterator[Block], replies: list[Message]) -> Iterator[Block]:
        first = 0
        for block in blocks:
            end_ns = (block.start + len(block.samples)) / self.sample_rate * 1e9
            last = first
            while last < len(replies) and replies[last].time_ns <= end_ns:
                last += 1
            yield replace(block, received=tuple(replies[first:last]))
            first = last

    def _replies(self, messages: Sequence[Message]) -> list[Message]:
        """What boxes with a way back answer when they are asked who they are."""
        replies = []
        for message in messages:
            if not is_request(message.data):
                continue
            socket = self._ends[message.port][1]
            for reached in heard_from(self.rig, socket.uid):
                box = self.rig.box(reached.box)
                by_usb = self.rig.find(reached.socket)[1].carried_by
                if self.panels[box.uid].off or is_interface(box.shape):
                    continue
                late = message.time_ns + BYTE_NS * len(message.data) + REPLY_NS * (1 + len(reached.hops))
                replies += [
                    Message(late, port, reply_bytes(self._identity(box))) for port in self._ways_back(box, by_usb)
                ]
        return sorted(replies, key=lambda message: message.time_ns)

    def _ways_back(self, box: Box, by_usb: str) -> list[str]:
        """The host's ports at which what a box sends arrives: inside its own link, or by its MIDI outs."""
        found = []
        for name, (other, end) in self._ends.items():
            if host_direction(other, end) != "in":
                continue
            ends = (s for s in box.sockets if s.kind == "midi" and s.direction == "out" and not s.thru_of)
            outs = [out.uid for out in ends if out.carried_by == by_usb]
            if end.uid in outs or any(end.uid == one.socket for out in outs for one in heard_from(self.rig, out)):
                found.append(name)
        return found

    def _identity(self, box: Box) -> Identity:
        """What a unit says of itself; 7D is the maker's number for what is not sold (MIDI 1.0 specification)."""
        nature = self.natures.get(box.uid, box.uid)
        family, model = zlib.crc32(box.shape.encode()) & 0x3FFF, zlib.crc32(nature.encode()) & 0x3FFF
        return Identity(0, bytes([0x7D]), family, model)

    def _let_units_listen(self, messages: Sequence[Message], seconds: float) -> None:
        handed: dict[str, list[tuple[int, bytes]]] = defaultdict(list)
        frame_ns = int(self.nature.usb_frame_ms * 1e6) if self.nature else 1
        for message in messages:
            ready = message.time_ns + int(self.nature.out_ms * 1e6)
            handed[message.port].append((-(-ready // frame_ns) * frame_ns, message.data))
        heard: dict[str, list[Heard]] = defaultdict(list)
        for name, (_, socket) in self._ends.items():
            if not handed.get(name):
                continue
            queue = _at_once(handed[name]) if socket.carried_by else on_the_wire(handed[name])
            arrived = list(parse(queue))
            by_voltage: set[str] = set()
            for reached in heard_from(self.rig, socket.uid):
                entry = self.rig.find(reached.socket)[1]
                kind = "usb" if entry.carried_by else entry.kind
                if not self.panels[reached.box].takes_from(kind) or self.panels[reached.box].off:
                    continue
                if kind == "cv":
                    # Pitch and gate are one note.
                    if reached.box in by_voltage:
                        continue
                    by_voltage.add(reached.box)
                heard[reached.box] += _as_it_arrives(arrived, reached)
        for uid, unit in self.units.items():
            told = sorted(heard[uid], key=lambda message: message.time_ns)
            seed, cabled = self.seed * 1000 + self.runs, self._cabled(unit.box)
            unit.listen(told, seed=seed, cabled=cabled, seconds=seconds)

    def _cabled(self, box: Box) -> frozenset[str]:
        return frozenset(socket.label for socket in box.sockets if self.rig.cable_at(socket.uid))

    def _source_of(self, input_name: str) -> list[tuple[Unit, str, tuple[tuple[float, float], ...]]]:
        """What is heard at an input: units, the labels of the outs they leave by, and the taps (seconds, gain) of what
        stands on the way."""
        ways = ways_into(self.rig, self._inputs[input_name].uid)
        found = []
        for way in ways:
            box, socket = self.rig.find(way[0].source)
            if box.uid in self.units:
                found.append((self.units[box.uid], socket.label, self._taps(way)))
        return found

    def _looped(self, input_name: str, sound: Mapping[str, np.ndarray], frames: int) -> np.ndarray | None:
        """What outputs play that comes home by an input: delayed by a buffer and a converter on the way out, by what
        stands between, and by the same again on the way home; None where nothing does. One crystal clocks both, so
        nothing drifts."""
        heard = None
        names = {socket.uid: name for name, socket in self._outputs.items()}
        for way in ways_into(self.rig, self._inputs[input_name].uid):
            played = sound.get(names.get(way[0].source, ""))
            for late, gain in self._taps(way) if played is not None else ():
                passed = gain * _delayed(played, late * self.sample_rate + 2 * self._delay_samples(), frames)
                heard = passed if heard is None else heard + passed
        return heard

    def _taps(self, way: Sequence[Cable]) -> tuple[tuple[float, float], ...]:
        taps: tuple[tuple[float, float], ...] = ((0.0, 1.0),)
        for into, out in pairwise(way):
            route = next(r for r in self.rig.routes_into(out.source) if r.source == into.target)
            gain = 10 ** (route.gain_db / 20)
            passes = self.rig.find(out.source)[0].shape.startswith("effect")
            through = EFFECT_TAPS if passes else ((0.0, 1.0),)
            taps = tuple((late + more, level * share * gain) for late, level in taps for more, share in through)
        return taps

    def _blocks(
        self,
        inputs: Sequence[str],
        sources: Sequence[list],
        looped: Mapping[int, np.ndarray | None],
        frames: int,
        fast: bool,
    ) -> Iterator[Block]:
        began = time.monotonic()
        cabled = {unit.box.uid: self._cabled(unit.box) for of_input in sources for unit, _, _ in of_input}
        rate = self.sample_rate * (1 + self.nature.crystal_ppm * 1e-6)
        turned, gains = {}, self._gains(inputs, self.panels)
        for start in range(0, frames, BLOCK):
            if self.turned and not fast and start % (LOOK_BLOCKS * BLOCK) == 0:
                panels = self.turned()
                turned, gains = self._louder(panels), self._gains(inputs, self.panels | panels)
            count = min(BLOCK, frames - start)
            # Always a whole block is computed, so that a run's end does not change its numbers.
            analogue = (start + np.arange(BLOCK) - self._delay_samples()) / rate
            samples = np.zeros((BLOCK, len(sources)), dtype=np.float64)
            for column, passed in looped.items():
                if passed is not None:
                    samples[:count, column] += passed[start : start + count]
            rng = np.random.default_rng([self.seed, self.runs, start])
            noise = rng.standard_normal(samples.shape) * 10 ** (self.nature.noise_db / 20)
            rendered: dict[tuple[str, float], dict[str, np.ndarray]] = {}
            for column, of_input in enumerate(sources):
                for unit, label, taps in of_input:
                    for late, gain in taps:
                        key = unit.box.uid, late
                        if key not in rendered:
                            rendered[key] = unit.render(analogue - late, cabled[unit.box.uid], late)
                        level = gain * turned.get(unit.box.uid, 1.0)
                        samples[:, column] += level * rendered[key].get(label, 0.0)
            held = np.clip(samples * gains + noise, -1.0, 1.0 - 2.0**-23)
            if not fast:
                self._wait_until(began + (start + count) / self.sample_rate)
            yield Block(start, held[:count].astype(np.float32))

    def _louder(self, panels: Mapping[str, FrontPanel]) -> dict[str, float]:
        """By which factor each box has been turned up since the run began."""
        known = {uid: panel for uid, panel in panels.items() if uid in self.panels}
        return {uid: 10 ** ((panel.level_db - self.panels[uid].level_db) / 20) for uid, panel in known.items()}

    def _gains(self, inputs: Sequence[str], panels: Mapping[str, FrontPanel]) -> np.ndarray:
        """The factor by which each input is turned up at the interface, ahead of its converter."""
        gains = panels[self.interface.uid].gains if self.interface else {}
        return np.array([10 ** (gains.get(self._inputs[name].label, 0.0) / 20) for name in inputs])

    @staticmethod
    def _wait_until(moment: float) -> None:
        rest = moment - time.monotonic()
        if rest > 0:
            time.sleep(rest)


def _has_inputs(box: Box) -> bool:
    return any(socket.kind == "audio" and socket.direction == "in" for socket in box.sockets)


def _delayed(samples: np.ndarray, delay: float, frames: int) -> np.ndarray:
    """Samples later by a delay that is no whole number of samples, by turning the phase of their spectrum."""
    size = len(samples) + int(delay) + 4096
    turn = np.exp(-2j * np.pi * np.fft.rfftfreq(size) * delay)
    shifted = np.fft.irfft(np.fft.rfft(samples, size) * turn, size)[:frames]
    return np.pad(shifted, (0, frames - len(shifted)))


def _at_once(handed: Sequence[tuple[int, bytes]]) -> Iterator[tuple[int, int]]:
    """Bytes inside a USB packet: all there at its frame."""
    for time_ns, data in handed:
        for byte in data:
            yield time_ns, byte


def _as_it_arrives(arrived: Sequence[Heard], reached: Reached) -> Iterator[Heard]:
    """Messages of a wire at a box behind thrus and routes: a thru costs microseconds, a route takes a whole message in
    first, and may hold its channel back or change it."""
    late = THRU_NS * sum(hop.by_thru for hop in reached.hops)
    for message in arrived:
        if message.status in CLOCK_BYTES:
            if reached.clock:
                passed_on = (BYTE_NS + SOFT_NS) * len(reached.routes)
                yield Heard(message.time_ns + late + passed_on, message.status, ())
            continue
        channel = reached.channels[channel_of(message.status) - 1]
        if channel:
            passed_on = (BYTE_NS * (1 + len(message.data)) + SOFT_NS) * len(reached.routes)
            status = status_of(kind_of(message.status), channel)
            yield Heard(message.time_ns + late + passed_on, status, message.data)
