"""Exactly when does each hit begin?

A hit's onset is the first point where the rectified signal, its local mean removed and counted from the level in
the 5 ms before the rise, passes 10 % of the hit's own peak, interpolated between samples. The peak is the highest
point within 150 ms or before the next moment. Nothing that shifts or smears time is applied to the signal.
"""

from dataclasses import dataclass, fields

import numpy as np

from hypotaxis.core.timing.novelty import Novelty
from hypotaxis.core.timing.recording import Recording, windows
from hypotaxis.core.timing.ringing import hit_alone
from hypotaxis.core.timing.running import highest_ending

BEFORE_MS = 5.0
PEAK_MS = 150.0
THRESHOLD = 0.10
RINGING = 0.12
"""Level before a hit, as a share of its height, from which what rings is taken off first."""
MIN_SWELL = 0.7
"""Smallest swell (natural log, 6 dB) that is taken for one where no single hop rises."""
NOISE = 0.3
"""Roughness from which the level before a hit is noise, which cannot be predicted."""
MIN_RISE = 0.35
"""Smallest rise of the coarse curve (natural log, 3 dB) that is taken for the beginning of a hit."""
LOOK_MS, CALM_MS = 60.0, 12.0
"""How far before a slow rise its beginning is looked for, and the stretch that must be calm there: longer than half a
period of the lowest usual bass note, so that what swings through zero is not taken for silence."""
CALMER, HARDLY = 0.6, 0.02
"""How much calmer it must be there, and the level before a hit from which it is worth looking."""
BATCH_SAMPLES = 2_000_000
"""Samples looked at together: rows of one hit each."""
FEW = 64
WIDE = 0.3
"""Share of its peak over which a hit's width is taken."""


@dataclass(frozen=True, eq=False)
class Hits:
    """One row a moment. found: whether something begins there; positions and widths in samples: onset, peak_at,
    width (from the first to the last sample over 30 % of the peak), rise (10 to 90 %); heights: peak and base (the
    level before)."""

    onset: np.ndarray
    peak: np.ndarray
    peak_at: np.ndarray
    base: np.ndarray
    rough: np.ndarray
    """Energy of the differences of neighbouring samples before the hit, against their own (white noise has 2, what
    rings far less)."""
    rung: np.ndarray
    """1 where something that rings on was taken off first. Rows not found hold NaN."""
    width: np.ndarray
    rise: np.ndarray

    @property
    def found(self) -> np.ndarray:
        return ~np.isnan(self.onset)

    @classmethod
    def none(cls, count: int) -> "Hits":
        """So many rows without a hit."""
        return cls(**{field.name: np.full(count, np.nan) for field in fields(cls)})


def find_hits(
    recording: Recording,
    curve: Novelty,
    *,
    around: np.ndarray,
    reach: np.ndarray,
    until: np.ndarray,
    few_through_ringing: bool = False,
) -> Hits:
    """The hit that begins within `reach` samples of each `around`, its peak before `until`.

    around ascending. Where something rings on, it is taken off first; few_through_ringing: in an even selection of
    those rows only, the others count as not found.
    """
    hits = Hits.none(len(around))
    rate = recording.rate
    lead = round((BEFORE_MS + LOOK_MS) * rate / 1000) + 2 * curve.hop
    length = lead + int(2 * reach.max(initial=0.0)) + round(PEAK_MS * rate / 1000) + 2 * curve.hop
    step = max(1, BATCH_SAMPLES // length)
    gaps = np.diff(around, prepend=-np.inf)
    for start in range(0, len(around), step):
        part = slice(start, start + step)
        _plain(recording, curve, hits, part, around[part], reach[part], until[part], gaps[part] / 2, lead, length)
    rows = np.flatnonzero(~((hits.base <= RINGING * hits.peak) | (hits.rough > NOISE)))
    if few_through_ringing and len(rows) > FEW:
        left_out = np.setdiff1d(rows, rows[np.linspace(0, len(rows) - 1, FEW).astype(int)])
        hits.onset[left_out] = np.nan
        rows = np.setdiff1d(rows, left_out)
    _through_ringing(recording, curve, hits, rows, around, reach, until)
    return hits


def rough_onsets(curve: Novelty, around: np.ndarray, reach: np.ndarray) -> np.ndarray:
    """Roughly (to a hop or two) where something begins within `reach` of each `around`, in samples; NaN where not."""
    _, start, steepest = _rising(curve, around, reach)
    return np.where(steepest >= MIN_RISE, start.astype(np.float64), np.nan)


def _rising(curve: Novelty, around: np.ndarray, reach: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(first hop looked at, sample at which the chosen hop begins, rise of the steepest one) of each row."""
    hop = curve.hop
    low = np.maximum(0, np.floor(around - reach)).astype(np.int64) // hop
    high = (np.floor(around + reach) + 1).astype(np.int64) // hop
    hops = low[:, None] + np.arange(int((high - low).max(initial=0)) + 1)
    inside = (hops <= high[:, None]) & (hops < len(curve.rises))
    index = np.minimum(hops, max(len(curve.rises) - 1, 0))
    rises = np.where(inside, curve.rises[index], 0.0)
    steepest = rises.max(axis=1, initial=0.0)
    # The first hop that rises nearly as much as the steepest one: a slow attack rises over several.
    chosen = np.argmax(rises >= np.maximum(MIN_RISE, 0.6 * steepest)[:, None], axis=1)
    slow = np.flatnonzero(steepest < MIN_RISE)
    if len(slow):
        swells = np.where(inside[slow], curve.swells[index[slow]], 0.0)
        steepest[slow] = np.where(swells.max(axis=1) >= MIN_SWELL, MIN_RISE, 0.0)
        chosen[slow] = swells.argmax(axis=1)
    return low, (low + chosen) * hop, steepest


def _plain(recording, curve, hits: Hits, part: slice, around, reach, until, room, lead: int, length: int) -> None:
    """Rows in which the coarse curve rises between two samples, read straight from the signal."""
    hop, rate = curve.hop, recording.rate
    low, start, steepest = _rising(curve, around, reach)
    origin = low * hop - lead
    rows = windows(recording, curve.side, origin, length)
    begin = start - origin - hop
    before = round(BEFORE_MS * rate / 1000)
    earlier = np.take_along_axis(rows, begin[:, None] - before + np.arange(before), axis=1).astype(np.float64)
    mean = earlier.mean(axis=1, keepdims=True)
    base = np.abs(earlier - mean).max(axis=1)
    end = np.minimum(np.maximum(until, start + 2 * hop), start + PEAK_MS * rate / 1000) - origin
    end = np.minimum(end, recording.frames - origin)
    heights = np.abs(rows - mean.astype(np.float32))
    alone = _between(heights, begin, end)
    peak = alone.max(axis=1).astype(np.float64)
    slow = np.flatnonzero((base > HARDLY * peak) & (steepest >= MIN_RISE))
    before_it = heights[np.arange(len(rows)), np.maximum(begin - 1, 0)]
    if len(slow):
        begin[slow], base[slow] = _calm_before(heights[slow], begin[slow], base[slow], room[slow], rate)
        before_it[slow] = heights[slow, np.maximum(begin[slow] - 1, 0)]
        alone[slow] = _between(heights[slow], begin[slow], end[slow])
    # Left of the earliest beginning and right of the last end nothing is looked at.
    first = max(0, int(begin.min()) - 1)
    last = max(first + 2, int(np.ceil(end.max())))
    heights, origin = alone[:, first:last], origin + first
    peak_column = heights.argmax(axis=1)
    peak = heights[np.arange(len(rows)), peak_column].astype(np.float64)
    fine = (steepest >= MIN_RISE) & (peak > base * 1.05)
    threshold = base + THRESHOLD * (peak - base)
    # What stands just before the first column looked at is part of the crossing.
    onset = _first_passing(heights, threshold, before_it)
    high = _first_passing(heights, base + 0.9 * (peak - base), np.zeros(len(rows)))
    over = heights > (WIDE * peak).astype(heights.dtype)[:, None]
    width = (heights.shape[1] - 1 - np.argmax(over[:, ::-1], axis=1)) - np.argmax(over, axis=1)
    for name, value in {
        "onset": onset + origin,
        "peak": peak - base,
        "peak_at": peak_column + origin,
        "base": base,
        "rough": (np.diff(earlier, axis=1) ** 2).mean(axis=1) / np.maximum(earlier.var(axis=1), 1e-30),
        "rung": np.zeros(len(rows)),
        "width": width,
        "rise": high - onset,
    }.items():
        getattr(hits, name)[part] = np.where(fine, value, np.nan)


def _between(heights: np.ndarray, begin: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Rows with silence before their begin and from their end on (columns)."""
    columns = np.arange(heights.shape[1])
    return heights * ((columns >= begin[:, None]) & (columns < end[:, None]))


def _calm_before(heights, begin, base, room, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """(column, level) from which each row rises: earlier than `begin` where it is much calmer there."""
    look, calm = round(LOOK_MS * rate / 1000), round(CALM_MS * rate / 1000)
    if len(begin) == 0:
        return begin, base
    stretch = np.take_along_axis(heights, begin[:, None] - look + np.arange(look), axis=1)
    # Highest level of the stretch that ends at each column.
    ending = highest_ending(stretch, calm)
    ending[:, : calm - 1] = np.inf
    ending[np.arange(look) < (look - room)[:, None]] = np.inf
    at = look - 1 - np.argmin(ending[:, ::-1], axis=1)
    level = ending[np.arange(len(at)), at].astype(np.float64)
    calmer = level < CALMER * base
    return np.where(calmer, begin - look + at + 1, begin), np.where(calmer, level, base)


def _first_passing(heights: np.ndarray, threshold: np.ndarray, before: np.ndarray) -> np.ndarray:
    """Column (float) where each row first passes its threshold; before: height left of its first column not 0."""
    rows = np.arange(len(heights))
    at = np.argmax(heights > threshold.astype(heights.dtype)[:, None], axis=1)
    above = heights[rows, at]
    below = heights[rows, np.maximum(at - 1, 0)]
    below = np.where((below == 0) & (before < threshold), before, below)
    rise = above - below
    share = np.where(rise > 0, (threshold - below) / np.where(rise > 0, rise, 1.0), 0.0)
    return at - 1 + np.clip(share, 0.0, 1.0)


def _through_ringing(recording, curve, hits: Hits, rows, around, reach, until) -> None:
    for row in rows.tolist():
        first, last = max(0, int(around[row] - reach[row])), int(around[row] + reach[row]) + 1
        found = hit_alone(recording, curve.side, first, last, float(until[row]))
        if found is None:
            continue
        height, begin, rest = found
        base = float(height[:rest].max())
        peak_column = rest + int(height[rest:].argmax()) if len(height) > rest else rest
        peak = float(height[rest:].max(initial=0.0))
        if peak <= base * 1.05:
            continue
        looked_at = np.where(np.arange(len(height)) < rest, 0.0, height)[None]
        left = np.array([height[rest - 1]])
        onset = _first_passing(looked_at, np.array([base + THRESHOLD * (peak - base)]), left)[0]
        high = _first_passing(looked_at, np.array([base + 0.9 * (peak - base)]), left)[0]
        over = np.flatnonzero(looked_at[0] > WIDE * peak)
        hits.onset[row], hits.peak_at[row] = begin + onset, begin + peak_column
        hits.peak[row], hits.base[row], hits.rung[row] = peak - base, base, 1.0
        hits.width[row], hits.rise[row] = float(over[-1] - over[0]) if len(over) else 0.0, high - onset


def loose_hits(curve: Novelty, claimed: np.ndarray, typical_peak: float) -> list[float]:
    """Positions (samples) of hits within 20 dB of the typical one that lie near no claimed onset."""
    rises, level = curve.rises, curve.level
    ahead = 20
    strong = np.flatnonzero(rises >= np.log(4.0))
    claimed = np.sort(claimed)
    found: list[float] = []
    for at in strong.tolist():
        position = at * curve.hop
        if found and position - found[-1] < 30 * curve.hop:
            continue
        if level[at : at + ahead].max() < typical_peak * 0.1:
            continue
        near = np.searchsorted(claimed, position)
        nearest = min((abs(claimed[n] - position) for n in (near - 1, near) if 0 <= n < len(claimed)), default=np.inf)
        if nearest >= 15 * curve.hop:
            found.append(float(position))
    return found
