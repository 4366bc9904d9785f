"""Which way does the host go through the bars, and when is it where?

A course begins at a bar, may run in to a stretch of bars, and plays that stretch a number of times; without a loop it
is played once. Times are exact: integers in 1/(24 · ticks a quarter) µs from the course's first moment, rounded once,
to ns, where they leave. A *tick* is a clock, 24 a quarter note (MIDI 1.0); a score's ticks are called so.
"""

from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

import numpy as np

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.units import CLOCKS_A_QUARTER

LONGEST_S = 12 * 3600
"""Beyond that whole numbers of the finest times would no longer fit."""
PACES = (1_000, 60_000_000)
"""µs a quarter that make sense: 60,000 to 1 BPM."""


@dataclass(frozen=True)
class Stretch:
    """Bars that are played without a jump. begin, end: ticks of the score; since: when it begins, in exact time."""

    begin: int
    end: int
    since: int


@dataclass(frozen=True, kw_only=True)
class Course:
    """begin: the score's tick at which it begins; loop: (first, end) ticks of what is played `times` times."""

    tempo: TempoMap
    begin: int
    loop: tuple[int, int]
    times: int = 1

    def __post_init__(self) -> None:
        first, end = self.loop
        if end <= first or self.begin > first or self.begin < 0:
            raise CannotSchedule("There is nothing to play: the loop has no bars, or begins before the run does.")
        if self.times < 1:
            raise CannotSchedule(f"A loop is played once or more often, not {self.times} times.")
        slowest = max(us for _, us in self.tempo.tempos)
        quickest = min(us for _, us in self.tempo.tempos)
        if quickest < PACES[0] or slowest > PACES[1]:
            raise CannotSchedule(
                f"A tempo of {60e6 / (quickest if quickest < PACES[0] else slowest):,.4g} BPM cannot be followed; "
                "1 to 60,000 BPM can."
            )
        rounds = self.times - 1
        # In Python's integers: a great many rounds would overflow the arrays.
        lasts = int(self.exact(end) - self.exact(self.begin)) + rounds * int(self.exact(end) - self.exact(first))
        if lasts > LONGEST_S * 1_000_000 * self.per_us:
            raise CannotSchedule(f"It lasts longer than {LONGEST_S // 3600} hours. Play it fewer times, or fewer bars.")

    @property
    def per_us(self) -> int:
        """Units of exact time in a µs."""
        return CLOCKS_A_QUARTER * self.tempo.ticks_per_quarter

    def exact(self, ticks: np.ndarray | int) -> np.ndarray:
        """Exact times of the score's ticks from its zero."""
        return self.tempo.exact_us(np.asarray(ticks, dtype=np.int64) * CLOCKS_A_QUARTER, CLOCKS_A_QUARTER)

    @cached_property
    def stretches(self) -> tuple[Stretch, ...]:
        """What is played, jump by jump."""
        first, end = self.loop
        since, lasts = int(self.exact(end) - self.exact(self.begin)), int(self.exact(end) - self.exact(first))
        again = (Stretch(first, end, since + number * lasts) for number in range(self.times - 1))
        return (Stretch(self.begin, end, 0), *again)

    @cached_property
    def lasts(self) -> int:
        """Exact time at which it ends."""
        last = self.stretches[-1]
        return last.since + int(self.exact(last.end) - self.exact(last.begin))

    def count(self, one: Stretch) -> int:
        """How many clocks a stretch has."""
        return -(-(one.end - one.begin) * CLOCKS_A_QUARTER // self.tempo.ticks_per_quarter)

    def ticks(self, one: Stretch) -> tuple[np.ndarray, Fraction]:
        """(exact times of the clocks in a stretch, the number of its first from bar 1). The first stands on the
        stretch's first moment; where that is on no tick of bar 1's, the number is no whole one."""
        pace, begins = self.tempo.ticks_per_quarter, one.begin * CLOCKS_A_QUARTER
        at = self.tempo.exact_us(begins + np.arange(self.count(one), dtype=np.int64) * pace, CLOCKS_A_QUARTER)
        return at - self.exact(one.begin) + one.since, Fraction(begins, pace)

    def ns(self, exact: np.ndarray | int) -> np.ndarray:
        """Exact times in ns, rounded to the nearest."""
        # 1000 / (24 · ticks a quarter), shortened so that half a day still fits.
        return nearest(np.asarray(exact, dtype=np.int64) * 125, 3 * self.tempo.ticks_per_quarter)


def course_of_bars(
    tempo: TempoMap, *, first_bar: int, bars: int, times: int = 1, begin_bar: int | None = None
) -> Course:
    """The course through so many bars from first_bar (1 or later) on, run in to from begin_bar. Raises
    CannotSchedule."""
    begin_bar = first_bar if begin_bar is None else begin_bar
    if min(begin_bar, first_bar) < 1:
        raise CannotSchedule(f"There is no bar {min(begin_bar, first_bar)}: bars count from 1.")
    if bars < 1:
        raise CannotSchedule(f"{bars} bars are nothing to play: a loop has one or more.")
    if first_bar < begin_bar:
        raise CannotSchedule(f"The run begins at bar {begin_bar}, behind the loop, which begins at bar {first_bar}.")
    loop = (tempo.bar_tick(first_bar), tempo.bar_tick(first_bar + bars))
    return Course(tempo=tempo, begin=tempo.bar_tick(begin_bar), loop=loop, times=times)


def nearest(numerators: np.ndarray | int, denominator: int) -> np.ndarray | int:
    """Quotients rounded to the nearest whole number, halves to the even one, in integers: one, or an array of them.

    >>> nearest(5, 2), nearest(7, 2), nearest(np.array([5, 7]), 2).tolist()
    (2, 4, [2, 4])
    """
    whole, rest = divmod(numerators, denominator)
    return whole + ((2 * rest > denominator) | ((2 * rest == denominator) & (whole % 2 == 1)))
