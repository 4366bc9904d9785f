"""What do the single hits say together? A line that odd hits cannot bend, and what it cannot know.

Lateness in ms over time in seconds. Slope is drift: 1 ms/s is 1000 ppm.
"""

from dataclasses import dataclass

import numpy as np

_MOST_FOR_PAIRS = 600
"""Theil–Sen looks at all pairs; beyond this an even selection is enough for the first line."""


@dataclass(frozen=True, eq=False)
class Line:
    """The fit. used: which hits are inliers; intercept at time 0; each half-width is of a 95 % interval; middle: mean
    time of the inliers, at which the line is best known."""

    used: np.ndarray
    slope: float
    intercept: float
    slope_half: float
    jitter_ms: float
    jitter_half: float
    median_ms: float
    median_half: float
    middle: float = 0.0

    def at(self, seconds: float) -> float:
        """Lateness in ms on the line."""
        return self.intercept + self.slope * seconds

    def half_at(self, seconds: float) -> float:
        """Half-width of the line's 95 % interval there: the mean's and the slope's together."""
        if not np.isfinite(self.slope_half):
            return float(np.inf)
        return float(np.hypot(self.median_half / 1.2533, self.slope_half * (seconds - self.middle)))


def robust_line(seconds: np.ndarray, lateness_ms: np.ndarray) -> Line:
    """Fit of at least one hit; with fewer than four the line is level and outliers are not judged.

    First line by Theil–Sen, inliers by five robust standard deviations of the residual (at least 0.5 ms),
    then least squares over the inliers. Median's standard error 1.2533·σ/√n, that of σ 1/√(2(n−2)) of it, normal
    theory; the slope's from least squares.
    """
    count = len(seconds)
    if count < 4 or np.ptp(seconds) == 0:
        median = float(np.median(lateness_ms))
        spread = float(np.std(lateness_ms)) if count > 1 else 0.0
        return Line(np.ones(count, bool), 0.0, median, np.inf, spread, np.inf, median, np.inf)
    pick = np.unique(np.linspace(0, count - 1, min(count, _MOST_FOR_PAIRS)).astype(int))
    slope, intercept = _middle_line(seconds[pick], lateness_ms[pick])
    residual = lateness_ms - (intercept + slope * seconds)
    centre = np.median(residual)
    robust_sigma = 1.4826 * float(np.median(np.abs(residual - centre)))
    used = np.abs(residual - centre) <= max(5.0 * robust_sigma, 0.5)
    time, late = seconds[used], lateness_ms[used]
    number = len(time)
    # Over all hits: a few odd ones move a median hardly, and none is left out by a bound.
    median = float(np.median(lateness_ms))
    middle = time.mean()
    square = float(((time - middle) ** 2).sum())
    if number < 3 or square == 0:
        return Line(used, 0.0, median, np.inf, 0.0, np.inf, median, np.inf)
    slope = float(((time - middle) * (late - late.mean())).sum() / square)
    intercept = float(late.mean() - slope * middle)
    rest = late - (intercept + slope * time)
    jitter = float(np.sqrt((rest**2).sum() / (number - 2)))
    quantile = student_quantile(number - 2)
    return Line(
        used=used,
        slope=slope,
        intercept=intercept,
        slope_half=quantile * jitter / np.sqrt(square),
        jitter_ms=jitter,
        jitter_half=quantile * jitter / np.sqrt(2 * (number - 2)),
        median_ms=median,
        median_half=quantile * 1.2533 * jitter / np.sqrt(number),
        middle=float(middle),
    )


def student_quantile(freedom: int) -> float:
    """The 97.5 % point of Student's t, by its expansion around the normal one (Abramowitz and Stegun 26.7.5).

    Within 1 % from two degrees of freedom on.

    >>> round(student_quantile(10), 3), round(student_quantile(46), 3)
    (2.228, 2.013)
    """
    z, n = 1.959964, freedom
    terms = (
        (z**3 + z) / 4,
        (5 * z**5 + 16 * z**3 + 3 * z) / 96,
        (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384,
        (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92160,
    )
    return z + sum(term / n**power for power, term in enumerate(terms, start=1))


def _middle_line(x: np.ndarray, y: np.ndarray) -> tuple[float, float]:
    """(slope, intercept) after Theil and Sen: the median of the slopes of all pairs, through the medians."""
    first, second = np.triu_indices(len(x), 1)
    across = x[second] - x[first]
    apart = across > 0
    slope = float(np.median((y[second] - y[first])[apart] / across[apart]))
    return slope, float(np.median(y) - slope * np.median(x))
