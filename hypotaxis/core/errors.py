"""What can go wrong, named after outcomes.

Every message is written for the person: what was wrong, the value, what is allowed, the likely mistake.
"""


class HypotaxisError(Exception):
    """Root of all errors the product raises on purpose; `str()` of it may be shown to the person."""


class DoesNotFit(HypotaxisError):
    """Two sockets that no cable can join."""


class BadBars(HypotaxisError):
    """Bars, a tempo or a meter that a session cannot have."""


class BadLevel(HypotaxisError):
    """A level or a pan that the mix cannot have."""


class SocketTaken(DoesNotFit):
    """A socket that already has its one cable."""


class FeedbackLoop(DoesNotFit):
    """A cable that would send MIDI round in a circle."""


class UnreadableFile(HypotaxisError):
    """A file that cannot be read, or holds less than it declares."""


class BadDump(UnreadableFile):
    """System exclusive messages that are broken off, none, or another box's."""


class UnsupportedScore(UnreadableFile):
    """A MIDI file that can be read but not used, with the reason."""


class UnsupportedRecording(UnreadableFile):
    """An audio file that can be read but not measured, with the reason."""


class SeveralCandidates(HypotaxisError):
    """A score of which several parts, or none clearly, may be what was recorded; the message lists them."""


class NotBegun(HypotaxisError):
    """Work that could not be handed to the worker."""


class DiskFull(HypotaxisError):
    """There is no room for a file."""


class SoundLost(HypotaxisError):
    """A take whose file is missing, empty, cut or damaged."""


class CannotSchedule(HypotaxisError):
    """A pass that cannot be planned as asked."""


class SharedReturn(CannotSchedule):
    """Parts that come home on one return and so cannot be told apart in one pass."""


class NoAnswer(HypotaxisError):
    """A recording from which no lateness can be read, with the reason."""


class NoSignal(NoAnswer):
    """Nothing but silence or noise came back."""


class WrongScore(NoAnswer):
    """What came back is not what the notes say."""


class WrongTempo(WrongScore):
    """The recording plays the notes at another tempo. ratio: of its times to the score's, above 1 = it is slower."""

    def __init__(self, ratio: float) -> None:
        faster = 1 / ratio - 1
        way = "faster" if faster > 0 else "slower"
        super().__init__(
            f"The recording runs {abs(faster):.2%} {way} than the notes: they were played at another tempo. Record it "
            "again at the tempo of the score, or export the score at that of the recording."
        )
        self.ratio = ratio


class StudioTrouble(HypotaxisError):
    """The studio refuses or has failed."""


class RoutingLoop(StudioTrouble):
    """What leaves comes back and leaves again."""


class PortMissing(StudioTrouble):
    """A port or an input the studio does not report."""


class PortTaken(StudioTrouble):
    """A port is there, and another program holds it."""


class LibraryMissing(StudioTrouble):
    """What a studio needs of the system is not installed."""


class ServerGone(StudioTrouble):
    """The audio server does not answer, or has gone while something ran."""


class Gone(HypotaxisError):
    """What a page was about is no longer there."""


class NothingToUndo(HypotaxisError):
    """The journal has nothing left to take back or to repeat."""


class BadPattern(HypotaxisError):
    """A pattern of file names that names nothing."""


class CannotHandOver(HypotaxisError):
    """There is nothing to hand over, or no room for it."""


class NotLetIn(HypotaxisError):
    """The passphrase is another one, or was tried too often."""


class RoomTrouble(HypotaxisError):
    """The room's network cannot be listened on."""
