"""How often do stated intervals hold the parameter behind them, and how wide are they? Draws of lateness with known
truth, straight into the line; shares no code with it.

Parameters: the median's is the distribution's (of two values the mid-point), the line's ends lie on the true line
through it, the jitter's is the standard deviation without outliers. Exact widths: Student's t and chi-square on the
hits that are no outliers (normal theory, scipy).
"""

from dataclasses import dataclass
from functools import cache

import numpy as np
from scipy import stats

from hypotaxis.core.timing.line import robust_line

LATE_MS = 14.0


def _normal(rng, count):
    return 0.4 * rng.standard_normal(count), 0.4


def _uniform(rng, count):
    return 1.4 * (rng.random(count) - 0.5), 1.4 / np.sqrt(12)


def _skewed(rng, count):
    return rng.gamma(2, 0.3, count) - stats.gamma.median(2, scale=0.3), 0.3 * np.sqrt(2)


def _log_normal(rng, count):
    return 0.5 * (rng.lognormal(0, 0.5, count) - 1), 0.5 * np.sqrt((np.exp(0.25) - 1) * np.exp(0.25))


def _exponential(rng, count):
    return rng.exponential(0.4, count) - 0.4 * np.log(2), 0.4


def _two(apart):
    def draw(rng, count):
        return np.where(rng.random(count) < 0.5, -1, 1) * apart / 2 + 0.05 * rng.standard_normal(count), np.hypot(
            apart / 2, 0.05
        )

    return draw


SPREADS = {
    "normal": _normal,
    "uniform": _uniform,
    "skewed": _skewed,
    "log-normal": _log_normal,
    "exponential": _exponential,
    "two values, 1 ms": _two(1.0),
    "two values, 2.7 ms": _two(2.7),
    "two values, 5 ms": _two(5.0),
}
"""Each: (deviations of hits from the median in ms, their standard deviation)."""


@dataclass(frozen=True)
class Coverage:
    """Shares of the draws in which an interval holds its parameter, and the mean width against the exact one's."""

    held: dict[str, float]
    width: dict[str, float]


def coverage(
    spread: str, count: int, draws: int, *, outliers: bool = False, drift: float = 0.0, seed: int = 0
) -> Coverage:
    """Of so many draws of so many hits; outliers: 15 % of them come 3 to 10 ms later; drift in ms/s."""
    rng = np.random.default_rng(seed)
    held = dict.fromkeys(("median", "jitter", "drift", "start", "end"), 0)
    widths: dict[str, list[float]] = {name: [] for name in held}
    exact: dict[str, list[float]] = {name: [] for name in held}
    for _ in range(draws):
        seconds = np.cumsum(0.3 + 0.4 * rng.random(count))
        away, sigma = SPREADS[spread](rng, count)
        good = np.ones(count, bool)
        if outliers:
            odd = rng.choice(count, int(0.15 * count), replace=False)
            away[odd] += rng.uniform(3, 10, len(odd))
            good[odd] = False
        at = drift * (seconds - np.median(seconds))
        line = robust_line(seconds, LATE_MS + at + away)
        truth = {"median": LATE_MS, "jitter": sigma, "drift": drift, "start": LATE_MS + at[0], "end": LATE_MS + at[-1]}
        stated = {
            "median": (line.median_low, line.median_high),
            "jitter": (line.jitter_low, line.jitter_high),
            "drift": (line.slope - line.slope_half, line.slope + line.slope_half),
            **{
                name: (line.at(t) - line.half_at(t), line.at(t) + line.half_at(t))
                for name, t in (("start", seconds[0]), ("end", seconds[-1]))
            },
        }
        for name, (low, high) in stated.items():
            held[name] += low <= truth[name] <= high
            widths[name].append(high - low)
        for name, width in _exact_widths(seconds[good], (at + away)[good]).items():
            exact[name].append(width)
    return Coverage(
        {name: many / draws for name, many in held.items()},
        {name: float(np.mean(widths[name]) / np.mean(exact[name])) for name in held},
    )


@cache
def _quantiles(count: int) -> tuple[float, float, float, float]:
    """Of so many hits, at 97.5 %: Student's t around a line and a mean, chi-square's high and low around a line."""
    freedom = count - 2
    chi = stats.chi2.ppf([0.975, 0.025], freedom)
    return stats.t.ppf(0.975, freedom), stats.t.ppf(0.975, count - 1), *chi


def _exact_widths(seconds: np.ndarray, late: np.ndarray) -> dict[str, float]:
    """Widths by normal theory around the least-squares line."""
    count, freedom = len(late), len(late) - 2
    t, t_mean, chi_high, chi_low = _quantiles(count)
    away = seconds - seconds.mean()
    square = (away**2).sum()
    rest = late - late.mean() - (away @ late / square) * away
    sigma = np.sqrt((rest**2).sum() / freedom)
    low, high = (sigma * np.sqrt(freedom / chi) for chi in (chi_high, chi_low))
    ends = {
        name: 2 * t * sigma * np.sqrt(1 / count + (at - seconds.mean()) ** 2 / square)
        for name, at in (("start", seconds[0]), ("end", seconds[-1]))
    }
    centre = 2 * t_mean * late.std(ddof=1) / np.sqrt(count)
    return {"median": centre, "jitter": high - low, "drift": 2 * t * sigma / np.sqrt(square), **ends}
