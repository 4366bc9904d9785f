"""The device process: one for as long as the application runs, restarted when it dies.

Inside, the audio's callback and one thread beside it: commands come by a pipe, blocks go by it. Garbage is not
collected there, since a collection takes longer than a period.
"""

import gc
import os
import socket
import subprocess
import sys
import time
import traceback
from contextlib import suppress
from multiprocessing.connection import Connection, wait
from pathlib import Path

import numpy as np

from hypotaxis.core import errors
from hypotaxis.core.errors import ServerGone, StudioTrouble
from hypotaxis.core.studio import JACK, Block, Reported, Wanted
from hypotaxis.devices.jack_engine import JackEngine
from hypotaxis.devices.panic import answer, listen_at
from hypotaxis.devices.portable_engine import PortableEngine
from hypotaxis.devices.protocol import Begin, Came, Ended, Feed, Look, Open, Stop, Trouble

ROOT = Path(__file__).parents[2]
POLL_S = 0.005
LEAST_FRAMES = 960
"""Frames that are gathered before they go over the pipe."""
START_S = 20.0
"""How long the process may take until it answers first."""
ANSWER_S = 10.0
WAITING_S = 0.05
"""How often a run that waits for its beginning says so."""
HEAR_OUT_S = 0.5
END_S = 2.0
"""How long a process whose pipe has closed may take until it can be said how it ended."""
LEFT = (EOFError, BrokenPipeError, ConnectionResetError)
"""How the device process learns that the application has let go of its end."""


class DeviceProcess:
    """The application's end of the pipe. Raises ServerGone and LibraryMissing where it cannot be started."""

    def __init__(self, wanted: Wanted, panic: str = "", log: str = "") -> None:
        """panic: path of the local socket by which silence is asked for; log: of the file that keeps what the process
        says when it fails; "" = none."""
        self.wanted, self.panic, self.log = wanted, panic, log
        self._process = None
        self._start()

    def _start(self) -> None:
        ours, theirs = socket.socketpair()
        command = [sys.executable, "-m", "hypotaxis.devices", str(theirs.fileno())]
        path = os.pathsep.join(filter(None, (str(ROOT), os.environ.get("PYTHONPATH", ""))))
        with open(self.log or os.devnull, "ab") as said:
            self._process = subprocess.Popen(
                command, pass_fds=[theirs.fileno()], env=os.environ | {"PYTHONPATH": path}, stderr=said
            )
        theirs.close()
        self._pipe = Connection(ours.detach())
        self._ended = False
        self.tell(Open(self.wanted, self.panic))
        self.look(START_S)

    @property
    def pid(self) -> int:
        """Its number, for those who look after processes."""
        return self._process.pid

    @property
    def died(self) -> bool:
        """Whether it has ended by itself, and not in order."""
        return self._process.poll() not in (None, 0)

    @property
    def ended(self) -> bool:
        """Whether it is to be started again, which looking does."""
        return self._ended or self._process.poll() is not None

    def look(self, wait_s: float = ANSWER_S) -> Reported:
        """What is there now. A process that has ended is started again first."""
        if self.ended:
            self.close()
            self._start()
        self.tell(Look())
        return self.hear(wait_s)

    def tell(self, command) -> None:
        """Send a command."""
        try:
            self._pipe.send(command)
        except OSError as error:
            raise self._died() from error

    def hear(self, wait_s: float = ANSWER_S):
        """The next answer. Raises the named trouble, ServerGone where none comes."""
        try:
            if not self._pipe.poll(wait_s):
                self._ended = True
                raise ServerGone("The device process does not answer. Look at the audio server, then try again.")
            answer = self._pipe.recv()
        except (EOFError, OSError) as error:
            raise self._died() from error
        if isinstance(answer, Trouble):
            self._ended = answer.kind == ServerGone.__name__
            raise getattr(errors, answer.kind)(answer.words)
        return answer

    def _died(self) -> ServerGone:
        """What is told of a process that has ended: its own last word where it lies unread, otherwise how it ended."""
        self._ended = True
        with suppress(EOFError, OSError):
            while self._pipe.poll():
                answer = self._pipe.recv()
                if isinstance(answer, Trouble):
                    return ServerGone(answer.words)
        with suppress(subprocess.TimeoutExpired):
            self._process.wait(END_S)
        return ServerGone(DIED.format(how=_how(self._process.returncode)))

    def close(self) -> None:
        """Let it silence what sounds, and end."""
        self._pipe.close()
        try:
            self._process.wait(ANSWER_S)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


DIED = "The device process has ended{how}, and with it what was running. What it had recorded is kept; begin again."


def _how(code: int | None) -> str:
    """How a process ended, of its exit code; None: it has not yet.

    >>> _how(-9), _how(1), _how(None)
    (' by signal 9', ' with code 1', '')
    """
    if code is None:
        return ""
    return f" by signal {-code}" if code < 0 else f" with code {code}"


def serve(pipe: Connection) -> None:
    """The process: open the studio, then do what is told until the pipe closes."""
    gc.disable()
    opened = pipe.recv()
    try:
        engine = (JackEngine if opened.wanted.kind == JACK else PortableEngine)(opened.wanted)
    except StudioTrouble as error:
        pipe.poll(START_S)
        pipe.send(_trouble(error))
        return
    try:
        _Service(pipe, engine, listen_at(opened.panic)).go_on()
    except LEFT:
        pass
    except Exception as error:
        # The log has it whole.
        traceback.print_exc()
        words = f"The device process has failed ({type(error).__name__}: {error}). Begin again; devices.log has more."
        pipe.send(Trouble(ServerGone.__name__, words))
    finally:
        engine.close()


def _hear_out(pipe: Connection) -> None:
    """Read on until the other end has nothing more to say: a socket that is closed with something unread takes what was
    sent by it along."""
    while pipe.poll(HEAR_OUT_S):
        pipe.recv()


def _trouble(error: StudioTrouble) -> Trouble:
    return Trouble(type(error).__name__, str(error))


class _Service:
    """Commands in, blocks out."""

    def __init__(self, pipe: Connection, engine: JackEngine | PortableEngine, listener: socket.socket | None) -> None:
        self.pipe, self.engine, self.listener = pipe, engine, listener
        self.run = None
        self.before = 0
        self.told = 0.0

    def go_on(self) -> None:
        """Until the other end closes, or the server goes."""
        while True:
            ready = wait([self.pipe, self.listener] if self.listener else [self.pipe], POLL_S)
            if self.listener in ready:
                answer(self.listener, self._silence)
            if self.pipe in ready:
                try:
                    self._do(self.pipe.recv())
                except StudioTrouble as error:
                    self._refuse(error)
                except self.engine.refusal as error:
                    self._refuse(StudioTrouble(f"The studio refuses: {error}. Look again, or start it anew."))
            if self.run and not self.run.begun and time.monotonic() > self.told + WAITING_S:
                # A run that waits for its first note says so, that nobody takes it for dead.
                self.told = time.monotonic()
                self.pipe.send(Came(Block(0, np.zeros((0, len(self.run.setup.inputs)), np.float32))))
            if self.run:
                over = self.run.over.is_set()
                if over:
                    self.engine.end()
                self._hand_over(all_of_it=over)
                if over:
                    run, self.run = self.run, None
                    self.pipe.send(Ended(self.engine.xruns - self.before, run.behind))
            if self.engine.gone.is_set() or self.engine.failed or self.engine.stalled:
                words = self.engine.failed or self.engine.gone_words
                self._hand_over(all_of_it=True)
                self.pipe.send(Trouble(ServerGone.__name__, words))
                _hear_out(self.pipe)
                return

    def _do(self, command) -> None:
        match command:
            case Look():
                self.pipe.send(self.engine.look())
            case Begin(setup, sends):
                self.before = self.engine.xruns
                self.run = self.engine.begin(setup, sends)
            case Feed() if self.run:
                self.run.feed(command)
            case Stop() if self.run:
                self.run.over.set()

    def _silence(self) -> None:
        """End what runs and silence every channel of every port that notes have left by."""
        if self.run:
            self.run.over.set()
        self.engine.silence()

    def _refuse(self, error: StudioTrouble) -> None:
        self.run = None
        self.engine.end()
        self.pipe.send(_trouble(error))

    def _hand_over(self, *, all_of_it: bool) -> None:
        """Send what came, several periods together."""
        if not self.run:
            return
        done, waiting = self.run.done, sum(len(block.samples) for block in self.run.done)
        if not done or not (all_of_it or waiting >= LEAST_FRAMES or any(block.received for block in list(done))):
            return
        blocks = [done.popleft() for _ in range(len(done))]
        self.pipe.send(Came(_together(blocks)))


def _together(blocks: list[Block]) -> Block:
    return Block(
        blocks[0].start,
        np.concatenate([block.samples for block in blocks]),
        received=tuple(message for block in blocks for message in block.received),
        sent=tuple(message for block in blocks for message in block.sent),
        lost=tuple(gap for block in blocks for gap in block.lost),
    )
