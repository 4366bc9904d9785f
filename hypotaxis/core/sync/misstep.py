"""Where does a pattern stand when the host has jumped back?

Bars, pattern and loop are fractions of bars; a misstep is how far the pattern is ahead of where the host counts it,
from 0 up to its own length. The host's bars count from 1, its pattern's from the song's start.
"""

from dataclasses import dataclass
from fractions import Fraction
from math import floor

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.sync.values import NOTHING, START_AGAIN, WRAPS
from hypotaxis.core.units import CLOCKS_A_QUARTER

MOST_BARS, MOST_TIMES = 100_000, 10_000
TICKS_A_SIXTEENTH = CLOCKS_A_QUARTER // 4


@dataclass(frozen=True)
class Misstep:
    """After a wrap. bars: how far the pattern is ahead; a_bar: ticks of a bar."""

    wrap: int
    bars: Fraction
    a_bar: Fraction

    @property
    def ticks(self) -> Fraction:
        """The same, 24 a quarter."""
        return self.bars * self.a_bar

    @property
    def sixteenths(self) -> Fraction:
        """The same in sixteenths."""
        return self.ticks / TICKS_A_SIXTEENTH

    @property
    def in_step(self) -> bool:
        """Whether it stands exactly where the host counts it."""
        return self.bars == 0


def bar_of(meter: tuple[int, int]) -> Fraction:
    """Ticks of a bar.

    >>> bar_of((4, 4)), bar_of((7, 8))
    (Fraction(96, 1), Fraction(84, 1))
    """
    over, under = meter
    if not 1 <= over <= 999 or under not in (1, 2, 4, 8, 16, 32, 64):
        raise CannotSchedule(f"A meter of {over}/{under} makes no sense. Write it like 4/4, 7/8 or 12/16.")
    return Fraction(4 * CLOCKS_A_QUARTER * over, under)


def missteps(
    *,
    loop_from: Fraction,
    loop_bars: Fraction,
    pattern_bars: Fraction,
    times: int,
    wrap: str,
    meter: tuple[int, int] = (4, 4),
) -> list[Misstep]:
    """The misstep after each of so many wraps, by what is sent there. Raises CannotSchedule for what makes no sense.

    Nothing: the clock runs on, and the pattern with it. Start: it begins at its bar 1. Position: it goes where song
    position names, the sixteenth at or before the loop's bar; what that loses is the misstep.

    >>> [int(one.bars) for one in missteps(loop_from=1, loop_bars=6, pattern_bars=4, times=4, wrap="nothing")]
    [2, 0, 2, 0]
    """
    first, length, pattern = Fraction(loop_from), Fraction(loop_bars), Fraction(pattern_bars)
    a_bar = bar_of(meter)
    _check(first, length, pattern, times, wrap)
    return [
        Misstep(number, _after(number, first, length, pattern, wrap, a_bar) % pattern, a_bar)
        for number in range(1, times + 1)
    ]


def _check(first: Fraction, length: Fraction, pattern: Fraction, times: int, wrap: str) -> None:
    if wrap not in WRAPS:
        raise CannotSchedule(f"At the wrap nothing, start or position is sent, not “{wrap}”.")
    if first < 1:
        raise CannotSchedule(f"A loop begins at bar 1 or later, not at bar {first}.")
    for what, bars in (("A loop", length), ("A pattern", pattern)):
        if not 0 < bars <= MOST_BARS:
            raise CannotSchedule(
                f"{what} of {bars} bars makes no sense: it is longer than nothing, up to {MOST_BARS:,}."
            )
    if first > MOST_BARS:
        raise CannotSchedule(f"A loop from bar {first} makes no sense: bars go up to {MOST_BARS:,}.")
    if not 1 <= times <= MOST_TIMES:
        raise CannotSchedule(f"{times} wraps make no sense: 1 to {MOST_TIMES:,} do.")


def _after(number: int, first: Fraction, length: Fraction, pattern: Fraction, wrap: str, a_bar: Fraction) -> Fraction:
    if wrap == NOTHING:
        return number * length
    if wrap == START_AGAIN:
        return 1 - first
    return _lost(first, a_bar)


def _lost(first: Fraction, a_bar: Fraction) -> Fraction:
    """Bars between a bar's beginning and the sixteenth at or before it."""
    sixteenths = (first - 1) * a_bar / TICKS_A_SIXTEENTH
    return (sixteenths - floor(sixteenths)) * TICKS_A_SIXTEENTH / a_bar


def told(misstep: Misstep) -> str:
    """A misstep in words: whole bars and sixteenths, or ticks where it is less than one of them.

    >>> told(Misstep(1, Fraction(3, 2), Fraction(96)))
    '1 bar 8/16'
    """
    if misstep.in_step:
        return "in step"
    if misstep.sixteenths.denominator != 1:
        ticks = misstep.ticks
        return f"{ticks} ticks" if ticks.denominator == 1 else f"{float(ticks):.4g} ticks"
    whole = floor(misstep.bars)
    rest = (misstep.bars - whole) * misstep.a_bar / TICKS_A_SIXTEENTH
    bars = f"{whole} bar{'' if whole == 1 else 's'}" if whole else ""
    return " ".join(filter(None, (bars, f"{rest}/16" if rest or not whole else "0/16")))
