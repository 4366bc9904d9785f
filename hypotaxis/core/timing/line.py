"""What do the single hits say together? A line that odd hits cannot bend, and what it cannot know.

Lateness in ms over time in seconds. Slope is drift: 1 ms/s is 1000 ppm. Intervals are meant for 95 %; what they cover
for few hits and for lateness that is not normally spread is measured (docs/check-values.md, `make bench`).
"""

import math
from dataclasses import dataclass

import numpy as np

_MOST_FOR_PAIRS = 600
"""Theil–Sen looks at all pairs; beyond this an even selection is enough for the first line."""
OUTLIER = 6.0
"""Robust deviations from one of two values beyond which a hit is set aside."""
STRICT, NEAR = 0.4, 1.6
"""By how many deviations sooner a hit is set aside where the jitter's lower end is asked for; how many times further
out than the limit one may be that still counts for the upper end."""
ODD_SHARE, MOST_RAISED = 0.15, 1.7
"""More hits than this share are not odd but a long end, and count for the jitter's upper end; which so is raised at
most this many times."""
LOOSE_MS, FEW, FEW_LOOSE_MS = 0.5, 10, 6.0
"""A hit this near is never set aside; with fewer than FEW hits, where odd and usual ones cannot be told apart, it takes
more."""
TWO_MS, TIGHT, LEAST_SHARE = (0.8, 6.5), 6.0, 0.16
"""Two values: how far apart they may be, how many times tighter each is, the least share of the hits of one."""
SIGN_LEVEL = 0.975
"""Of the interval for the median: more than 95 %, since it takes the fitted slope and the outliers for known."""


@dataclass(frozen=True)
class TwoValues:
    """Hits that stand at two values, as a buffer or a frame grid makes them, in the middle of the hits: ms, + late.
    later_share: of the hits at the later one."""

    early_ms: float
    late_ms: float
    later_share: float

    @property
    def apart_ms(self) -> float:
        return self.late_ms - self.early_ms


@dataclass(frozen=True, eq=False)
class Line:
    """The fit."""

    used: np.ndarray
    """Which hits are no outliers; intercept at time 0; each half-width is of a 95 % interval, low and high are its
    ends."""
    slope: float
    intercept: float
    slope_half: float
    jitter_ms: float
    jitter_low: float
    jitter_high: float
    median_ms: float
    median_low: float = -math.inf
    median_high: float = math.inf
    middle: float = 0.0
    """Mean time of the inliers, at which the line is best known."""
    mean_half: float = math.inf
    """Of the line there."""
    skew_ms: float = 0.0
    """How far median and mean of the hits are apart."""
    two: TwoValues | None = None
    """Where they stand at two values, which median_ms is half-way between then."""

    def at(self, seconds: float) -> float:
        """Lateness in ms on the line."""
        return self.intercept + self.slope * seconds

    def median_ends(self, doubt_ms: float) -> tuple[float, float]:
        """The median's 95 % interval with a doubt of its own that is the same for all hits."""
        low, high = self.median_ms - self.median_low, self.median_high - self.median_ms
        return self.median_ms - math.hypot(low, doubt_ms), self.median_ms + math.hypot(high, doubt_ms)

    def half_at(self, seconds: float) -> float:
        """Half-width of the line's 95 % interval there: the mean's and the slope's together, and the distance of the
        two values or of median and mean, either of which may be meant."""
        if not math.isfinite(self.slope_half):
            return math.inf
        along = self.slope_half * (seconds - self.middle)
        half = math.hypot(self.mean_half, along) + abs(self.skew_ms)
        return max(half, self.two.apart_ms / 2 + abs(along)) if self.two else half


def robust_line(seconds: np.ndarray, lateness_ms: np.ndarray) -> Line:
    """Fit of at least one hit; with fewer than four the line is level, outliers are not judged and nothing is known of
    the rest.

    First line by Theil and Sen; hits that the nearer ones exclude are set aside (`_hits_kept`); least squares over what
    stays. Slope and line: Student's t. Jitter: see `spread_ends`; which hits are odd is in doubt itself, so its lower
    end takes more of them for odd than its upper one.
    Median: see `sign_interval`; where a slope is found, of the hits as they would stand in the middle.
    """
    count = len(seconds)
    if count < 4 or np.ptp(seconds) == 0:
        median = float(np.median(lateness_ms))
        spread = float(np.std(lateness_ms)) if count > 1 else 0.0
        return Line(np.ones(count, bool), 0.0, median, np.inf, spread, 0.0, np.inf, median)
    first = _first_slope(seconds, lateness_ms)
    split = _two_groups(seconds, lateness_ms, first)
    used, strict, wide = (
        _hits_kept(lateness_ms - first * seconds) if split is None else (split[0] | split[1], None, None)
    )
    time, late = seconds[used], lateness_ms[used]
    number = len(time)
    slope, intercept, middle, square = _least_squares(time, late)
    if number < 3 or square == 0:
        median = float(np.median(late))
        return Line(used, 0.0, median, np.inf, 0.0, 0.0, np.inf, median)
    rest = late - (intercept + slope * time)
    typical = float(np.median(time))
    quantile = student_quantile(number - 2)
    two = None
    if split is None:
        slope_half = quantile * math.sqrt(float((rest**2).sum()) / (number - 2) / square)
        median = float(np.median(late))
        levelled = late
        if abs(slope) > slope_half:
            level = late - slope * (time - typical)
            # The fit has taken two degrees of freedom out of what is left.
            levelled = np.median(level) + (level - np.median(level)) * np.sqrt(number / (number - 2))
        low_end, high_end = sign_interval(levelled)
        ends = min(low_end, median), max(high_end, median)
    else:
        slope, slope_half = _common_slope(seconds, lateness_ms, split)
        level = lateness_ms - slope * (seconds - typical)
        early, later = (float(level[group].mean()) for group in split)
        two = TwoValues(early, later, float(split[1].sum() / number))
        median, ends = (early + later) / 2, (early, later)
        intercept = median - slope * typical
        rest = late - slope * time
        rest = rest - rest.mean()
    jitter = float(np.sqrt((rest**2).sum() / (number - 2)))
    if two:
        low, high = spread_ends(rest)
    else:
        low, high, highest = (
            spread_ends(_rest(seconds[kept], lateness_ms[kept]))[end]
            for kept, end in ((strict, 0), (used, 1), (wide, 1))
        )
        high = max(high, min(highest, MOST_RAISED * high))
    return Line(
        used=used,
        slope=slope,
        intercept=intercept,
        slope_half=float(slope_half),
        jitter_ms=jitter,
        jitter_low=low,
        jitter_high=high,
        median_ms=median,
        median_low=ends[0],
        median_high=ends[1],
        middle=middle,
        mean_half=quantile * jitter / math.sqrt(number),
        skew_ms=0.0 if two else float(np.median(rest)),
        two=two,
    )


def _first_slope(x: np.ndarray, y: np.ndarray) -> float:
    """The slope after Theil and Sen: the median of the slopes of all pairs."""
    pick = np.unique(np.linspace(0, len(x) - 1, min(len(x), _MOST_FOR_PAIRS)).astype(int))
    x, y = x[pick], y[pick]
    first, second = np.triu_indices(len(x), 1)
    across = x[second] - x[first]
    apart = across > 0
    return float(np.median((y[second] - y[first])[apart] / across[apart]))


def _least_squares(x: np.ndarray, y: np.ndarray) -> tuple[float, float, float, float]:
    """(slope, intercept, mean of x, sum of squares of x about it)."""
    middle = float(x.mean())
    square = float(((x - middle) ** 2).sum())
    slope = float(((x - middle) * (y - y.mean())).sum() / square) if square else 0.0
    return slope, float(y.mean() - slope * middle), middle, square


def _hits_kept(level: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Which hits are no outliers: as used, by a stricter rule, and with those that may be a long end.

    Outwards from the middle, each hit is asked whether the nearer ones exclude it (Student's t of a further value; by
    what share grows with their number, so that the long end of a skewed spread stays in): outliers so never widen the
    measure that finds them.
    """
    count = len(level)
    loose = FEW_LOOSE_MS if count < FEW else LOOSE_MS
    away = np.abs(level - np.median(level))
    order = np.argsort(away, kind="stable")
    least = min(max(math.ceil(0.6 * count), 4, int((away <= loose).sum())), count)
    inside = np.arange(least, count)
    ordered = level[order] - np.median(level)
    mean = np.cumsum(ordered)[inside - 1] / inside
    square = np.maximum(np.cumsum(ordered**2)[inside - 1] - inside * mean**2, 0)
    spread = np.sqrt(square / (inside - 2) * (1 + 1 / inside))
    out = np.abs(ordered[inside] - mean)
    deviations = min(3.3 + 0.7 * math.log2(max(count, 10) / 10), 5.0)

    def kept(stricter: float) -> tuple[np.ndarray, np.ndarray]:
        limits = np.maximum(student_quantile(inside - 2, deviations - stricter) * spread, loose)
        beyond = np.flatnonzero(out > limits)
        used = np.ones(count, bool)
        if not len(beyond):
            return used, used
        number = int(inside[beyond[0]])
        used[order[number:]] = False
        wide = used.copy()
        odd_ones = max(int(ODD_SHARE * count), 1)
        # Half as many as odd ones may be: rather a long end's.
        if count - number <= max(odd_ones / 2, 1):
            wide[order[number:]] = np.abs(ordered[number:] - mean[beyond[0]]) <= NEAR * limits[beyond[0]]
        wide[order[number : count - odd_ones]] = True
        return used, wide

    used, wide = kept(0.0)
    return used, kept(STRICT)[0], wide


def _rest(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """What the least-squares line leaves."""
    slope, intercept, *_ = _least_squares(x, y)
    return y - intercept - slope * x


def _two_groups(seconds: np.ndarray, late: np.ndarray, slope: float) -> tuple[np.ndarray, np.ndarray] | None:
    """(hits at the earlier of two values, at the later one), or None where they do not stand at two."""
    count = len(late)
    least = max(2, math.ceil(LEAST_SHARE * count))
    if count < 8:
        return None
    found = None
    for _ in range(3):
        level = late - slope * seconds
        order = np.argsort(level)
        gaps = np.diff(level[order])[least - 1 : count - least]
        cut = least + int(gaps.argmax())
        centres, spreads, groups = [], [], []
        for part in (order[:cut], order[cut:]):
            centres.append(float(np.median(level[part])))
            spreads.append(1.4826 * float(np.median(np.abs(level[part] - centres[-1]))))
        apart = centres[1] - centres[0]
        if not TWO_MS[0] <= apart <= TWO_MS[1] or max(spreads) * TIGHT > apart:
            return found
        for centre, spread in zip(centres, spreads, strict=True):
            groups.append(np.abs(level - centre) <= max(OUTLIER * spread, apart / 4))
        if min(group.sum() for group in groups) < least:
            return found
        found = (groups[0], groups[1])
        slope, _ = _common_slope(seconds, late, found)
    return found


def _common_slope(x: np.ndarray, y: np.ndarray, groups: tuple[np.ndarray, np.ndarray]) -> tuple[float, float]:
    """(one slope for both groups, each about its own middle; half-width of its 95 % interval)."""
    across = np.concatenate([x[group] - x[group].mean() for group in groups])
    up = np.concatenate([y[group] - y[group].mean() for group in groups])
    square = float((across**2).sum())
    if square == 0:
        return 0.0, math.inf
    slope = float((across * up).sum()) / square
    freedom = len(across) - 3
    spread = math.sqrt(float(((up - slope * across) ** 2).sum()) / freedom)
    # The rest is wider than these hits say, since each was put to the group that it suits.
    return slope, (1 + 2 / len(across)) * student_quantile(freedom) * spread / math.sqrt(square)


def spread_ends(rest: np.ndarray) -> tuple[float, float]:
    """95 % interval of the standard deviation behind residuals of a fitted line.

    The wider of the chi-square interval (exact for a normal spread), its upper end raised where few hits may not have
    shown a long end yet, and of Bonett's for a spread that is not normal (Computational Statistics & Data Analysis 50,
    2006), whose upper half is stretched: he takes the kurtosis of few values for known. By how much is set by
    simulation, so that it costs a normal spread 0.6 of its exact width at most.
    """
    from scipy.special import chdtri

    number = len(rest)
    freedom = number - 2
    if freedom < 1 or not rest.any():
        return 0.0, math.inf if freedom < 1 else 0.0
    spread = math.sqrt(float((rest**2).sum()) / freedom)
    low = spread * math.sqrt(freedom / chdtri(freedom, 0.025))
    high = spread * math.sqrt(freedom / chdtri(freedom, 0.975))
    if number < 5:
        return low, high
    trimmed = np.sort(rest)[(cut := int(number / (2 * math.sqrt(max(number - 4, 1))))) : number - cut]
    centre = float(trimmed.mean()) if len(trimmed) else 0.0
    kurtosis = number * float(((rest - centre) ** 4).sum()) / float((rest**2).sum()) ** 2
    lopsided = abs(float((rest**3).mean())) / float((rest**2).mean()) ** 1.5
    z = 1.96
    small = number / (number - z)
    error = small * math.sqrt(max(kurtosis - (number - 3) / number, 1e-9) / (number - 1)) / 2
    octaves = math.log2(number / 10)
    raised = 1.0 if number < 8 else 1.12 if number < 10 else float(np.clip(1.24 - 0.05 * octaves, 1.0, 1.23))
    stretch = (
        0.95 + 0.3 * min(max(lopsided - 0.5, 0.0), 1.5)
        if number < 8
        else float(np.clip(1.02 + 0.27 * octaves, 1.0, 1.75)) + 0.5 * min(max(lopsided - 0.3, 0.0), 1.5)
    )
    centred = spread * math.sqrt(small)
    return min(low, centred * math.exp(-z * error)), max(raised * high, centred * math.exp(stretch * z * error))


def sign_interval(values: np.ndarray) -> tuple[float, float]:
    """Interval of the median whatever the spread is like: by the sign test, interpolated between ranks (Hettmansperger
    and Sheather, Statistics & Probability Letters 4, 1986); the outermost values of seven or fewer.

    >>> sign_interval(np.arange(1.0, 6.0))
    (1.0, 5.0)
    """
    ordered = np.sort(np.asarray(values, dtype=np.float64))
    count = len(ordered)
    if count <= 7:
        return float(ordered[0]), float(ordered[-1])
    if count > 100:
        # The sign test's normal approximation.
        rank = (count + 1) / 2 - 2.2414 * math.sqrt(count) / 2
        at = np.arange(1, count + 1)
        return float(np.interp(rank, at, ordered)), float(np.interp(count + 1 - rank, at, ordered))
    rank, inner, outer = 0, 1.0, 1.0
    while inner >= SIGN_LEVEL:
        rank, outer = rank + 1, inner
        inner -= 2 * math.comb(count, rank) / 2**count
    # Between ranks `rank - 1`, of level `outer`, and `rank`, of level `inner`, counted from 0.
    share = (outer - SIGN_LEVEL) / (outer - inner)
    weight = (count - rank) * share / (rank + (count - 2 * rank) * share)
    low = (1 - weight) * ordered[rank - 1] + weight * ordered[rank]
    high = (1 - weight) * ordered[count - rank] + weight * ordered[count - rank - 1]
    return float(low), float(high)


def student_quantile(freedom: int, z: float = 1.959964) -> float:
    """The 97.5 % point of Student's t, by its expansion around the normal one (Abramowitz and Stegun 26.7.5); z: the
    normal point of another share.

    Within 1 % from two degrees of freedom on.

    >>> round(student_quantile(10), 3), round(student_quantile(46), 3)
    (2.228, 2.013)
    """
    n = freedom
    terms = (
        (z**3 + z) / 4,
        (5 * z**5 + 16 * z**3 + 3 * z) / 96,
        (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384,
        (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92160,
    )
    return z + sum(term / n**power for power, term in enumerate(terms, start=1))
