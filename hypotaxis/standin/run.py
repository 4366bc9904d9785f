"""A run of the stand-in, a block at a time: what leaves is pulled for the block, goes over wires and links to the
boxes, and what they answer is heard at the inputs.

Whatever arrives before the end of a block is known when the block is computed, and nothing that comes later can change
it: boxes answer after they were asked. So pulling a block ahead gives the same samples as knowing everything.
"""

import time
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cache
from heapq import heappop, heappush
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from hypotaxis.core.errors import StudioTrouble
from hypotaxis.core.midi.identity import is_request, reply_bytes
from hypotaxis.core.midi.messages import channel_of, kind_of, note_off, note_on, status_of
from hypotaxis.core.playing.keys import Echo
from hypotaxis.core.rig.ports import host_direction
from hypotaxis.core.rig.shapes import column_of, is_interface
from hypotaxis.core.rig.trips import Reached, heard_from, ways_into
from hypotaxis.core.rig.values import Box, Cable
from hypotaxis.core.studio import AT_ONCE, Block, Message, RunSetup, Source
from hypotaxis.standin.leading import Leading
from hypotaxis.standin.memory import Memory
from hypotaxis.standin.player import Player
from hypotaxis.standin.units import DEMO_NOTES, FrontPanel, Unit, dumps_of
from hypotaxis.standin.wire import BYTE_NS, FOLLOWED, THRU_NS, Ear, Heard, Packets, Wire

if TYPE_CHECKING:
    from hypotaxis.standin.desk import Desk

SOFT_NS = 250_000
"""What a processor that passes MIDI on needs after a whole message has come in."""
HOST_NS = 1_000_000
"""From a key's message in the computer to what leaves for it."""
PHRASE_FROM_S, PHRASE_STEP_S, PHRASE_REST_S = 0.4, 0.35, 1.0
"""A phrase on a keyboard: when it begins, from note to note, and how long before a run's end the last one is struck."""
REPLY_NS = 8_000_000
"""Until a box has put its identity reply together, and a hop more has passed it on."""
PRESSED_NS = 500_000_000
"""When somebody presses, on its panel, what sends a box's memory."""
EFFECT_TAPS = ((0.0013, 1.0), (0.3763, 0.45), (0.7513, 0.2))
"""An outboard delay: (seconds, gain), the dry sound behind its converters first."""
LOOK_BLOCKS = 12
"""How often the levels on the boxes are looked at in real time, a quarter of a second at 48 kHz."""
BLOCK = 1024
"""Frames a block in every mode, so that real time and fast mode compute the same numbers."""
WAITING_S = 0.05
"""How often a run that waits for its beginning says so."""
HALF = 48
"""Half of the filter that delays by parts of a sample, shorter than any way out and home."""

Taps = tuple[tuple[float, float], ...]
"""(seconds, gain) of what stands on a way."""


@cache
def _noise() -> np.ndarray:
    """What converters hiss, drawn once: each block of each input is another stretch of it."""
    return np.random.default_rng(0).standard_normal(2**20)


class Run:
    """One run: its queues, and where each stands."""

    def __init__(self, desk: "Desk", source: Source, setup: RunSetup) -> None:
        self.desk, self.source, self.setup = desk, source, setup
        self.rate = desk.sample_rate
        self.crystal = self.rate * (1 + desk.nature.crystal_ppm * 1e-6) if desk.nature else self.rate
        self.echo = Echo(setup.echo, setup.kept_out)
        self._coming: list[tuple[int, int, Message]] = []
        self._received: list[tuple[int, int, Message]] = []
        self._order = 0
        self._lines = {
            name: (Packets() if socket.carried_by else Wire(), Ear(), heard_from(desk.rig, socket.uid))
            for name, (_, socket) in desk.ends.items()
        }
        self._arriving: dict[str, list[tuple[int, int, Heard]]] = defaultdict(list)
        self._hands = _Hands(desk, setup)
        self._players = [
            Player(desk, box, port)
            for port, (box, end) in desk.ends.items()
            if desk.panels[box.uid].follows_click and host_direction(box, end) == "in"
        ]
        self._memories = {
            uid: Memory(
                uid,
                desk.identity(unit.box).model,
                dumps=dumps_of(unit.box, unit.panel),
                content=desk.memories.get(uid, ""),
            )
            for uid, unit in desk.units.items()
        }
        for uid, memory in self._memories.items():
            if desk.panels[uid].sends_memory and not desk.panels[uid].off:
                self._dump(desk.rig.box(uid), "", PRESSED_NS, memory.sent())
        self._leaders = [Leading(desk, box) for box in desk.rig.boxes if desk.panels[box.uid].leads_bpm]
        self._asked_ns = 0
        self._sources = [self._heard_at(name) for name in setup.inputs]
        self._loops = _Loops(desk, source, setup)
        self._hiss = _noise() * 10 ** (desk.nature.noise_db / 20) if desk.nature else None
        self._places = np.random.default_rng([desk.seed, desk.runs])
        for uid, unit in desk.units.items():
            unit.begin(seed=desk.seed * 1000 + desk.runs, cabled=desk.cabled(desk.rig.box(uid)))

    def blocks(self) -> Iterator[Block]:
        """The blocks in their order, in real time unless the run hurries."""
        yield from self._wait_for_the_beginning()
        began, start, frames = time.monotonic(), 0, self.setup.frames
        turned, gains = {}, self._gains(self.desk.panels)
        while frames is None or start < frames:
            if self.desk.turned and not self.setup.fast and start % (LOOK_BLOCKS * BLOCK) == 0:
                panels = self.desk.turned()
                turned, gains = self._louder(panels), self._gains(self.desk.panels | panels)
                self._show()
            count = BLOCK if frames is None else min(BLOCK, frames - start)
            until_s = (start + BLOCK) / min(self.rate, self.crystal)
            sent = self._send(int(until_s * 1e9) + 1, until_s)
            samples = self._samples(start, turned, gains)[:count]
            self._loops.hear(samples)
            if not self.setup.fast:
                wait_until(began + (start + count) / self.rate)
            end_ns = (start + count) / self.rate * 1e9
            yield Block(start, samples.astype(np.float32), self._came(end_ns), sent)
            start += count
            if frames is None and self.source.ended():
                break
        self._show()

    def _show(self) -> None:
        """Let the boxes' displays be seen."""
        displays = {uid: unit.display_bpm for uid, unit in self.desk.units.items()}
        seen = {uid: bpm for uid, bpm in displays.items() if bpm is not None}
        if self.desk.shown and seen:
            self.desk.shown(seen)
        new = {uid: one.content.hex() for uid, one in self._memories.items() if one.changed}
        self.desk.memories |= new
        if self.desk.remembered and new:
            self.desk.remembered(new)

    def _wait_for_the_beginning(self) -> Iterator[Block]:
        if self.setup.begins == AT_ONCE:
            return
        nothing = Block(0, np.zeros((0, len(self.setup.inputs)), np.float32))
        until = time.monotonic() + PHRASE_FROM_S
        while not self._hands.plays or time.monotonic() < until:
            if self.setup.fast and self._hands.plays:
                break
            if self.setup.fast:
                raise StudioTrouble("The run waits for what is played, and nobody plays. Let it begin at once.")
            yield nothing
            time.sleep(WAITING_S)
        self._hands.begin_now()

    # --- what leaves

    def _send(self, until_ns: int, until_s: float) -> tuple[Message, ...]:
        """Let all that leaves before a time go its way, and the boxes hear it; what the echo sent."""
        for message in self.source.messages(until_ns):
            self._queue(message)
        echoed = []
        for message in self._hands.until(until_ns):
            self._receive(message)
            self._sound_in_itself(message)
            for out in self.echo(message):
                echoed.append(replace(out, time_ns=out.time_ns + HOST_NS))
                self._queue(echoed[-1])
        for player in self._players:
            for message in player.until(until_ns):
                self._receive(message)
                for out in self.echo(message):
                    echoed.append(replace(out, time_ns=out.time_ns + HOST_NS))
                    self._queue(echoed[-1])
        for leader in self._leaders:
            ports, boxes = leader.tell(until_ns)
            for port, message in ports:
                self._receive(Message(message.time_ns, port, bytes([message.status])))
            for box, heard in boxes:
                heappush(self._arriving[box], (heard.time_ns, self._next(), heard))
        self._asked_ns = until_ns
        nature = self.desk.nature
        frame_ns = int(nature.usb_frame_ms * 1e6) if nature else 1
        out_ns = int(nature.out_ms * 1e6) if nature else 0
        while self._coming and self._coming[0][0] < until_ns:
            message = heappop(self._coming)[2]
            self.desk.check_ports([message.port])
            ready = message.time_ns + out_ns
            self._lines[message.port][0].hand(-(-ready // frame_ns) * frame_ns, message.data)
            self._reply_to(message)
        self._arrive(until_ns)
        for uid, unit in self.desk.units.items():
            unit.hear(self._due(uid, until_ns), until_s)
        return tuple(echoed)

    def _sound_in_itself(self, message: Message) -> None:
        """A key of a box whose local control is on."""
        uid = self.desk.ends[message.port][0].uid
        panel = self.desk.panels[uid]
        if uid in self.desk.units and panel.local:
            # Inside the box keys go to its first part, on whatever channel they leave it.
            status = status_of(kind_of(message.data[0]), panel.channels[0] if panel.channels else 1)
            heard = Heard(message.time_ns, status, tuple(message.data[1:]))
            heappush(self._arriving[uid], (message.time_ns, self._next(), heard))

    def _queue(self, message: Message) -> None:
        # What is handed over late leaves at once.
        message = replace(message, time_ns=max(message.time_ns, self._asked_ns))
        heappush(self._coming, (message.time_ns, self._next(), message))

    def _receive(self, message: Message) -> None:
        heappush(self._received, (message.time_ns, self._next(), message))

    def _next(self) -> int:
        """A number that keeps what has one time in order."""
        self._order += 1
        return self._order

    def _arrive(self, until_ns: int) -> None:
        for line, ear, ways in self._lines.values():
            arrived = list(ear.hear(line.until(until_ns)))
            self._take_exclusives(ear, ways)
            by_voltage: set[str] = set()
            for reached in ways if arrived else ():
                entry = self.desk.rig.find(reached.socket)[1]
                kind = "usb" if entry.carried_by else entry.kind
                panel = self.desk.panels[reached.box]
                if reached.box not in self.desk.units or panel.off or not panel.takes_from(kind):
                    continue
                if panel.leads_bpm:
                    heard_here = [one for one in arrived if one.status not in FOLLOWED]
                else:
                    heard_here = arrived
                if kind == "cv":
                    # Pitch and gate are one note.
                    if reached.box in by_voltage:
                        continue
                    by_voltage.add(reached.box)
                for message in _as_it_arrives(heard_here, reached):
                    heappush(self._arriving[reached.box], (message.time_ns, self._next(), message))

    def _due(self, box: str, until_ns: int) -> list[Heard]:
        queue, due = self._arriving[box], []
        while queue and queue[0][0] < until_ns:
            due.append(heappop(queue)[2])
        return due

    # --- what comes back

    def _reply_to(self, message: Message) -> None:
        """What boxes with a way back answer when they are asked who they are."""
        if not is_request(message.data):
            return
        desk = self.desk
        for reached in self._lines[message.port][2]:
            box = desk.rig.box(reached.box)
            if desk.panels[box.uid].off or is_interface(box.shape):
                continue
            by_usb = desk.rig.find(reached.socket)[1].carried_by
            late = message.time_ns + BYTE_NS * len(message.data) + REPLY_NS * (1 + len(reached.hops))
            for port in desk.ways_back(box, by_usb):
                self._receive(Message(late, port, reply_bytes(desk.identity(box))))

    def _take_exclusives(self, ear: Ear, ways: Sequence[Reached]) -> None:
        """What boxes do with system exclusive messages, and what they answer."""
        for ends_ns, message in ear.exclusives:
            for reached in ways:
                memory, desk = self._memories.get(reached.box), self.desk
                if memory is None or desk.panels[reached.box].off:
                    continue
                passed_on = (BYTE_NS * len(message) + SOFT_NS) * len(reached.routes)
                by_usb = desk.rig.find(reached.socket)[1].carried_by
                answer = memory.hear(ends_ns + passed_on, message)
                self._dump(desk.rig.box(reached.box), by_usb, ends_ns + passed_on + REPLY_NS, answer)
        ear.exclusives.clear()

    def _dump(self, box: Box, by_usb: str, begins_ns: int, messages: Sequence[bytes]) -> None:
        """A box sends messages, at the speed of the wire; by its MIDI outs, or inside its own link."""
        for port in self.desk.ways_back(box, by_usb) if messages else ():
            at_ns = begins_ns
            for one in messages:
                at_ns += BYTE_NS * len(one)
                self._receive(Message(at_ns, port, one))

    def _came(self, end_ns: float) -> tuple[Message, ...]:
        came = []
        while self._received and self._received[0][0] <= end_ns:
            came.append(heappop(self._received)[2])
        return tuple(came)

    # --- what is heard

    def _heard_at(self, input_name: str) -> list[tuple[Unit, str, Taps]]:
        """What is heard at an input: units, the labels of the outs they leave by, and the taps of what stands on the
        way."""
        found = []
        for way in ways_into(self.desk.rig, self.desk.audio_in[input_name].uid):
            box, socket = self.desk.rig.find(way[0].source)
            if box.uid in self.desk.units:
                found.append((self.desk.units[box.uid], socket.label, taps_of(self.desk, way)))
        return found

    def _samples(self, start: int, turned: Mapping[str, float], gains: np.ndarray) -> np.ndarray:
        # Always a whole block is computed, so that a run's end does not change its numbers.
        desk = self.desk
        analogue = (start + np.arange(BLOCK) - desk.delay_samples()) / self.crystal
        samples = self._loops.home(start)
        for player in self._players:
            player.hear(self._loops.played_now(), start, self.crystal)
        rendered: dict[tuple[str, float], dict[str, np.ndarray]] = {}
        for column, of_input in enumerate(self._sources):
            for unit, label, taps in of_input:
                for late, gain in taps:
                    key = unit.box.uid, late
                    if key not in rendered:
                        rendered[key] = unit.render(analogue - late, late)
                    if label in rendered[key]:
                        level = gain * turned.get(unit.box.uid, 1.0)
                        samples[column] += level * rendered[key][label]
        samples *= gains[:, None]
        self._add_noise(samples)
        np.maximum(samples, -1.0, out=samples)
        return np.minimum(samples, 1.0 - 2.0**-23, out=samples).T

    def _add_noise(self, samples: np.ndarray) -> None:
        """Add what the converters hiss, shape (inputs, BLOCK)."""
        if self._hiss is None:
            return
        places = self._places.integers(len(self._hiss) - BLOCK, size=len(samples)).tolist()
        for sound, first in zip(samples, places, strict=True):
            sound += self._hiss[first : first + BLOCK]

    def _louder(self, panels: Mapping[str, FrontPanel]) -> dict[str, float]:
        """By which factor each box has been turned up since the run began."""
        ours = self.desk.panels
        known = {uid: panel for uid, panel in panels.items() if uid in ours}
        return {uid: 10 ** ((panel.level_db - ours[uid].level_db) / 20) for uid, panel in known.items()}

    def _gains(self, panels: Mapping[str, FrontPanel]) -> np.ndarray:
        """The factor by which each input is turned up at the interface, ahead of its converter."""
        gains = panels[self.desk.interface.uid].gains if self.desk.interface else {}
        labels = (self.desk.audio_in[name].label for name in self.setup.inputs)
        return np.array([10 ** (gains.get(label, 0.0) / 20) for label in labels])


class _Hands:
    """A phrase on every keyboard or pad box on which someone plays, as it arrives at the computer."""

    def __init__(self, desk: "Desk", setup: RunSetup) -> None:
        self._ports = [
            name
            for name, (box, end) in desk.ends.items()
            if (desk.panels[box.uid].demo if column_of(box.shape) == "hands" else desk.panels[box.uid].played)
            and not desk.panels[box.uid].follows_click
            and not desk.panels[box.uid].off
            and host_direction(box, end) == "in"
        ]
        self._from_s = PHRASE_FROM_S
        self._last_s = np.inf if setup.frames is None else setup.frames / desk.sample_rate - PHRASE_REST_S
        self._struck = 0
        self._ending: list[tuple[int, str, int]] = []

    @property
    def plays(self) -> bool:
        """Whether anybody plays."""
        return bool(self._ports)

    def begin_now(self) -> None:
        """The first note is the run's time zero."""
        self._from_s = 0.0

    def until(self, until_ns: int) -> list[Message]:
        """What is played before a time and has not been told, in order of time."""
        found = []
        while (at_s := self._from_s + PHRASE_STEP_S * self._struck) * 1e9 < until_ns and at_s < self._last_s:
            note = DEMO_NOTES[self._struck % len(DEMO_NOTES)] + 12
            for port in self._ports:
                found.append(Message(round(at_s * 1e9), port, note_on(1, note, 70 + 6 * (self._struck % 5))))
                self._ending.append((round(at_s * 1e9) + round(0.7e9 * PHRASE_STEP_S), port, note))
            self._struck += 1
        found += [Message(at_ns, port, note_off(1, note)) for at_ns, port, note in self._ending if at_ns < until_ns]
        self._ending = [one for one in self._ending if one[0] >= until_ns]
        return sorted(found, key=lambda message: message.time_ns)


class _Loops:
    """What outputs play and comes home by inputs: delayed by a buffer and a converter on the way out, by what stands
    between, and by the same again on the way home. One crystal clocks both, so nothing drifts. Inputs that are passed
    on to an output are heard there a block later."""

    def __init__(self, desk: "Desk", source: Source, setup: RunSetup) -> None:
        self._source, self._setup = source, setup
        self._outputs = sorted({*setup.outputs, *(one.output for one in setup.passed)})
        self._heard: np.ndarray | None = None
        names = {desk.audio_out[name].uid: name for name in self._outputs}
        self._ways: list[tuple[int, str, int, np.ndarray]] = []
        for column, name in enumerate(setup.inputs):
            for way in ways_into(desk.rig, desk.audio_in[name].uid) if names else ():
                for late, gain in taps_of(desk, way) if way[0].source in names else ():
                    delay = late * desk.sample_rate + 2 * desk.delay_samples()
                    self._ways.append((column, names[way[0].source], int(delay), gain * _part_of_a_sample(delay % 1)))
        longest = max((delay for _, _, delay, _ in self._ways), default=0)
        self._played = {name: np.zeros(longest + 2 * HALF) for name in self._outputs}

    def home(self, start: int) -> np.ndarray:
        """What comes home in a block, shape (inputs, BLOCK)."""
        samples = np.zeros((len(self._setup.inputs), BLOCK))
        for name in self._outputs:
            past = len(self._played[name]) - BLOCK if start else len(self._played[name])
            self._played[name] = np.concatenate([self._played[name][-past:], self._playing(name, start)])
        for column, name, delay, taps in self._ways:
            played = self._played[name]
            first = len(played) - BLOCK - delay - HALF
            stretch = played[max(0, first) : first + BLOCK + 2 * HALF]
            samples[column] += np.convolve(stretch, taps, "valid")[:BLOCK]
        return samples

    def played_now(self) -> np.ndarray:
        """What all outputs together have played in the last block."""
        whole = np.zeros(BLOCK)
        for played in self._played.values():
            whole += played[-BLOCK:]
        return whole

    def _playing(self, output: str, start: int) -> np.ndarray:
        sound = np.zeros(BLOCK)
        if output in self._setup.outputs:
            sound = sound + self._source.sound(output, start, BLOCK)
        for one in self._setup.passed:
            if one.output == output and self._heard is not None:
                column = self._heard[:, self._setup.inputs.index(one.input)]
                sound[: len(column)] += 10 ** (one.gain_db / 20) * column
        return sound

    def hear(self, samples: np.ndarray) -> None:
        """What has just been recorded, to be passed on."""
        self._heard = samples if self._setup.passed else None


def _part_of_a_sample(part: float) -> np.ndarray:
    """A filter that delays by HALF + part samples (0 up to 1): a sinc in a Kaiser window."""
    at = np.arange(2 * HALF + 1) - HALF - part
    window = np.i0(9.0 * np.sqrt(np.maximum(0.0, 1 - (at / (HALF + 1)) ** 2))) / np.i0(9.0)
    return np.sinc(at) * window


def taps_of(desk: "Desk", way: Sequence[Cable]) -> Taps:
    """What stands on a way home, from its beginning."""
    taps: Taps = ((0.0, 1.0),)
    for into, out in pairwise(way):
        route = next(r for r in desk.rig.routes_into(out.source) if r.source == into.target)
        gain = 10 ** (route.gain_db / 20)
        passes = desk.rig.find(out.source)[0].shape.startswith("effect")
        through = EFFECT_TAPS if passes else ((0.0, 1.0),)
        taps = tuple((late + more, level * share * gain) for late, level in taps for more, share in through)
    return taps


def _as_it_arrives(arrived: Sequence[Heard], reached: Reached) -> Iterator[Heard]:
    """Messages of a wire at a box behind thrus and routes: a thru costs microseconds, a route takes a whole message in
    first, and may hold its channel back or change it."""
    late = THRU_NS * sum(hop.by_thru for hop in reached.hops)
    for message in arrived:
        if message.status in FOLLOWED:
            if reached.clock:
                passed_on = (BYTE_NS * (1 + len(message.data)) + SOFT_NS) * len(reached.routes)
                yield Heard(message.time_ns + late + passed_on, message.status, message.data)
            continue
        channel = reached.channels[channel_of(message.status) - 1]
        if channel:
            passed_on = (BYTE_NS * (1 + len(message.data)) + SOFT_NS) * len(reached.routes)
            status = status_of(kind_of(message.status), channel)
            yield Heard(message.time_ns + late + passed_on, status, message.data)


def wait_until(moment: float) -> None:
    rest = moment - time.monotonic()
    if rest > 0:
        time.sleep(rest)
