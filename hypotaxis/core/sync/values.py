"""What is set per port for boxes that follow, and what is known of a box that follows.

Lengths of patterns are ticks, 24 a quarter, as the host counts them where the box counts like it.
"""

from dataclasses import dataclass

NOTHING, START_AGAIN, POSITION = WRAPS = ("nothing", "start", "position")
"""What is sent at the wrap: nothing; start; stop, song position and continue."""
WRAP_WORDS = {NOTHING: "nothing", START_AGAIN: "start", POSITION: "stop, song position and continue"}
START, CONTINUE, STOP, SONG_POSITION = OBEYS = ("start", "continue", "stop", "song position")
PATTERN, ARPEGGIO, OSCILLATOR = PLAYS = ("pattern", "arpeggio", "LFO or delay")
"""What goes by the clock in a box: a pattern or sequence; keys that it repeats; something that swings."""
AS_THE_HOST, HALF, DOUBLE = PACES = ("as the host", "half", "double")
"""How a box counts: of eight bars of the host, eight; four; sixteen."""
BY_DIN, BY_USB = BY = ("DIN", "USB")


@dataclass(frozen=True, kw_only=True)
class Sending:
    """What a port sends to boxes that follow, besides whether it sends clock at all (`Socket.clock`)."""

    always: bool = False
    """Clock runs also while the song stands."""
    keys: bool = True
    """Start, continue and stop."""
    position: bool = True
    """Song position, where a run begins or goes on elsewhere than at bar 1."""
    wrap: str = NOTHING
    """At the wrap, one of WRAPS."""
    time_code: str = ""
    """A key of timecode.RATES, "" = none."""
    offset: int = 0
    """Frame of time code at bar 1."""
    shift_ms: float = 0.0
    """All of it later, − earlier."""
    compensate: bool = False
    """The shift is what makes the box's own sound stand on the bar, from its clock sounding."""


@dataclass(frozen=True, kw_only=True)
class Following:
    """What a box makes of the clock it hears."""

    plays: str = ""
    """One of PLAYS, "" = nothing goes by its clock."""
    length_ticks: int | None = None
    """Of its pattern or swing by its own count, None = not known."""
    pace: str = AS_THE_HOST
    """How it counts, one of PACES."""
    by: str = ""
    """Where it takes its clock from, one of BY, "" = wherever it comes."""
    obeys: tuple[str, ...] = OBEYS
    """Of OBEYS."""
    restarts: bool = True
    """It obeys start also while it runs."""
    time_code: str = ""
    """The rate of time code it is set to, "" = it takes none."""

    @property
    def lasts_ticks(self) -> int | None:
        """How long its pattern takes by the host's count."""
        if self.length_ticks is None:
            return None
        if self.pace == DOUBLE:
            return max(1, self.length_ticks // 2)
        return self.length_ticks * (2 if self.pace == HALF else 1)


@dataclass(frozen=True, kw_only=True)
class LoopSetting:
    """Which bars of a session are played in a loop. bars: None = the song once, without a wrap."""

    first_bar: int = 1
    bars: int | None = None
    times: int = 4
    begin_bar: int = 1
    """Where the run begins, at the loop or before it."""
