"""Random rigs in which everything is in order: routers, splits, chains, merges, sub-mixers, loops, clocks.

Built from the shapes by one seed, 3 to 40 boxes; shares no code with the rules. What is put on a wire is known while it
is built (which channels arrive where), so that settings, filters and definitions agree by construction.
"""

import random
from dataclasses import dataclass, field, replace

from hypotaxis.core.plan import Instrument, Loop, Part, Plan, Return, Voice
from hypotaxis.core.rig.build import box_from_shape
from hypotaxis.core.rig.values import Box, Cable, Rig, Route

SOUNDING = (
    "poly-synth",
    "mono-synth",
    "drum-machine",
    "module",
    "sampler",
    "workstation",
    "desktop-synth",
    "modular-midi",
)
SEPARATE = {"drum-machine": (("kick", 36), ("snare", 38))}


@dataclass
class Wire:
    """An open MIDI out: the host's port it descends from, which channels pass, how they are renamed, how far down a
    chain of thrus it is, and whether clock passes."""

    socket: str
    port: str
    passes: tuple[int, ...] = tuple(range(1, 17))
    renamed: dict[int, int] = field(default_factory=dict)
    thrus: int = 0
    clock: bool = True


class SoundRig:
    """Builds one plan."""

    def __init__(self, seed: int, size: int) -> None:
        self.random = random.Random(seed)
        self.size = size
        self.boxes: list[Box] = []
        self.cables: list[Cable] = []
        self.instruments: list[Instrument] = []
        self.loops: list[Loop] = []
        self.wires: list[Wire] = []
        self.taken: dict[str, set[int]] = {}
        self.free_ins: list[tuple[str, ...]] = []
        self.free_mics: list[str] = []
        self.free_outs: list[str] = []
        self.usb: list[str] = []
        self.settings: dict[str, dict] = {}
        self.routes: dict[str, list[Route]] = {}
        self.clocked: set[str] = set()
        self.channels_at: dict[str, set[int]] = {}

    def uid(self) -> str:
        """A UUID that depends on the seed alone."""
        bits = f"{self.random.getrandbits(128):032x}"
        return f"{bits[:8]}-{bits[8:12]}-4{bits[13:16]}-8{bits[17:20]}-{bits[20:]}"

    def build(self) -> Plan:
        self._desk()
        makers = [self._instrument] * 6 + [
            self._splitter,
            self._router,
            self._merger,
            self._loop,
            self._straight,
            self._hands,
        ]
        for _ in range(self.size * 4):
            if len(self.boxes) - 1 >= self.size:
                break
            self.random.choice(makers)()
        self._clock()
        boxes = [
            replace(
                box,
                setup=replace(box.setup, **self.settings.get(box.uid, {})),
                routes=(*box.routes, *self.routes.get(box.uid, ())),
                sockets=tuple(replace(s, clock=s.uid in self.clocked) for s in box.sockets),
            )
            for box in self.boxes
        ]
        rig = Rig(uid=self.uid(), name="Sound", boxes=tuple(boxes), cables=tuple(self.cables))
        return Plan(rig=rig, instruments=tuple(self.instruments), loops=tuple(self.loops))

    def _box(self, shape: str) -> Box:
        number = sum(box.shape == shape for box in self.boxes) + 1
        box = box_from_shape(shape, f"{shape} {number}", order=len(self.boxes), uid=self.uid())
        self.boxes.append(box)
        return box

    def _plug(self, source: str, target: str) -> None:
        length = round(self.random.uniform(0.5, 4.5), 1)
        self.cables.append(Cable(uid=self.uid(), source=source, target=target, length_m=length))

    def _join(self, box: Box) -> bool:
        if not self.usb:
            return False
        self._plug(box.socket("USB").uid, self.usb.pop(0))
        return True

    def _desk(self) -> None:
        host = self._box("host")
        self.usb = [socket.uid for socket in host.sockets if socket.kind == "usb"]
        shapes = [
            "interface-18",
            *self.random.sample(["interface-16", "router-6", "router-8", "interface-8"], self.random.randint(0, 2)),
        ]
        for shape in shapes[: self.size]:
            box = self._box(shape)
            self._join(box)
            for socket in box.sockets:
                if socket.kind == "midi" and socket.direction == "out":
                    self.wires.append(Wire(socket.uid, socket.uid))
                    self.taken[socket.uid] = set()
                if socket.kind == "audio" and socket.direction == "in":
                    if socket.level == "microphone":
                        self.free_mics.append(socket.uid)
                    elif socket.is_left:
                        self.free_ins.append((socket.uid, box.socket(socket.stereo).uid))
                if socket.kind == "audio" and socket.direction == "out":
                    self.free_outs.append(socket.uid)

    # --- what stands on the way of notes --------------------------------------------------------

    def _take_wire(self, deepest: int = 2) -> Wire | None:
        fit = [wire for wire in self.wires if wire.thrus <= deepest]
        if not fit:
            return None
        wire = self.random.choice(fit)
        self.wires.remove(wire)
        return wire

    def _splitter(self) -> None:
        wire = self._take_wire()
        if wire:
            box = self._box("thru-splitter")
            self._plug(wire.socket, box.socket("MIDI in").uid)
            for number in range(1, 5):
                out = box.socket(f"thru {number}").uid
                self.wires.append(replace(wire, socket=out, thrus=wire.thrus + 1, renamed=dict(wire.renamed)))

    def _router(self) -> None:
        """Some channels to one out, the others to another, some of them renamed."""
        wire = self._take_wire()
        if wire is None or wire.renamed:
            self.wires += [wire] if wire else []
            return
        box = self._box("midi-router")
        into = box.socket("in 1").uid
        self._plug(wire.socket, into)
        cut = self.random.randint(4, 12)
        for number, channels in (("1", range(1, cut)), ("2", range(cut, 17))):
            passes = tuple(one for one in channels if one in wire.passes)
            if not passes:
                continue
            out = box.socket(f"out {number}").uid
            renamed = {passes[0]: self.random.randint(1, 16)} if self.random.random() < 0.4 else {}
            renamed = {one: other for one, other in renamed.items() if other not in passes}
            route = Route(uid=self.uid(), source=into, target=out, channels=passes, remap=tuple(renamed.items()))
            self.routes.setdefault(box.uid, []).append(route)
            self.wires.append(Wire(out, wire.port, passes, renamed, 0, wire.clock))

    def _merger(self) -> None:
        """The host's port and a keyboard of its own on one wire."""
        wire = self._take_wire()
        if wire is None:
            return
        box = self._box("merger")
        self._plug(wire.socket, box.socket("in 1").uid)
        self.wires.append(replace(wire, socket=box.socket("out").uid, thrus=0, renamed=dict(wire.renamed)))

    def _hands(self) -> None:
        if self.usb:
            self._join(self._box(self.random.choice(["keyboard", "pads", "faders"])))

    # --- what sounds ----------------------------------------------------------------------------

    def _instrument(self) -> None:
        shape = self.random.choice(SOUNDING)
        wire, send, names = None, "", {}
        wanted = self.random.randint(1, 2) if shape in ("module", "sampler", "poly-synth") else 1
        if shape == "desktop-synth":
            if not self.usb or not self.free_ins:
                return
            free = list(range(1, 17))
        else:
            wire = self._take_wire()
            if wire is None or not self.free_ins:
                self.wires += [wire] if wire else []
                return
            free = [one for one in wire.passes if one not in self.taken[wire.port]]
            # On a shared wire a renamed channel must not meet another that arrives there.
            names = wire.renamed
            arriving = [names.get(one, one) for one in wire.passes]
            free = [one for one in free if arriving.count(names.get(one, one)) == 1]
        if len(free) < wanted:
            self.wires += [wire] if wire else []
            return
        box = self._box(shape)
        channels = self.random.sample(free, wanted)
        if wire:
            self.taken[wire.port] |= set(channels)
            self._plug(wire.socket, box.socket("MIDI in").uid)
            send = wire.port
            if box.socket("thru"):
                self.wires.append(
                    replace(wire, socket=box.socket("thru").uid, thrus=wire.thrus + 1, renamed=dict(names))
                )
        else:
            self._join(box)
            send = box.socket("notes by USB").uid
        arrive = [names.get(one, one) for one in channels]
        self._settings(box, wire, arrive)
        returns, further, voices = self._home(box)
        parts = tuple(
            Part(uid=self.uid(), name=f"part {n}", channel=one) for n, one in enumerate(channels[1:], start=2)
        )
        self.instruments.append(
            Instrument(
                uid=self.uid(), name=f"{box.name} sound", box=box.uid, send=send, channel=channels[0], returns=returns,
                parts=parts, further=further, voices=voices,
            )
        )  # fmt: skip

    def _settings(self, box: Box, wire: Wire | None, arrive: list[int]) -> None:
        chosen: dict = {}
        if self.random.random() < 0.5:
            chosen["receives"] = tuple(sorted(arrive))
        # Omni harms nobody where nothing but its own channel arrives, as on a link of its own.
        if wire is None and len(arrive) == 1 and self.random.random() < 0.5:
            chosen["omni"] = True
        if box.shape == "workstation":
            chosen["local"] = "off"
        self.settings[box.uid] = chosen

    def _home(self, box: Box) -> tuple[tuple[str, ...], tuple[Return, ...], tuple[Voice, ...]]:
        outs = [s for s in box.sockets if s.kind == "audio" and s.direction == "out" and not s.separate]
        pair = self.free_ins.pop(0)
        further, voices = [], []
        if box.shape == "modular-midi":
            converter = self._box("level-converter")
            self._plug(outs[0].uid, converter.socket("in").uid)
            self._plug(converter.socket("out").uid, pair[0])
            return pair[:1], (), ()
        if self.random.random() < 0.2:
            self._by_mixer(box, outs, pair)
            return pair, (), ()
        for name, note in SEPARATE.get(box.shape, ()):
            if self.free_mics and self.random.random() < 0.4:
                direct = self._box("direct-box")
                self._plug(box.socket(name).uid, direct.socket("in").uid)
                home = self.free_mics.pop(0)
                self._plug(direct.socket("out").uid, home)
                further.append(Return(uid=self.uid(), name=name, inputs=(home,)))
                voices.append(Voice(note=note, name=name, home=further[-1].uid))
        for out, uid in zip(outs, pair, strict=False):
            self._plug(out.uid, uid)
        return pair[: len(outs)], tuple(further), tuple(voices)

    def _by_mixer(self, box: Box, outs: list, pair: tuple[str, ...]) -> None:
        """Home through a sub-mixer, together with the box's separate outs."""
        mixer = self._box("mixer")
        loose = [s for s in box.sockets if s.separate and s.kind == "audio"][: self.random.randint(0, 2)]
        for number, out in enumerate([*outs, *loose], start=1):
            self._plug(out.uid, mixer.socket(f"channel {number}").uid)
        for side, uid in zip("LR", pair, strict=True):
            self._plug(mixer.socket(f"main {side}").uid, uid)

    # --- loops and clock ------------------------------------------------------------------------

    def _loop(self) -> None:
        if not (self.free_outs and self.free_ins):
            return
        box = self._box("effect")
        send, home = self.free_outs.pop(), self.free_ins.pop()[0]
        self._plug(send, box.socket("in").uid)
        self._plug(box.socket("out").uid, home)
        self.loops.append(Loop(uid=self.uid(), name=box.name, box=box.uid, sends=(send,), returns=(home,)))

    def _straight(self) -> None:
        """A cable straight from an output to an input, to measure the interface."""
        if any(not loop.box for loop in self.loops) or not (self.free_outs and self.free_ins):
            return
        send, home = self.free_outs.pop(), self.free_ins.pop()[0]
        self._plug(send, home)
        self.loops.append(Loop(uid=self.uid(), name="straight", box="", sends=(send,), returns=(home,)))

    def _clock(self) -> None:
        """Clock on some ports; whatever it reaches and can follow is set to."""
        reached = {box.uid for box in self.boxes}
        for port in self.taken:
            if self.random.random() < 0.5:
                self.clocked.add(port)
        for box in self.boxes:
            if box.uid in reached and box.setup.takes_clock:
                port = self._port_of(box)
                follows = "external" if port in self.clocked else ""
                self.settings.setdefault(box.uid, {})["clock"] = follows

    def _port_of(self, box: Box) -> str:
        """The host's port behind a box's MIDI in, by walking the cables back."""
        into = box.socket("MIDI in")
        while into is not None:
            cable = next((one for one in self.cables if one.target == into.uid), None)
            if cable is None:
                return ""
            owner, out = next((b, s) for b in self.boxes for s in b.sockets if s.uid == cable.source)
            if out.uid in self.taken:
                return out.uid
            into = owner.socket(out.thru_of or "in 1")
        return ""
