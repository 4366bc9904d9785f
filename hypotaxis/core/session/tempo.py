"""When is a tick, and in which bar?

Ticks are integers from the session's zero (bar 1, beat 1). Seconds and samples are counted from the same zero.
Sample positions are integers in the clock named by their rate.
"""

from bisect import bisect_right
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

import numpy as np

DEFAULT_US_PER_QUARTER = 500_000
"""120 BPM where a file says nothing (Standard MIDI File, RP-001)."""


@dataclass(frozen=True)
class Position:
    """A place in the bars, all counted from 1; written "bar 9, beat 3, sixteenth 1"."""

    bar: int
    beat: int
    sixteenth: int

    def __str__(self) -> str:
        return f"bar {self.bar}, beat {self.beat}, sixteenth {self.sixteenth}"


@dataclass(frozen=True)
class TempoMap:
    """Tempo and meter changes.

    tempos: (tick, µs a quarter), meters: (tick, numerator, denominator), both ascending, both beginning at tick 0.
    A meter change inside a bar begins a new bar.
    """

    ticks_per_quarter: int = 480
    tempos: tuple[tuple[int, int], ...] = ((0, DEFAULT_US_PER_QUARTER),)
    meters: tuple[tuple[int, int, int], ...] = ((0, 4, 4),)

    @cached_property
    def _tempo_arrays(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        ticks = np.array([tick for tick, _ in self.tempos], dtype=np.int64)
        pace = np.array([us for _, us in self.tempos], dtype=np.int64)
        # In µs times ticks a quarter everything stays an integer: no rounding adds up over a long piece.
        before = np.concatenate([[0], np.cumsum(np.diff(ticks) * pace[:-1])])
        return ticks, pace, before

    def us_at(self, ticks: np.ndarray | int) -> np.ndarray:
        """Microseconds from zero of ticks (any shape), as float64."""
        return self.exact_us(ticks) / self.ticks_per_quarter

    def exact_us(self, ticks: np.ndarray | int, parts: int = 1) -> np.ndarray:
        """Times of ticks (any shape) from zero as integers in 1/(parts · ticks a quarter) µs, where ticks are counted
        in that many parts of one."""
        starts, pace, before = self._tempo_arrays
        ticks = np.asarray(ticks, dtype=np.int64)
        index = np.maximum(np.searchsorted(starts * parts, ticks, side="right") - 1, 0)
        return before[index] * parts + (ticks - starts[index] * parts) * pace[index]

    def samples_at(self, ticks: np.ndarray | int, rate: int) -> np.ndarray:
        """Positions in samples of `rate` from zero, not rounded."""
        return self.us_at(ticks) * (rate / 1e6)

    def tick_at_us(self, us: float) -> int:
        """The last tick that begins at or before `us`."""
        starts, pace, before = self._tempo_arrays
        target = us * self.ticks_per_quarter
        index = max(0, int(np.searchsorted(before, target, side="right")) - 1)
        return int(starts[index] + (target - before[index]) // pace[index])

    def paced(self, ticks_per_quarter: int) -> "TempoMap":
        """The same in other ticks, to the nearest."""
        if ticks_per_quarter == self.ticks_per_quarter:
            return self

        def there(tick: int) -> int:
            return round(Fraction(tick * ticks_per_quarter, self.ticks_per_quarter))

        tempos = tuple((there(tick), us) for tick, us in self.tempos)
        meters = tuple((there(tick), *rest) for tick, *rest in self.meters)
        return TempoMap(ticks_per_quarter, tempos, meters)

    def ticks_at_us(self, us: np.ndarray) -> np.ndarray:
        """The ticks at these times (any shape, also before zero), not rounded."""
        starts, pace, before = self._tempo_arrays
        target = np.asarray(us, dtype=np.float64) * self.ticks_per_quarter
        index = np.maximum(np.searchsorted(before, target, side="right") - 1, 0)
        return starts[index] + (target - before[index]) / pace[index]

    @cached_property
    def _meter_segments(self) -> list[tuple[int, int, int, int, int]]:
        """(first tick, ticks a bar, ticks a beat, number of the first bar, beats) per meter."""
        segments: list[tuple[int, int, int, int, int]] = []
        bar = 1
        for tick, numerator, denominator in self.meters:
            if segments:
                start, length, _, first, _ = segments[-1]
                bar = first + -(-(tick - start) // length)
            beat = max(1, self.ticks_per_quarter * 4 // denominator)
            segments.append((tick, beat * numerator, beat, bar, numerator))
        return segments

    def bar_tick(self, bar: int) -> int:
        """First tick of a bar, counted from 1."""
        segments = self._meter_segments
        index = max(0, bisect_right([segment[3] for segment in segments], bar) - 1)
        start, length, _, first, _ = segments[index]
        return start + (bar - first) * length

    def position(self, tick: int) -> Position:
        """Bar, beat and sixteenth of a tick."""
        segments = self._meter_segments
        index = max(0, bisect_right([segment[0] for segment in segments], tick) - 1)
        start, length, beat, first, _ = segments[index]
        bars, rest = divmod(tick - start, length)
        beats, rest = divmod(rest, beat)
        return Position(first + bars, beats + 1, rest * 4 // self.ticks_per_quarter + 1)

    def last_bar(self, end_tick: int) -> int:
        """The bar in which a piece of this length ends."""
        return self.position(max(0, end_tick - 1)).bar

    def beats_in_bar(self, bar: int) -> int:
        """Numerator of the meter in force in a bar."""
        segments = self._meter_segments
        index = max(0, bisect_right([segment[3] for segment in segments], bar) - 1)
        return segments[index][4]

    def meter_at(self, tick: int) -> tuple[int, int]:
        """(numerator, denominator) in force at a tick.

        >>> TempoMap(480, meters=((0, 4, 4), (1920, 7, 8))).meter_at(1919)
        (4, 4)
        """
        return [(beats, unit) for first, beats, unit in self.meters if first <= tick][-1]

    def bpm_at(self, tick: int) -> float:
        """Quarters a minute in force at a tick."""
        return 60e6 / self.us_of_quarter(tick)

    @property
    def told(self) -> str:
        """Its tempo in BPM, or the slowest and the quickest of several.

        >>> TempoMap(480, ((0, 500_000),)).told, TempoMap(480, ((0, 500_000), (960, 480_000))).told
        ('120', '120–125')
        """
        slowest, quickest = (f"{60e6 / find(us for _, us in self.tempos):.4g}" for find in (max, min))
        return slowest if slowest == quickest else f"{slowest}–{quickest}"

    def us_of_quarter(self, tick: int) -> int:
        """Microseconds of a quarter in force at a tick."""
        starts, pace, _ = self._tempo_arrays
        return int(pace[max(0, int(np.searchsorted(starts, tick, side="right")) - 1)])
