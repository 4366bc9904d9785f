"""Real devices as a studio: the application's side of the device process.

With JACK, MIDI and audio stand on one clock, the server's frames; with system audio, MIDI stands on the computer's
clock and audio on the interface's crystal. What leaves is pulled from the source a quarter of a second ahead, so that a
busy machine keeps it in time; a freewheeling server is fed further, since it does not wait.
"""

from collections.abc import Iterator
from contextlib import suppress

from hypotaxis.core.errors import PortMissing, StudioTrouble
from hypotaxis.core.studio import JACK, STUDIO_NAMES, AudioEnd, Block, Port, Reported, RunSetup, RunTold, Source
from hypotaxis.devices.process import DeviceProcess
from hypotaxis.devices.protocol import Begin, Came, Feed, Piece, Stop

LEAD_S, FREEWHEEL_LEAD_S = 0.25, 8.0
"""How far ahead the source is asked."""
NOT_MATCHED = (
    "Something that this needs is matched to nothing that {studio} reports. Say on the sheets Ports and Inputs which "
    "end of the desk is which."
)


class DeviceStudio:
    """The Studio behind a device process. Raises LibraryMissing, ServerGone."""

    simulated = False

    def __init__(self, process: DeviceProcess) -> None:
        self._process = process
        self.reported: Reported = process.look()
        self.told = RunTold()

    @property
    def hurries(self) -> bool:
        """Whether it can be faster than real time, for software: a server that freewheels can."""
        return self.reported.studio == JACK

    @property
    def one_clock(self) -> bool:
        """Whether MIDI is timed by the audio's clock."""
        return self.reported.one_clock

    @property
    def sample_rate(self) -> int:
        """Of the audio, Hz."""
        return self.reported.rate

    @property
    def buffer(self) -> int:
        """Of the audio, frames."""
        return self.reported.buffer

    def ports(self) -> tuple[Port, ...]:
        """The MIDI ports of other clients, and of the system."""
        self.reported = self._process.look()
        return self.reported.ports

    def inputs(self) -> tuple[str, ...]:
        """What can be recorded."""
        return tuple(end.name for end in self.reported.inputs)

    def outputs(self) -> tuple[str, ...]:
        """What can be played to."""
        return tuple(end.name for end in self.reported.outputs)

    def run(self, source: Source, setup: RunSetup) -> Iterator[Block]:
        """As `Studio.run`. Freewheeling, a server plays faster than real time: software only."""
        if "" in (*setup.inputs, *setup.outputs, *source.ports):
            raise PortMissing(NOT_MATCHED.format(studio=STUDIO_NAMES[self.reported.studio]))
        if setup.fast and not self.hurries:
            raise StudioTrouble("System audio plays in real time only. Switch faster than real time off.")
        if setup.fast and any(_named(self.reported.inputs, name).physical for name in setup.inputs):
            raise StudioTrouble("Real hardware plays in real time only. Switch faster than real time off.")
        if self._process.ended:
            # An interface that went between two runs has taken it along, and may be there again.
            self.reported = self._process.look()
        self._process.tell(Begin(setup, tuple(sorted(source.ports))))
        return self._blocks(source, setup)

    def _blocks(self, source: Source, setup: RunSetup) -> Iterator[Block]:
        lead = round((FREEWHEEL_LEAD_S if setup.fast else LEAD_S) * self.sample_rate)
        fed, here, lost, running = 0, 0, 0, True
        try:
            fed = self._feed(source, setup, fed, lead)
            while True:
                answer = self._process.hear()
                if not isinstance(answer, Came):
                    running = False
                    self.told = RunTold(
                        seconds=here / self.sample_rate,
                        xruns=answer.xruns,
                        lost=lost,
                        late=answer.late,
                    )
                    return
                block = _within(answer.block, setup.frames)
                here = answer.block.start + len(answer.block.samples)
                lost += sum(gap.frames for gap in block.lost)
                if setup.frames is None and source.ended():
                    if here >= fed:
                        self._process.tell(Stop())
                else:
                    fed = self._feed(source, setup, fed, here + lead)
                yield block
        except GeneratorExit:
            # Closed from outside. A process that has died by then has silenced what sounded.
            with suppress(StudioTrouble):
                self._process.tell(Stop())
                while running and isinstance(self._process.hear(), Came):
                    pass
            raise

    def _feed(self, source: Source, setup: RunSetup, fed: int, until: int) -> int:
        """Hand over what leaves before a frame; returns up to where the run is fed."""
        if until <= fed:
            return fed
        messages = tuple(source.messages(round(until * 1e9 / self.sample_rate)))
        pieces = tuple(Piece(name, fed, source.sound(name, fed, until - fed)) for name in setup.outputs)
        self._process.tell(Feed(until, messages, pieces))
        return until

    def close(self) -> None:
        """The process stays, for the next run."""


def _named(ends: tuple[AudioEnd, ...], name: str) -> AudioEnd:
    return next((end for end in ends if end.name == name), AudioEnd(name, name, physical=False))


def _within(block: Block, frames: int | None) -> Block:
    """A block without what lies beyond the run's length: periods do not end where runs do."""
    if frames is None or block.start + len(block.samples) <= frames:
        return block
    return Block(block.start, block.samples[: frames - block.start], block.received, block.sent, block.lost)
