"""A JACK server with a dummy driver, and the truth box beside it; ended by their ids."""

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
import uuid
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from hypotaxis.core.studio import JACK, Wanted
from hypotaxis.devices.process import DeviceProcess

ROOT = Path(__file__).parents[2]
RATE, PERIOD = 48_000, 256
PATIENCE_S = 60
CLIENT_MS = 5_000
"""A server lets go of a client that does not answer for so long: a busy machine may hold one up for seconds."""
SOUND_FONT = "/usr/share/sounds/sf2/TimGM6mb.sf2"
ON_JACK = Wanted(kind=JACK)


class Server:
    """A running server. sync: it waits for its clients, so that nothing is lost without the rights of real time."""

    def __init__(self, *, sync: bool = True, name: str = "") -> None:
        self.name = name or f"hypotaxis-{os.getpid()}-{uuid.uuid4().hex[:6]}"
        mode = ["-S"] if sync else []
        options = ["-d", "dummy", "-r", str(RATE), "-p", str(PERIOD), "-C", "8", "-P", "8"]
        self.process = subprocess.Popen(
            ["jackd", "-n", self.name, "-r", *mode, "-t", str(CLIENT_MS), *options],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        subprocess.run(["jack_wait", "-s", self.name, "-w", "-t", "20"], check=False, capture_output=True)

    def end(self) -> None:
        """Let it go. Killed outright, a server leaves its place in a small table of the system taken."""
        self.process.terminate()
        try:
            self.process.wait(20)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


class Truth:
    """The truth box, and what it has heard."""

    def __init__(self, server: Server, name: str = "truth") -> None:
        command = [sys.executable, "-m", "tests.devices.truth", server.name, name]
        self.process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True, cwd=ROOT)
        self.process.stdout.readline()
        self.heard: list[str] = []
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        for line in self.process.stdout:
            self.heard.append(line.strip())

    def press(self) -> None:
        """Press its key."""
        self.process.send_signal(signal.SIGUSR1)

    def wait_for(self, data: str) -> None:
        """Until it has heard these bytes, or fail."""
        until = time.monotonic() + PATIENCE_S
        while data not in self.heard:
            if time.monotonic() > until:
                raise AssertionError(f"{data} did not arrive: {self.heard}")
            time.sleep(0.01)

    def end(self) -> None:
        """Switch it off: its ports are gone."""
        self.process.terminate()
        self.process.wait()
        self._reader.join()
        self.process.stdout.close()


class Synthesizer:
    """A synthesizer in software as a stranger: it starts notes with periods, and its attack is its own."""

    notes, left, right = "reedpipe:midi_00", "reedpipe:left", "reedpipe:right"

    def __init__(self, server: Server) -> None:
        names = [f"{what}.jack.{key}" for what in ("audio", "midi") for key in ("server", "id")]
        options = zip(names, [server.name, "reedpipe"] * 2, strict=True)
        command = ["fluidsynth", "-a", "jack", "-m", "jack", "-r", str(RATE), "-o", "audio.jack.autoconnect=0"]
        command += [word for name, value in options for word in ("-o", f"{name}={value}")]
        # It ends when what it reads commands from ends.
        self.process = subprocess.Popen(
            [*command, SOUND_FONT], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )

    def end(self) -> None:
        """Switch it off."""
        self.process.stdin.close()
        self.process.wait(PATIENCE_S)


@contextlib.contextmanager
def a_desk(
    *, sync: bool = True, name: str = "", wanted: Wanted = ON_JACK
) -> Iterator[tuple[Server, Truth, DeviceProcess]]:
    """A server, the truth box, and the device process on it."""
    server = Server(sync=sync, name=name)
    truth = Truth(server)
    process = None
    folder = tempfile.TemporaryDirectory()
    try:
        log = Path(folder.name) / "devices.log"
        process = DeviceProcess(replace(wanted, server=server.name), f"{folder.name}/panic.sock", str(log))
        yield server, truth, process
    finally:
        if process:
            if process.died:
                # A crash of a library is told by nothing else.
                sys.stderr.write(log.read_text())
            process.close()
        truth.end()
        server.end()
        folder.cleanup()
