"""Where does a period stand in a run? Counting frames by the server's clock, and telling lost ones.

The server counts all frames of its life; a run counts from its own zero. A count that jumps ahead means lost frames
only if it stays there: with an asynchronous server it may jump a period forward and back after an overload.
"""

WRAP = 1 << 32
"""The server's count has 32 bits (JACK API, jack_nframes_t)."""


class Timeline:
    """Counts the frames of a run, period by period."""

    def __init__(self, zero: int) -> None:
        """zero: the server's count at the run's first frame."""
        self.zero = zero
        self.count = 0
        """Frames of the run up to now, lost ones included."""
        self._doubt = 0

    def period(self, now: int, frames: int) -> int:
        """Take a period in that begins at the server's count `now`. Returns the frames that were lost before the last
        period that was taken in: 0, or how far this and the last period both lie beyond what was expected."""
        jump = (now - self.zero - self.count + WRAP // 2) % WRAP - WRAP // 2
        lost = jump if jump > 0 and jump == self._doubt else 0
        self._doubt = jump if jump > 0 and not lost else 0
        self.count += frames + lost
        return lost
