"""What the system offers of audio and MIDI, in the device process: PortAudio for the one, RtMidi for the other.

Two clocks: MIDI leaves and comes on the computer's, audio on the interface's crystal. A run's time zero is a frame of
the audio, and the moment of the computer's clock at which that frame is handed over: the median over the last seconds
of (moment of a period − its first frame at the nominal rate), which holds where following each period does not.
"""

import os
import re
import sys
import threading
import time
from collections import deque
from collections.abc import Sequence
from contextlib import suppress
from functools import cached_property
from statistics import median

import numpy as np

from hypotaxis.core.errors import LibraryMissing, PortMissing, PortTaken, ServerGone, StudioTrouble
from hypotaxis.core.studio import (
    AT_ONCE,
    EVERY,
    MIDI,
    PORTABLE,
    AudioEnd,
    Message,
    OwnEnd,
    Port,
    Reported,
    RunSetup,
    Wanted,
)
from hypotaxis.devices.run import CLIENT, INSTALL, OURS, Run, every_channel, is_heard, quieting, unique_keys
from hypotaxis.devices.timeline import WRAP, Timeline

BUFFER = 256
"""Frames a period where none are asked for."""
SETTLE_S = 2.0
"""Over which the two clocks are laid side by side."""
LEAD_IN_S = 0.02
"""How far ahead of its first frame a run is prepared, so that what leaves first is in time."""
STALLED_S = 3.0
"""An interface that has delivered nothing for so long has gone."""
POLL_S = 0.001
PREFERRED = ("Core Audio", "Windows WASAPI", "ALSA", "JACK Audio Connection Kit")
"""Of several ways to the same interfaces, the first that has some."""
OF_JACK = "JACK Audio Connection Kit"
OF_PROGRAMS = "PortAudio"
ASKED_SERVER = "JACK_DEFAULT_SERVER"
"""By which both libraries' JACK back ends find a server that has another name (JACK API, environment)."""


def portable_libraries():
    """The bindings to PortAudio and RtMidi. Raises LibraryMissing with the command to type."""
    try:
        import rtmidi
        import sounddevice
    except (ImportError, OSError) as error:
        words = f"The libraries for system audio and MIDI are not installed. Type “{INSTALL}”, then look again."
        raise LibraryMissing(words) from error
    return sounddevice, rtmidi


def key_of(name: str) -> str:
    """What stays of a name from start to start: systems number devices anew.

    >>> key_of("Heron 61:Heron 61 MIDI 1 24:0"), key_of("Quayside 18: USB Audio (hw:1,0): 3")
    ('Heron 61:Heron 61 MIDI 1', 'Quayside 18: USB Audio: 3')
    """
    name = re.sub(r"\s*\(hw:\d+,\d+\)", "", name)
    name = re.sub(r"\s+\d+:\d+$", "", name)
    return re.sub(r"\s+\d+$", "", name) if sys.platform == "win32" else name


class PortableEngine:
    """Audio and MIDI of the system. One run at a time."""

    gone_words = "The interface has stopped delivering. See whether it is plugged in and switched on, then look again."

    def __init__(self, wanted: Wanted) -> None:
        if wanted.server:
            os.environ[ASKED_SERVER] = wanted.server
        self._audio, self._rtmidi = portable_libraries()
        if any(end.kind != MIDI for end in wanted.own):
            raise StudioTrouble("Audio of our own for other programs is offered on JACK only. Take it out of the list.")
        self.wanted = wanted
        self.xruns = 0
        self.gone = threading.Event()
        self.failed = ""
        self._api = self._audio_api()
        self._midi_api = self._choose_midi()
        self._run: _PortableRun | None = None
        self._stream, self._opened = None, (None, 0, None, 0)
        self._count = 0
        self._due_s, self._jump = 0.0, 0
        self._stamps: deque[float] = deque()
        self._beat = time.monotonic()
        self._outs: dict[str, _Out] = {}
        self._ins: dict[str, object] = {}
        self._own: dict[str, OwnEnd] = {}
        self._asking_in, self._asking_out = self._midi("MidiIn"), self._midi("MidiOut")
        for end in wanted.own:
            self._offer(end)
        self._sender = threading.Thread(target=self._send_in_time, daemon=True)
        self._sending = threading.Event()
        self._sender.start()

    # --- what there is

    def _audio_api(self) -> dict:
        """The host API whose devices are offered. Raises ServerGone where there is none with devices."""
        found = {api["name"]: api for api in self._audio.query_hostapis() if api["devices"]}
        if self.wanted.server:
            found = {name: api for name, api in found.items() if name == OF_JACK}
        chosen = next((found[name] for name in PREFERRED if name in found), next(iter(found.values()), None))
        if chosen is None:
            named = f"No JACK server “{self.wanted.server}” answers" if self.wanted.server else "The system offers none"
            raise ServerGone(f"No audio device is there. {named}. Plug the interface in and look again.")
        return chosen

    def _choose_midi(self) -> int | None:
        """The MIDI interface of the system; None where it has none."""
        for api in self._rtmidi.get_compiled_api():
            if self.wanted.server and api != self._rtmidi.API_UNIX_JACK:
                continue
            try:
                self._rtmidi.MidiOut(api).delete()
            except self._rtmidi.SystemError:
                continue
            return api
        return None

    def _midi(self, kind: str, name: str = CLIENT):
        """A MidiIn or MidiOut of the library; None where the system has no MIDI."""
        return None if self._midi_api is None else getattr(self._rtmidi, kind)(self._midi_api, name)

    def _offer(self, end: OwnEnd) -> None:
        """Open a port of our own, which other programs connect to."""
        if sys.platform == "win32":
            raise StudioTrouble("Windows offers no ports of our own for other programs. Take them out of the list.")
        opened = self._midi("MidiOut" if end.direction == "out" else "MidiIn")
        if opened is None:
            raise StudioTrouble("The system offers no MIDI, so no port of our own either. Take it out of the list.")
        opened.open_virtual_port(end.name)
        name = f"{CLIENT}:{end.name}"
        self._own[name] = end
        if end.direction == "out":
            self._outs[name] = _Out(opened)
        else:
            self._hear(name, opened)

    def _every_device(self, way: str) -> list[dict]:
        """The devices that have inputs or outputs; other programs' streams, which JACK lists too, are none."""
        found = [self._audio.query_devices(index) for index in self._api["devices"]]
        return [one for one in found if one[f"max_{way}_channels"] and not one["name"].startswith(OF_PROGRAMS)]

    def _devices(self, way: str) -> list[dict]:
        """The devices that have inputs or outputs (way "input" or "output") and are wanted."""
        asked = self.wanted.input_device if way == "input" else self.wanted.output_device
        found = self._every_device(way)
        if asked in ("", EVERY):
            default = [one for one in found if one["index"] == self._api[f"default_{way}_device"]]
            return found if asked == EVERY else default or found[:1]
        return [one for one in found if one["name"] == asked]

    def _ends(self, way: str) -> list[tuple[AudioEnd, dict, int]]:
        """(end, its device, its channel from 0) of all that is wanted."""
        rows = [(one, channel) for one in self._devices(way) for channel in range(one[f"max_{way}_channels"])]
        names = [f"{one['name']}: {channel + 1}" for one, channel in rows]
        keys = unique_keys(map(key_of, names))
        latencies = [round(one[f"default_low_{way}_latency"] * self.rate) for one, _ in rows]
        ends = [AudioEnd(*row) for row in zip(names, keys, (True for _ in rows), latencies, strict=False)]
        return [(end, *row) for end, row in zip(ends, rows, strict=True)]

    @cached_property
    def rate(self) -> int:
        """At which it is opened, Hz; asked once, since the callback needs it and must not ask the library."""
        devices = [*self._devices("input"), *self._devices("output")]
        return self.wanted.rate or round(devices[0]["default_samplerate"] if devices else 48_000)

    @property
    def refusal(self) -> tuple[type[Exception], ...]:
        """What the bindings raise when the system does not do as it is asked. Some of RtMidi's are OSErrors."""
        return self._audio.PortAudioError, self._rtmidi.RtMidiError

    def look(self) -> Reported:
        """What the system offers now. Devices of audio are those that were there when the process began."""
        for device, way in ((self.wanted.input_device, "input"), (self.wanted.output_device, "output")):
            if device not in ("", EVERY) and not self._devices(way):
                raise PortMissing(f"The audio device “{device}” is not there. Plug it in, or choose another.")
        ports = []
        for direction, asked in (("out", self._asking_out), ("in", self._asking_in)):
            names = [name for name in (asked.get_ports() if asked else []) if not OURS.match(name)]
            keys = unique_keys(map(key_of, names))
            ports += [Port(name, direction, key=key) for name, key in zip(names, keys, strict=True)]
        ports += [Port(name, end.direction, key=name, own=True) for name, end in self._own.items()]
        return Reported(
            studio=PORTABLE,
            server=self._api["name"],
            rate=self.rate,
            buffer=self.wanted.buffer or BUFFER,
            realtime=None,
            ports=tuple(ports),
            inputs=tuple(end for end, _, _ in self._ends("input")),
            outputs=tuple(end for end, _, _ in self._ends("output")),
            one_clock=False,
            input_devices=_names(self._every_device("input")),
            output_devices=_names(self._every_device("output")),
            devices=_names([*self._devices("input"), *self._devices("output")]),
        )

    # --- between runs

    def begin(self, setup: RunSetup, sends: Sequence[str]) -> Run:
        """Open what the run needs, then let it begin with its first feed. Raises PortMissing, PortTaken."""
        outputs = sorted({*setup.outputs, *(one.output for one in setup.passed)})
        in_device, ins = self._found("input", setup.inputs)
        out_device, outs = self._found("output", outputs)
        for name in sorted({*sends, *(rule.out for rule in setup.echo)}):
            self._open_out(name)
        self._open_ins()
        self._open_stream(in_device, max(ins, default=0) + 1, out_device, max(outs, default=0) + 1)
        run = _PortableRun(setup, self.rate, ins, dict(zip(outputs, outs, strict=True)), self._zero(), self._send)
        self._run = run
        self._sending.set()
        return run

    def _found(self, way: str, names: Sequence[str]) -> tuple[dict | None, list[int]]:
        """The one device that these inputs or outputs belong to, and their channels from 0."""
        ends = {end.name: (device, channel) for end, device, channel in self._ends(way)}
        for name in names:
            if name not in ends:
                raise PortMissing(f"The system does not report an audio {way} “{name}”. Is it switched on?")
        devices = {ends[name][0]["index"]: ends[name][0] for name in names}
        if len(devices) > 1:
            both = " and ".join(one["name"] for one in devices.values())
            raise StudioTrouble(f"One run goes through one interface: {both} have a clock each.")
        return next(iter(devices.values()), None), [ends[name][1] for name in names]

    def _open_out(self, name: str) -> None:
        if name in self._outs:
            if name in self._own or name in self._asking_out.get_ports():
                return
            self._make_way()
            self._outs.pop(name).port.delete()
        offered = self._asking_out.get_ports() if self._asking_out else []
        if name not in offered:
            raise PortMissing(f"The system does not report a MIDI output “{name}”. Is it switched on?")
        self._make_way()
        opened = self._midi("MidiOut")
        try:
            opened.open_port(offered.index(name), "to")
        except self._rtmidi.SystemError as error:
            raise PortTaken(f"Another program holds the MIDI output “{name}”. Close it, then try again.") from error
        self._outs[name] = _Out(opened)

    def _open_ins(self) -> None:
        """Hear every port that can be opened; one that another program holds is not heard."""
        offered = self._asking_in.get_ports() if self._asking_in else []
        for name in [name for name in self._ins if name not in offered and name not in self._own]:
            self._make_way()
            self._ins.pop(name).delete()
        for place, name in enumerate(offered):
            if name in self._ins or OURS.match(name):
                continue
            self._make_way()
            opened = self._midi("MidiIn")
            try:
                opened.open_port(place, "from")
            except self._rtmidi.SystemError:
                continue
            self._hear(name, opened)

    def _make_way(self) -> None:
        """Before a MIDI port is opened or let go. On JACK it is a client, which the server lets in or out between two
        periods; the binding holds Python's lock meanwhile, and the callback, which needs it, would hold up the period.
        """
        if self._midi_api == self._rtmidi.API_UNIX_JACK:
            self._close_stream()

    def _hear(self, name: str, opened) -> None:
        opened.ignore_types(sysex=False, timing=False, active_sense=True)
        opened.set_callback(lambda event, of: self._came(name, bytes(event[0])))
        self._ins[name] = opened

    def _open_stream(self, in_device: dict | None, ins: int, out_device: dict | None, outs: int) -> None:
        """Have a stream that has these channels, the one that is open if it has; then wait until the clocks are known.
        A run without audio counts on whatever is there."""
        if in_device is None and out_device is None and self._stream is None:
            in_device = next(iter(self._devices("input")), None)
            out_device = None if in_device else next(iter(self._devices("output")), None)
        wanted = (in_device and in_device["index"], ins, out_device and out_device["index"], outs)
        if not self._holds(wanted):
            self._close_stream()
            self._opened = wanted
            common = {"samplerate": self.rate, "blocksize": self.wanted.buffer or BUFFER, "dtype": "float32"}
            common |= {"latency": "low", "finished_callback": self._finished}
            if out_device is None:
                made = self._audio.InputStream(
                    device=wanted[0], channels=ins, callback=lambda i, *rest: self._period(i, None, *rest), **common
                )
            elif in_device is None:
                made = self._audio.OutputStream(
                    device=wanted[2], channels=outs, callback=lambda o, *rest: self._period(None, o, *rest), **common
                )
            else:
                made = self._audio.Stream(
                    device=(wanted[0], wanted[2]), channels=(ins, outs), callback=self._period, **common
                )
            self._stamps, self._count = deque(maxlen=self._enough), 0
            self._due_s, self._jump = 0.0, 0
            self._stream = made
            made.start()
        patience = time.monotonic() + STALLED_S + SETTLE_S
        while len(self._stamps) < self._enough and time.monotonic() < patience and not self.gone.is_set():
            time.sleep(0.01)
        if len(self._stamps) < self._enough:
            raise ServerGone(self.gone_words)

    def _holds(self, wanted: tuple) -> bool:
        """Whether the stream that is open serves what is wanted."""
        in_device, ins, out_device, outs = wanted
        has_in, has_ins, has_out, has_outs = self._opened
        return (
            self._stream is not None
            and (in_device is None or (in_device == has_in and ins <= has_ins))
            and (out_device is None or (out_device == has_out and outs <= has_outs))
        )

    @property
    def _enough(self) -> int:
        return round(SETTLE_S * self.rate / (self.wanted.buffer or BUFFER))

    def _zero(self) -> float:
        """The moment (ns of the computer's clock) of the stream's frame 0, as the last seconds have it."""
        return median(list(self._stamps))

    def _close_stream(self) -> None:
        stream, self._stream = self._stream, None
        if stream:
            stream.close(ignore_errors=True)

    def end(self) -> None:
        """End the run and silence what it used."""
        run, self._run = self._run, None
        self._sending.clear()
        if run is None:
            return
        run.over.set()
        self._quiet(run.quiet())
        # The period in which it was taken out has ended when the next begins.
        before, patience = self._count, time.monotonic() + 1.0
        while self._count == before and time.monotonic() < patience and not self.gone.is_set():
            time.sleep(POLL_S)
        run.rest()

    def silence(self) -> None:
        """End what runs, and silence every channel of every port that notes have left by; those of the run first."""
        run = self._run
        self.end()
        used = sorted(run.used) if run else []
        self._quiet(quieting(dict.fromkeys([*used, *every_channel(self._outs)])))

    def _quiet(self, quiet: dict[str, list[bytes]]) -> None:
        for name, rows in quiet.items():
            # A port that is gone is silent, and must not keep the others from being silenced.
            with suppress(self._rtmidi.RtMidiError):
                for data in rows:
                    self._outs[name].send(data)

    def close(self) -> None:
        """Silence first, then let go."""
        self.end()
        if not self.gone.is_set():
            self._close_stream()
        # On JACK each is a client of its own, as PortAudio is; a synchronous server waits for ever for one that left
        # without a word. Where the server has gone, PortAudio's clearing up would end the process instead.
        ports = [self._asking_in, self._asking_out, *self._ins.values(), *(out.port for out in self._outs.values())]
        for one in filter(None, ports):
            with suppress(self._rtmidi.RtMidiError):
                one.delete()
        if not self.gone.is_set():
            self._audio._terminate()

    @property
    def stalled(self) -> bool:
        """Whether an interface that is open has stopped delivering without a word."""
        return self._stream is not None and time.monotonic() > self._beat + STALLED_S

    # --- in the audio's callback

    def _finished(self) -> None:
        if self._stream is not None:
            self.gone.set()

    def _missing(self, arrived_s: float, frames: int, *, overflow: bool) -> int:
        """Frames that seem to be missing before this period. An overflow is not told in frames, and some systems tell
        one where only a period was late: so whole periods are counted by the times of what comes, and only what the
        next period shows as well is believed."""
        due_s, doubted = self._due_s, overflow or self._jump > 0
        jump = max(0, round((arrived_s - due_s) * self.rate / frames)) * frames if doubted and due_s else 0
        self._due_s = (due_s if jump else arrived_s) + frames / self.rate
        return jump

    def _period(self, coming, going, frames: int, times, status) -> None:
        try:
            now_ns = time.monotonic_ns()
            self._beat = now_ns / 1e9
            if status:
                self.xruns += 1
            jump = self._missing(times.inputBufferAdcTime, frames, overflow=bool(status and status.input_overflow))
            self._stamps.append(now_ns - self._count * 1e9 / self.rate)
            run = self._run
            if run:
                run.period(frames, self._count + jump, coming)
            if jump and jump == self._jump:
                # It stays: the frames are lost, as the run's own count has just found.
                self._count, self._due_s, jump = self._count + jump, 0.0, 0
            self._jump = jump
            self._count += frames
            if going is not None:
                going[:] = 0.0
                for name, sound in (run.playing if run else {}).items():
                    going[:, run.outs[name]] = sound
        except Exception as error:
            self.failed = f"{type(error).__name__}: {error}"
            self._run = None

    # --- in MIDI's threads

    def _came(self, name: str, data: bytes) -> None:
        run = self._run
        if run and is_heard(data):
            run.came(time.monotonic_ns(), name, data)

    def _send(self, message: Message) -> None:
        self._outs[message.port].send(message.data)

    def _send_in_time(self) -> None:
        """Send what leaves, each at its time by the computer's clock."""
        while True:
            self._sending.wait()
            run = self._run
            try:
                wait_s = run.send_due(time.monotonic_ns()) if run else POLL_S
            except Exception as error:
                # Without this thread nothing would leave any more, and no run would say so.
                self.failed = f"{type(error).__name__}: {error}"
                wait_s = POLL_S
            time.sleep(min(POLL_S, wait_s))


def _names(devices: list[dict]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(one["name"] for one in devices))


class _Out:
    """A MIDI output that several threads send by."""

    def __init__(self, port) -> None:
        self.port = port
        self._lock = threading.Lock()

    def send(self, data: bytes) -> None:
        """Hand the bytes to the driver."""
        with self._lock:
            self.port.send_message(data)


class _PortableRun(Run):
    """One run: audio in the callback, MIDI beside it."""

    def __init__(self, setup: RunSetup, rate: int, ins: list[int], outs: dict[str, int], zero_ns: float, send) -> None:
        super().__init__(setup, rate)
        self.ins, self.outs = ins, outs
        self._stream_zero_ns, self._send = zero_ns, send
        self._zero_ns: float | None = None
        self._first: int | None = None
        """The stream's frame at which the run begins."""
        self._first_came: tuple[int, str, bytes] | None = None
        self._before: np.ndarray | None = None
        self._received: deque[Message] = deque()
        self._sent: deque[Message] = deque()
        self._lock = threading.Lock()

    def came(self, stamp_ns: int, name: str, data: bytes) -> None:
        """Take in a message, and send at once what it plays."""
        with self._lock:
            if self._zero_ns is None:
                if not self.begins_with(name, data):
                    return
                self._zero_ns = stamp_ns
                self._first = round((stamp_ns - self._stream_zero_ns) * self.rate / 1e9)
            message = Message(round(stamp_ns - self._zero_ns), name, data)
            if message.time_ns < 0:
                return
            self._received.append(message)
            for out in self.echo(message):
                self._send(out)
                self._sent.append(out)
                self.note(out)

    def send_due(self, now_ns: int) -> float:
        """Send what is due; returns in how many seconds the next is."""
        zero_ns = self._zero_ns
        while zero_ns is not None and self.messages and not self.over.is_set():
            _, message = self.messages[0]
            wait_s = (zero_ns + message.time_ns - now_ns) / 1e9
            if wait_s > 0:
                return wait_s
            self.messages.popleft()
            self._send(message)
            self.note(message)
            self.late += -wait_s > BUFFER / self.rate
            now_ns = time.monotonic_ns()
        return POLL_S

    def period(self, frames: int, count: int, coming: np.ndarray | None) -> None:
        """One period: `count` is the stream's frame at which it begins, coming its samples (frames, channels)."""
        before, self._before = self._before, None if coming is None else coming.copy()
        if self.until == 0 or self.over.is_set():
            return
        if self._first is None and self.setup.begins == AT_ONCE:
            self._first = count + round(LEAD_IN_S * self.rate)
            self._zero_ns = self._stream_zero_ns + self._first * 1e9 / self.rate
        if self._first is None or count + frames <= self._first:
            return
        samples, first = self._of(coming, frames), max(0, self._first - count)
        if self.timeline is None:
            self.timeline = Timeline(self._first % WRAP)
            past = count - self._first
            if past > 0:
                # It began with a message that came within what has just gone by.
                self._take(self._first, self._of(before, past), past)
        self._take(count + first, samples, frames - first)
        self.play(self.timeline.count - (frames - first), first, frames, samples)

    def _take(self, at: int, samples, frames: int) -> None:
        lost = self.timeline.period(at % WRAP, frames)
        came = [self._received.popleft() for _ in range(len(self._received))]
        sent = [self._sent.popleft() for _ in range(len(self._sent))]
        self.record(self.timeline.count - frames, frames, samples, lost, came, sent)

    def _of(self, coming: np.ndarray | None, frames: int):
        """The samples of an input by its place; silence where there are none."""
        silence = np.zeros(frames, np.float32)

        def read(place: int) -> np.ndarray:
            if coming is None:
                return silence
            held = coming[-frames:, self.ins[place]]
            return np.pad(held, (frames - len(held), 0))

        return read
