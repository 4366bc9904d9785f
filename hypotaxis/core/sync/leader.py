"""Which tempo does a leader send, how does it wander, and is something wrong with its clock?

Clocks come with jitter: one interval tells the tempo to some per cent, a straight line through many tells it exactly,
but blurs a change of tempo. So the line goes through as many clocks as lie on one: two bars at the most, fewer where
the two halves of them have different slopes by more than their jitter explains. Times are ns of whatever clock the
messages were stamped by.
"""

from collections import deque
from dataclasses import dataclass
from statistics import median

import numpy as np

from hypotaxis.core.midi.messages import CLOCK, CONTINUE, START, STOP
from hypotaxis.core.units import CLOCKS_A_QUARTER

A_BAR = 4 * CLOCKS_A_QUARTER
WINDOWS = (2 * A_BAR, 3 * A_BAR // 2, A_BAR, 72, 48, 36, 24)
"""Clocks that a line may go through, the most first."""
FEWEST = 12
BARS_KEPT = 8
"""Over which the wander is told."""
APART = 4.0
"""Standard errors by which two halves may differ (one in some ten thousand by chance)."""
STALLED = 4.0
"""Intervals without a clock after which it has stalled."""
STUTTER = 0.45
"""An interval shorter than this share of the usual one, or longer than its counterpart, is a stutter."""
QUICKEST_BPM, SLOWEST_BPM = 400.0, 15.0
"""Beyond these it is no tempo but garbage."""
FLOOD = 1_000
"""Clocks a second that nobody sends on purpose (400 BPM are 160)."""


@dataclass(frozen=True)
class TempoIn:
    """A leader's tempo as it arrives. bpm: None = not known yet; half: of its 95 % interval; wander: standard deviation
    of the bars' tempos, less what jitter explains; jitter_ms: of single clocks; ticks: since the last start; trouble:
    in words, "" = none."""

    bpm: float | None = None
    half: float = 0.0
    wander: float = 0.0
    bars: int = 0
    jitter_ms: float = 0.0
    running: bool = False
    ticks: int = 0
    trouble: str = ""

    @property
    def wanders(self) -> str:
        """How it wanders in words, "" = not known yet."""
        if self.bars < 2:
            return ""
        return f"wanders by ±{self.wander:.2f} BPM" if self.wander >= max(0.01, self.half / 2) else "no wander"

    @property
    def told(self) -> str:
        """It in words.

        >>> TempoIn(bpm=120.012, half=0.02, wander=0.004, bars=8, jitter_ms=1.16, running=True, ticks=96).told
        '120.01 BPM (±0.02), no wander over 8 bars, jitter 1.2 ms'
        """
        if self.bpm is None:
            return self.trouble or "clock, its tempo is not known yet"
        bars = f", {self.wanders} over {self.bars} bars" if self.wanders else ""
        trouble = f"; {self.trouble}" if self.trouble else ""
        return f"{self.bpm:.2f} BPM (±{self.half:.2f}){bars}, jitter {self.jitter_ms:.1f} ms{trouble}"


class Follower:
    """Listens to a leader's real-time bytes; anything else is passed over."""

    def __init__(self) -> None:
        self._times: deque[int] = deque(maxlen=WINDOWS[0] + 1)
        self._intervals: deque[int] = deque(maxlen=CLOCKS_A_QUARTER)
        self._bars: deque[tuple[float, float]] = deque(maxlen=BARS_KEPT)
        self._since_bar = 0
        self.running, self.ticks = False, 0
        self._told = ""
        self.flooded = False
        """More clocks came than anybody sends on purpose."""
        self._flood: deque[int] = deque(maxlen=FLOOD)

    def hear(self, time_ns: int, status: int) -> None:
        """Take a byte in."""
        if status == START:
            self.running, self.ticks, self._told = True, 0, ""
        elif status == CONTINUE:
            self.running = True
        elif status == STOP:
            self.running = False
        elif status == CLOCK:
            self._clock(time_ns)

    def _clock(self, time_ns: int) -> None:
        self._flood.append(time_ns)
        if len(self._flood) == FLOOD and time_ns - self._flood[0] < 1_000_000_000:
            self._told = f"more than {FLOOD:,} clocks a second: no tempo, but garbage or a loop"
            self.flooded = True
            self._forget()
            return
        if self.running:
            self.ticks += 1
        if self._times:
            interval = time_ns - self._times[-1]
            usual = self._usual_ns()
            if interval <= 0:
                return
            if usual and interval > STALLED * usual:
                self._told = f"stalled for {interval / 1e6:.0f} ms"
                self._forget()
            elif usual and not STUTTER * usual < interval < usual / STUTTER:
                self._told = "stutters: a clock came far too early or too late"
            if self._times:
                self._intervals.append(interval)
        self._times.append(time_ns)
        self._since_bar += 1
        if self._since_bar > A_BAR:
            # A bar has one interval for each of its clocks.
            line = _line(np.array(self._times)[-A_BAR - 1 :])
            self._bars.append((line.bpm, line.error_bpm))
            self._since_bar = 1

    def _forget(self) -> None:
        self._times.clear()
        self._intervals.clear()
        self._since_bar = 0

    def _usual_ns(self) -> float:
        """The interval of the last beat; 0 where too little has come."""
        return float(median(self._intervals)) if len(self._intervals) >= FEWEST else 0.0

    def now(self, time_ns: int) -> TempoIn:
        """What is known at a moment."""
        usual = self._usual_ns()
        if not usual:
            return TempoIn(running=self.running, ticks=self.ticks, trouble=self._told or "")
        gone = time_ns - self._times[-1]
        line = _longest_line(np.array(self._times))
        trouble = self._told
        if gone > STALLED * usual:
            trouble = f"no clock for {gone / 1e9:.1f} s"
        if not SLOWEST_BPM <= line.bpm <= QUICKEST_BPM:
            return TempoIn(running=self.running, ticks=self.ticks, trouble=f"{line.bpm:.0f} BPM are no tempo")
        return TempoIn(
            bpm=line.bpm,
            half=2 * line.error_bpm,
            wander=self._wander(),
            bars=len(self._bars),
            jitter_ms=line.sigma_ns / 1e6,
            running=self.running,
            ticks=self.ticks,
            trouble=trouble,
        )

    def line(self) -> "Line | None":
        """The line through the last clocks; None where too little has come."""
        return _longest_line(np.array(self._times)) if self._usual_ns() else None

    def _wander(self) -> float:
        if len(self._bars) < 2:
            return 0.0
        tempos, errors = np.array(self._bars).T
        return float(np.sqrt(max(0.0, tempos.var(ddof=1) - (errors**2).mean())))


@dataclass(frozen=True)
class Line:
    """A straight line through clocks. slope_ns: of an interval; error_ns: its standard error; sigma_ns: jitter."""

    slope_ns: float
    error_ns: float
    sigma_ns: float
    last_ns: float
    """Where the last clock stands on it."""

    @property
    def bpm(self) -> float:
        return 60e9 / (self.slope_ns * CLOCKS_A_QUARTER)

    @property
    def error_bpm(self) -> float:
        return self.bpm * self.error_ns / self.slope_ns


def _line(times: np.ndarray) -> Line:
    count = len(times)
    at = np.arange(count) - (count - 1) / 2
    spread = float((at**2).sum())
    away = (times - times[0]).astype(np.float64)
    slope = float((at * away).sum() / spread)
    rest = away - away.mean() - slope * at
    sigma = float(np.sqrt((rest**2).sum() / max(1, count - 2)))
    last = float(times[0]) + float(away.mean()) + slope * float(at[-1])
    return Line(slope, sigma / np.sqrt(spread), sigma, last)


def _longest_line(times: np.ndarray) -> Line:
    """The line through as many of the last clocks as lie on one."""
    for window in WINDOWS:
        last = times[-window - 1 :]
        if len(last) < FEWEST * 2:
            break
        half = len(last) // 2
        first, second = _line(last[: half + 1]), _line(last[half:])
        # The jitter is that of the smoother half: a change of tempo inside a half looks like jitter.
        sigma = max(1.0, min(first.sigma_ns, second.sigma_ns))
        error = sigma * np.sqrt(2 * 12 / half**3)
        if abs(first.slope_ns - second.slope_ns) <= APART * error:
            return _line(last)
    return _line(times[-WINDOWS[-1] - 1 :])
