"""A JACK client at work, in the device process: MIDI and audio on frames, in one callback.

The callback never asks the server for anything and never waits, but for a freewheeling server, where waiting is how the
run keeps step with its source. Ports are opened and connected between runs.
"""

import errno
import re
import threading
import time
from collections import deque
from collections.abc import Iterable, Sequence

import numpy as np

from hypotaxis.core.errors import LibraryMissing, PortMissing, ServerGone
from hypotaxis.core.midi.messages import (
    ALL_NOTES_OFF,
    ALL_SOUND_OFF,
    EXCLUSIVE,
    NOTE_ON,
    SUSTAIN,
    channel_of,
    control_change,
    kind_of,
)
from hypotaxis.core.playing.keys import Echo
from hypotaxis.core.studio import AT_ONCE, WITH_A_NOTE, AudioEnd, Block, Lost, Message, Port, Reported, RunSetup
from hypotaxis.devices.latency import CAPTURE, PLAYBACK, latency_frames
from hypotaxis.devices.protocol import Feed, Piece
from hypotaxis.devices.timeline import Timeline

CLIENT = "hypotaxis"
OURS = re.compile(rf"{CLIENT}(-\d+)?:")
"""Ports of our own, of whatever process: the server numbers clients of one name."""
ACTIVE_SENSING = b"\xfe"
PATIENCE_S = 5.0
"""How long it may take until the server freewheels."""
SETTLED = 4
"""Periods after which a new connection carries: the server takes them over between periods, some later than asked."""
STARVED_S = 0.4
"""How long a freewheeling period waits for its source: servers put clients out that take half a second."""
INSTALL = "make devices"


def jack_library():
    """The binding to JACK. Raises LibraryMissing with the command to type."""
    try:
        import jack
    except (ImportError, OSError) as error:
        raise LibraryMissing(f"JACK’s library is not installed. Type “{INSTALL}”, then look again.") from error
    for silence in (jack.set_error_function, jack.set_info_function):
        silence(lambda message: None)
    return jack


def key_of(name: str) -> str:
    """What stays of a port's name from start to start: bridges number the devices anew each time.

    >>> key_of("a2j:Heron [24] (capture): Heron MIDI 1")
    'a2j:Heron (capture): Heron MIDI 1'
    """
    return re.sub(r"\s*\[\d+\]", "", name)


class Engine:
    """The client. One run at a time."""

    def __init__(self, server: str = "") -> None:
        self._jack = jack_library()
        try:
            self.client = self._jack.Client(CLIENT, no_start_server=True, servername=server or None)
        except self._jack.JackError as error:
            named = f"“{server}” " if server else ""
            raise ServerGone(f"No JACK server {named}answers. Start it, or choose another studio.") from error
        self.server = server or "default"
        self.xruns = self.dropped = 0
        self.gone = threading.Event()
        self.failed = ""
        self._run: _Run | None = None
        self._quiet: dict[str, list[bytes]] = {}
        self._silent = threading.Event()
        self._changed = threading.Event()
        self._periods = 0
        self._unsent: list[tuple[str, bytes]] = []
        self._sends: dict[str, object] = {}
        self._hears: dict[str, object] = {}
        self._ins: list = []
        self._outs: dict[str, object] = {}
        self.client.set_process_callback(self._process)
        self.client.set_xrun_callback(self._xrun)
        self.client.set_freewheel_callback(lambda on: self._changed.set())
        self.client.set_shutdown_callback(lambda status, reason: self.gone.set())
        self.client.activate()

    # --- between runs

    def look(self) -> Reported:
        """What the server offers now."""

        def of(**kind):
            return [port for port in self.client.get_ports(**kind) if not OURS.match(port.name)]

        ports = [Port(p.name, "out", key=key_of(p.name)) for p in of(is_midi=True, is_input=True)]
        ports += [Port(p.name, "in", key=key_of(p.name)) for p in of(is_midi=True, is_output=True)]
        return Reported(
            studio="jack",
            server=self.server,
            rate=self.client.samplerate,
            buffer=self.client.blocksize,
            realtime=self.client.realtime,
            ports=tuple(ports),
            inputs=tuple(self._end(port, CAPTURE) for port in of(is_audio=True, is_output=True)),
            outputs=tuple(self._end(port, PLAYBACK) for port in of(is_audio=True, is_input=True)),
        )

    @property
    def refusal(self) -> type[Exception]:
        """What the binding raises when the server does not do as it is asked."""
        return self._jack.JackError

    def _end(self, port, mode: int) -> AudioEnd:
        return AudioEnd(port.name, key_of(port.name), port.is_physical, latency_frames(self._jack, port, mode))

    def begin(self, setup: RunSetup, sends: Sequence[str]) -> "_Run":
        """Open and connect what the run needs, then let it begin with its first feed. Raises PortMissing."""
        there = self.look()
        wanted_in = {end.name: end for end in there.inputs}
        wanted_out = {end.name: end for end in there.outputs}
        for name in setup.inputs:
            if name not in wanted_in:
                raise PortMissing(f"JACK does not report an audio input “{name}”. Is it switched on and bridged?")
        outputs = sorted({*setup.outputs, *(one.output for one in setup.passed)})
        for name in outputs:
            if name not in wanted_out:
                raise PortMissing(f"JACK does not report an audio output “{name}”. Is it switched on and bridged?")
        while len(self._ins) < len(setup.inputs):
            self._ins.append(self.client.inports.register(f"in_{len(self._ins) + 1}"))
        for port, name in zip(self._ins, setup.inputs, strict=False):
            self._join(name, port, alone=True)
        # What is plugged in again has lost its connection: so each is joined anew. The callback goes over these dicts
        # at any time, so they are exchanged and never changed.
        for name in outputs:
            if name not in self._outs:
                opened = self.client.outports.register(f"out_{len(self._outs) + 1}")
                self._outs = {**self._outs, name: opened}
            self._join(self._outs[name], name)
        for name in (port.system_name for port in there.ports if port.direction == "in"):
            if name not in self._hears:
                opened = self.client.midi_inports.register(f"from_{len(self._hears) + 1}")
                self._hears = {**self._hears, name: opened}
            self._join(name, self._hears[name])
        self._open_sends(there, sorted({*sends, *(rule.out for rule in setup.echo)}))
        self._let_pass(SETTLED)
        if setup.fast:
            self._freewheel(True)
        run = _Run(self, setup, self._ins[: len(setup.inputs)])
        self._run = run
        return run

    def _let_pass(self, periods: int) -> None:
        """Wait while so many periods begin."""
        until, patience = self._periods + periods, time.monotonic() + PATIENCE_S
        while self._periods < until and time.monotonic() < patience and not self.gone.is_set():
            time.sleep(0.001)

    def _open_sends(self, there: Reported, names: Sequence[str]) -> None:
        """Have a port of our own for each port that notes leave by. Raises PortMissing."""
        for name in names:
            if not any(port.system_name == name for port in there.ports if port.direction == "out"):
                raise PortMissing(f"JACK does not report a MIDI output “{name}”. Is it switched on and bridged?")
            if name not in self._sends:
                opened = self.client.midi_outports.register(f"to_{len(self._sends) + 1}")
                self._sends = {**self._sends, name: opened}
            self._join(self._sends[name], name)

    def _join(self, source, target, *, alone: bool = False) -> None:
        """Connect two ports; alone: whatever else comes in there is taken out."""
        if alone:
            wanted = source if isinstance(source, str) else source.name
            for port in target.connections:
                if port.name != wanted:
                    self.client.disconnect(port, target)
        try:
            self.client.connect(source, target)
        except self._jack.JackErrorCode as error:
            if error.code != errno.EEXIST:
                raise

    def end(self) -> None:
        """End the run and wait until all is silent."""
        run, self._run = self._run, None
        if run is None:
            return
        run.over.set()
        self._send_quiet(run.quiet())
        # The period in which it was taken out has ended when the next begins.
        self._let_pass(1)
        run.rest()
        if run.setup.fast and not self.gone.is_set():
            self._freewheel(False)

    def silence(self) -> None:
        """End what runs, drop what waits, and silence every channel of every port that notes have left by; those that
        were used in the run first."""
        run, self._unsent = self._run, []
        self.end()
        used = sorted(run.used) if run else []
        every = [(port, channel) for port in sorted(self._sends) for channel in range(1, 17)]
        self._send_quiet(_quieting(dict.fromkeys([*used, *every])))

    def _send_quiet(self, quiet: dict[str, list[bytes]]) -> None:
        if quiet and not self.gone.is_set():
            self._silent.clear()
            self._quiet = quiet
            self._silent.wait(1.0)

    def _freewheel(self, on: bool) -> None:
        """Let the server freewheel, or follow its clock again, and wait until it does: changing anything else meanwhile
        can upset it."""
        self._changed.clear()
        self.client.set_freewheel(on)
        self._changed.wait(PATIENCE_S)

    def close(self) -> None:
        """Silence first: closing while audio runs upsets some servers."""
        self.end()
        if not self.gone.is_set():
            self.client.deactivate()
        self.client.close()

    # --- in the callback

    def _xrun(self, delayed_us: float) -> None:
        self.xruns += 1

    def _process(self, frames: int) -> None:
        try:
            self._periods += 1
            for port in self._sends.values():
                port.clear_buffer()
            run, events = self._run, {}
            if run:
                events = run.period(frames, self.client.last_frame_time, self._hears)
            elif self._quiet:
                events = {name: [(0, data) for data in rows] for name, rows in self._quiet.items()}
                self._quiet = {}
                self._silent.set()
            self._write(events)
            played = run.playing if run else {}
            for name, port in self._outs.items():
                port.get_array()[:] = played.get(name, 0.0)
        except Exception as error:
            # Whatever it was, the server must not be kept waiting; the process tells it and ends.
            self.failed = f"{type(error).__name__}: {error}"
            self._run = None

    def _write(self, events: dict[str, list[tuple[int, bytes]]]) -> None:
        """Write what leaves in this period; what finds no room goes with the next."""
        unsent, self._unsent = self._unsent, []
        for name, data in unsent:
            self._write_one(name, 0, data, again=True)
        for name, rows in events.items():
            for offset, data in sorted(rows, key=lambda row: row[0]):
                self._write_one(name, offset, data)

    def _write_one(self, name: str, offset: int, data: bytes, *, again: bool = False) -> None:
        try:
            self._sends[name].write_midi_event(offset, data)
        except self._jack.JackError:
            if again:
                self.dropped += 1
            else:
                self._unsent.append((name, data))


def _quieting(channels: Iterable[tuple[str, int]]) -> dict[str, list[bytes]]:
    """What silences these channels, by port: pedals up, notes off, then all sound."""
    found: dict[str, list[bytes]] = {}
    for port, channel in channels:
        rows = found.setdefault(port, [])
        rows += [control_change(channel, number, 0) for number in (SUSTAIN, ALL_NOTES_OFF, ALL_SOUND_OFF)]
    return found


class _Run:
    """One run in the callback: what is fed, what comes, and where it stands."""

    def __init__(self, engine: Engine, setup: RunSetup, ins: list) -> None:
        self.setup, self.ins = setup, ins
        self.rate = engine.client.samplerate
        self.playing: dict[str, np.ndarray] = {}
        self.done: deque[Block] = deque()
        self.over = threading.Event()
        """It has ended, or is to end."""
        self.late = 0
        self._echo = Echo(setup.echo)
        self._timeline: Timeline | None = None
        self._until = 0
        self._fed = threading.Condition()
        self._messages: deque[tuple[int, Message]] = deque()
        self._pieces: dict[str, deque[Piece]] = {}
        self._held: Block | None = None
        self.used: set[tuple[str, int]] = set()

    @property
    def begun(self) -> bool:
        """Whether its first frame has come."""
        return self._timeline is not None

    def feed(self, feed: Feed) -> None:
        """Take in what leaves next."""
        with self._fed:
            self._messages += [(round(m.time_ns * self.rate / 1e9), m) for m in feed.messages]
            for piece in feed.pieces:
                self._pieces.setdefault(piece.output, deque()).append(piece)
            self._until = feed.until
            self._fed.notify()

    def rest(self) -> None:
        """Let go of the period that is held back, once the callback has let go of the run."""
        if self._held:
            self.done.append(self._held)
            self._held = None

    def quiet(self) -> dict[str, list[bytes]]:
        """What silences the channels that were used, by port."""
        return _quieting(sorted(self.used))

    def period(self, frames: int, now: int, hears: dict) -> dict[str, list[tuple[int, bytes]]]:
        """One period of the server: what leaves, by port, as (frame within it, bytes)."""
        came = [
            (offset, name, bytes(data)) for name, port in hears.items() for offset, data in port.incoming_midi_events()
        ]
        # Active sensing says only that the cable is there, three times a second and more.
        came = [row for row in came if row[2] != ACTIVE_SENSING]
        came.sort(key=lambda row: row[0])
        if self._timeline is None:
            first = self._beginning(came)
            if first is None or self._until == 0 or self.over.is_set():
                return {}
            self._timeline = Timeline(now + first)
            came = [row for row in came if row[0] >= first]
        else:
            first = 0
        if self.over.is_set():
            return {}
        self._wait(self._timeline.count + frames)
        lost = self._timeline.period(now + first, frames - first)
        start = self._timeline.count - (frames - first)
        events, sent, received = self._leaving(start, frames - first), [], []
        for offset, name, data in came:
            message = Message(round((start + offset - first) * 1e9 / self.rate), name, data)
            received.append(message)
            for out in self._echo(message):
                sent.append(out)
                events.setdefault(out.port, []).append((offset - first, out.data))
                self._note(out)
        self._record(start, first, frames, lost, tuple(received), tuple(sent))
        self._play(start, first, frames)
        return {name: [(first + offset, data) for offset, data in rows] for name, rows in events.items()}

    def _beginning(self, came: Sequence[tuple[int, str, bytes]]) -> int | None:
        """At which frame of the period the run begins; None = not in this one."""
        if self.setup.begins == AT_ONCE:
            return 0
        for offset, _, data in came:
            note = data[0] < EXCLUSIVE and kind_of(data[0]) == NOTE_ON and data[2] > 0
            if note or self.setup.begins != WITH_A_NOTE:
                return offset
        return None

    def _wait(self, until: int) -> None:
        """Of a freewheeling run: until the source has caught up."""
        if self.setup.fast:
            with self._fed:
                self._fed.wait_for(lambda: self._until >= until or self.over.is_set(), STARVED_S)

    def _leaving(self, start: int, frames: int) -> dict[str, list[tuple[int, bytes]]]:
        events: dict[str, list[tuple[int, bytes]]] = {}
        while self._messages and self._messages[0][0] < start + frames:
            at, message = self._messages.popleft()
            self.late += at < start
            events.setdefault(message.port, []).append((max(0, at - start), message.data))
            self._note(message)
        return events

    def _note(self, message: Message) -> None:
        if message.data[0] < EXCLUSIVE and kind_of(message.data[0]) == NOTE_ON:
            self.used.add((message.port, channel_of(message.data[0])))

    def _record(self, start: int, first: int, frames: int, lost: int, received: tuple, sent: tuple) -> None:
        """Keep the period. The last one is held back, since only the next tells whether frames were lost before it."""
        samples = np.empty((frames - first, len(self.ins)), np.float32)
        for column, port in enumerate(self.ins):
            samples[:, column] = port.get_array()[first:]
        if lost and self._held:
            gap = Lost(self._held.start, lost)
            silence = np.zeros((lost, len(self.ins)), np.float32)
            self.done.append(Block(self._held.start, silence, lost=(gap,)))
            held = self._held
            self._held = Block(held.start + lost, held.samples, held.received, held.sent)
        if self._held:
            self.done.append(self._held)
        self._held = Block(start, samples, received, sent)
        if self.setup.frames is not None and self._timeline.count >= self.setup.frames:
            self.done.append(self._held)
            self._held = None
            self.over.set()

    def _play(self, start: int, first: int, frames: int) -> None:
        self.playing = {}
        for name, pieces in self._pieces.items():
            sound = np.zeros(frames, np.float32)
            while pieces and pieces[0].start + len(pieces[0].samples) <= start:
                pieces.popleft()
            for piece in pieces:
                begins, ends = max(start, piece.start), min(start + frames - first, piece.start + len(piece.samples))
                if begins < ends:
                    into = slice(first + begins - start, first + ends - start)
                    sound[into] = piece.samples[begins - piece.start : ends - piece.start]
            self.playing[name] = sound
        for one in self.setup.passed:
            heard = self.ins[self.setup.inputs.index(one.input)].get_array() * 10 ** (one.gain_db / 20)
            self.playing[one.output] = self.playing.get(one.output, 0.0) + heard
