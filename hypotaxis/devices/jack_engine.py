"""A JACK client at work, in the device process: MIDI and audio on frames, in one callback.

The callback never asks the server for anything and never waits, but for a freewheeling server, where waiting is how the
run keeps step with its source. Ports are opened and connected between runs.
"""

import errno
import re
import threading
import time
from collections import deque
from collections.abc import Sequence

from hypotaxis.core.errors import LibraryMissing, PortMissing, ServerGone
from hypotaxis.core.midi.messages import EXCLUSIVE, FIRST_STATUS, REAL_TIME
from hypotaxis.core.studio import AT_ONCE, JACK, MIDI, AudioEnd, Message, OwnEnd, Port, Reported, RunSetup, Wanted
from hypotaxis.devices.latency import CAPTURE, PLAYBACK, latency_frames
from hypotaxis.devices.run import CLIENT, INSTALL, OURS, Run, every_channel, is_heard, quieting, unique_keys
from hypotaxis.devices.timeline import Timeline

PATIENCE_S = 5.0
"""How long it may take until the server freewheels."""
SETTLED = 4
"""Periods after which a new connection carries: the server takes them over between periods, some later than asked."""
STARVED_S = 0.4
"""How long a freewheeling period waits for its source: servers put clients out that take half a second."""


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


class JackEngine:
    """The client. One run at a time."""

    stalled = False
    gone_words = "The JACK server has gone. Start it again; what came until then is kept."

    def __init__(self, wanted: Wanted) -> None:
        self._jack = jack_library()
        server = wanted.server
        try:
            self.client = self._jack.Client(CLIENT, no_start_server=True, servername=server or None)
        except self._jack.JackError as error:
            named = f"“{server}” " if server else ""
            raise ServerGone(f"No JACK server {named}answers. Start it, or choose another studio.") from error
        self.server = server or "default"
        self.xruns = 0
        self.gone = threading.Event()
        self.failed = ""
        self._run: _JackRun | None = None
        self._quiet: dict[str, list[bytes]] = {}
        self._silent = threading.Event()
        self._changed = threading.Event()
        self._periods = 0
        self._waiting: dict[str, deque[bytes]] = {}
        self._sends: dict[str, object] = {}
        self._hears: dict[str, object] = {}
        self._ins: list = []
        self._outs: dict[str, object] = {}
        self._own: dict[tuple[OwnEnd, str], object] = {}
        for end in wanted.own:
            self._offer(end)
        self.client.set_process_callback(self._process)
        self.client.set_xrun_callback(self._xrun)
        self.client.set_freewheel_callback(lambda on: self._changed.set())
        self.client.set_shutdown_callback(lambda status, reason: self.gone.set())
        self.client.activate()

    # --- between runs

    def _offer(self, end: OwnEnd) -> None:
        """Open a port of our own, which other programs connect to."""
        kind = (self.client.midi_inports, self.client.midi_outports)
        if end.kind != MIDI:
            kind = (self.client.inports, self.client.outports)
        opened = kind[end.direction == "out"].register(end.name)
        name = f"{CLIENT}:{end.name}"
        self._own[end, name] = opened
        if end.direction == "out":
            (self._sends if end.kind == MIDI else self._outs)[name] = opened
        elif end.kind == MIDI:
            self._hears[name] = opened

    def look(self) -> Reported:
        """What the server offers now."""

        def of(**kind):
            return [port for port in self.client.get_ports(**kind) if not OURS.match(port.name)]

        ports, audio = [], {}
        for direction, mode in (("out", PLAYBACK), ("in", CAPTURE)):
            way = {"is_input": True} if direction == "out" else {"is_output": True}
            found = of(is_midi=True, **way)
            keys = unique_keys(key_of(port.name) for port in found)
            ports += [Port(port.name, direction, key=key) for port, key in zip(found, keys, strict=True)]
            found = of(is_audio=True, **way)
            keys = unique_keys(key_of(port.name) for port in found)
            audio[direction] = [
                AudioEnd(port.name, key, port.is_physical, latency_frames(self._jack, port, mode))
                for port, key in zip(found, keys, strict=True)
            ]
        for end, name in self._own:
            if end.kind == MIDI:
                ports.append(Port(name, end.direction, key=name, own=True))
            else:
                audio[end.direction].append(AudioEnd(name, name, physical=False, own=True))
        return Reported(
            studio=JACK,
            server=self.server,
            rate=self.client.samplerate,
            buffer=self.client.blocksize,
            realtime=self.client.realtime,
            ports=tuple(ports),
            inputs=tuple(audio["in"]),
            outputs=tuple(audio["out"]),
        )

    @property
    def refusal(self) -> tuple[type[Exception], ...]:
        """What the binding raises when the server does not do as it is asked."""
        return (self._jack.JackError,)

    def begin(self, setup: RunSetup, sends: Sequence[str]) -> Run:
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
        own = {name: port for (_, name), port in self._own.items()}
        ins = []
        for place, name in enumerate(setup.inputs):
            if name in own:
                ins.append(own[name])
                continue
            while len(self._ins) <= place:
                self._ins.append(self.client.inports.register(f"in_{len(self._ins) + 1}"))
            self._join(name, self._ins[place], alone=True)
            ins.append(self._ins[place])
        # What is plugged in again has lost its connection: so each is joined anew. The callback goes over these dicts
        # at any time, so they are exchanged and never changed.
        for name in outputs:
            if name not in self._outs:
                opened = self.client.outports.register(f"out_{len(self._outs) + 1}")
                self._outs = {**self._outs, name: opened}
            if name not in own:
                self._join(self._outs[name], name)
        for name in (port.system_name for port in there.ports if port.direction == "in" and not port.own):
            if name not in self._hears:
                opened = self.client.midi_inports.register(f"from_{len(self._hears) + 1}")
                self._hears = {**self._hears, name: opened}
            self._join(name, self._hears[name])
        self._open_sends(there, sorted({*sends, *(rule.out for rule in setup.echo)}))
        self._let_pass(SETTLED)
        if setup.fast:
            self._freewheel(True)
        run = _JackRun(setup, self.client.samplerate, ins)
        self._run = run
        return run

    def _let_pass(self, periods: int) -> None:
        """Wait while so many periods begin."""
        until, patience = self._periods + periods, time.monotonic() + PATIENCE_S
        while self._periods < until and time.monotonic() < patience and not self.gone.is_set():
            time.sleep(0.001)

    def _open_sends(self, there: Reported, names: Sequence[str]) -> None:
        """Have a port of our own for each port that notes leave by. Raises PortMissing."""
        offered = {port.system_name: port for port in there.ports if port.direction == "out"}
        for name in names:
            if name not in offered:
                raise PortMissing(f"JACK does not report a MIDI output “{name}”. Is it switched on and bridged?")
            if name not in self._sends:
                opened = self.client.midi_outports.register(f"to_{len(self._sends) + 1}")
                self._sends = {**self._sends, name: opened}
            if not offered[name].own:
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
        run, self._waiting = self._run, {}
        self.end()
        used = sorted(run.used) if run else []
        self._send_quiet(quieting(dict.fromkeys([*used, *every_channel(self._sends)])))

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
        """Write what leaves in this period; what finds no room goes with the next, in its order."""
        for name, waiting in self._waiting.items():
            while waiting:
                rest = self._write_one(name, 0, waiting[0])
                if rest:
                    waiting[0] = rest
                    break
                waiting.popleft()
        for name, rows in events.items():
            waiting = self._waiting.setdefault(name, deque())
            for offset, data in sorted(rows, key=lambda row: row[0]):
                ahead = waiting and data[0] < REAL_TIME
                rest = data if ahead else self._write_one(name, offset, data)
                if rest:
                    waiting.append(rest)

    def _write_one(self, name: str, offset: int, data: bytes) -> bytes:
        """Write a message; what of it finds no room in this period: all of it, or the rest of a SysEx."""
        port = self._sends[name]
        room = port.max_event_size
        if room >= len(data):
            port.write_midi_event(offset, data)
            return b""
        # A rest begins with a data byte.
        long = data[0] == EXCLUSIVE or data[0] < FIRST_STATUS
        if not long or room == 0:
            return data
        port.write_midi_event(offset, data[:room])
        return data[room:]


class _JackRun(Run):
    """One run in the callback, MIDI and audio on its frames."""

    def __init__(self, setup: RunSetup, rate: int, ins: list) -> None:
        super().__init__(setup, rate)
        self.ins = ins

    def period(self, frames: int, now: int, hears: dict) -> dict[str, list[tuple[int, bytes]]]:
        """One period of the server: what leaves, by port, as (frame within it, bytes)."""
        came = [
            (offset, name, bytes(data)) for name, port in hears.items() for offset, data in port.incoming_midi_events()
        ]
        came = [row for row in came if is_heard(row[2])]
        came.sort(key=lambda row: row[0])
        if self.timeline is None:
            first = self._beginning(came)
            if first is None or self.until == 0 or self.over.is_set():
                return {}
            self.timeline = Timeline(now + first)
            came = [row for row in came if row[0] >= first]
        else:
            first = 0
        if self.over.is_set():
            return {}
        self._wait(self.timeline.count + frames)
        lost = self.timeline.period(now + first, frames - first)
        start = self.timeline.count - (frames - first)
        events, sent, received = self._leaving(start, frames - first), [], []
        for offset, name, data in came:
            message = Message(round((start + offset - first) * 1e9 / self.rate), name, data)
            received.append(message)
            for out in self.echo(message):
                sent.append(out)
                events.setdefault(out.port, []).append((offset - first, out.data))
                self.note(out)
        self.record(start, frames - first, self._samples, lost, received, sent)
        self.play(start, first, frames, self._samples)
        return {name: [(first + offset, data) for offset, data in rows] for name, rows in events.items()}

    def _samples(self, column: int):
        return self.ins[column].get_array()

    def _beginning(self, came: Sequence[tuple[int, str, bytes]]) -> int | None:
        """At which frame of the period the run begins; None = not in this one."""
        if self.setup.begins == AT_ONCE:
            return 0
        return next((offset for offset, name, data in came if self.begins_with(name, data)), None)

    def _wait(self, until: int) -> None:
        """Of a freewheeling run: until the source has caught up."""
        if self.setup.fast:
            with self.fed:
                self.fed.wait_for(lambda: self.until >= until or self.over.is_set(), STARVED_S)

    def _leaving(self, start: int, frames: int) -> dict[str, list[tuple[int, bytes]]]:
        events: dict[str, list[tuple[int, bytes]]] = {}
        while self.messages and self.messages[0][0] < start + frames:
            at, message = self.messages.popleft()
            self.late += at < start
            events.setdefault(message.port, []).append((max(0, at - start), message.data))
            self.note(message)
        return events
