"""How late is a recording against its notes?

Lateness of a hit = onset − moment, in ms, + late. The answer carries its uncertainty, or is refused by name.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import NoAnswer, NoSignal, WrongScore
from hypotaxis.core.timing.hits import Hit, find_hit, loose_hits
from hypotaxis.core.timing.line import Line, robust_line
from hypotaxis.core.timing.moments import Moments
from hypotaxis.core.timing.novelty import Lag, Novelty, best_lags, novelty, spectral_novelty

RANGE_MS = (-10.0, 250.0)
FEWEST_HITS = 4
SMALLEST_SHARE = 0.6
LARGEST_DRIFT_PPM = 300.0
REACH_MS = 14.0
"""How far from the coarse lag a hit is looked for: four standard deviations of 3 ms jitter."""
CLEAR, TRIED = 0.7, 3
"""Share of the moments that must agree for a lag to need no rivals, and how many rivals of a kind are tried."""
SILENCE = 10 ** (-80 / 20)


Match = tuple[float, Hit]
"""A moment in samples and its hit."""


@dataclass(frozen=True)
class MatchedHit:
    """One moment and its hit: moment and onset in samples, lateness in ms; used is False where it was set aside."""

    moment: float
    onset: float
    lateness_ms: float
    used: bool


@dataclass(frozen=True, kw_only=True)
class Lateness:
    """The answer. All `_half` values are half-widths of 95 % intervals; drift in ppm, + = progressively later.

    used + set_aside + missed + merged + outside = number of distinct note moments.
    """

    lateness_ms: float
    lateness_half: float
    start_ms: float
    end_ms: float
    jitter_ms: float
    jitter_half: float
    drift_ppm: float
    drift_half: float
    sample_rate: int
    side: str
    hits: tuple[MatchedHit, ...]
    missed: int
    merged: int
    outside: int
    extra: int

    @property
    def used(self) -> int:
        return sum(hit.used for hit in self.hits)

    @property
    def set_aside(self) -> int:
        return len(self.hits) - self.used

    @property
    def samples(self) -> float:
        """Lateness in samples, not rounded."""
        return self.lateness_ms * self.sample_rate / 1000

    @property
    def placement(self) -> int:
        """The shift in whole samples that makes sound and note coincide: minus the lateness."""
        return -round(self.samples)


def measure(recording: np.ndarray, rate: int, moments: Moments) -> Lateness:
    """Lateness of a recording, shape (frames,) or (frames, 1 or 2), whose first frame is the moments' zero.

    Of a pair the clearer side is taken, never the sum. Raises NoSignal for silence or noise only, WrongScore when
    what is heard does not follow the moments, NoAnswer for too few hits or a lateness that cannot be.
    """
    sides = np.atleast_2d(recording.T).T
    inside = moments.positions[(moments.positions >= 0) & (moments.positions < len(sides))]
    outside = len(moments) - len(inside)
    if len(inside) < FEWEST_HITS:
        raise NoAnswer(
            f"Only {len(inside)} note moments lie inside the recording; at least {FEWEST_HITS} are needed "
            "to tell how late it is. Record a passage with more notes."
        )
    side, curve, lags = _clearer_side(sides, rate, inside)
    signal = sides[:, side]
    matched = _best_match(signal, curve, rate, inside, lags)
    return _summary(
        matched,
        rate=rate,
        side=_side_name(sides.shape[1], side),
        curve=curve,
        missed=len(inside) - len(matched),
        merged=moments.merged,
        outside=outside,
    )


def _best_match(signal: np.ndarray, curve: Novelty, rate: int, moments: np.ndarray, lags: list[Lag]) -> list[Match]:
    """The lag under which most hits agree best; the other lags are tried only when the likeliest is no clear case."""
    best = _match(signal, curve, rate, moments, lags[0])
    worth = _agreement(best, rate)
    if worth >= CLEAR * len(moments):
        return best
    others = best_lags(spectral_novelty(signal, rate), moments, rate)[:TRIED] + lags[1:TRIED]
    for lag in others:
        found = _match(signal, curve, rate, moments, lag)
        if _agreement(found, rate) > worth * 1.05:
            best, worth = found, _agreement(found, rate)
    return best


def _agreement(matched: list[Match], rate: int) -> float:
    """How many hits agree, each counting less the further they scatter (half at 3 ms)."""
    if len(matched) < FEWEST_HITS:
        return 0.0
    line = _line_through(matched, rate)
    return float(line.used.sum()) / (1 + (line.jitter_ms / 3) ** 2)


def _side_name(count: int, side: int) -> str:
    return "mono" if count == 1 else ("left", "right")[side]


def _clearer_side(sides: np.ndarray, rate: int, moments: np.ndarray) -> tuple[int, Novelty, list[Lag]]:
    loudest = float(np.abs(sides).max(initial=0.0))
    if loudest < SILENCE:
        raise NoSignal("Nothing came back: the recording is silent. Check the cable, the box's level and its channel.")
    choices = []
    for number in range(sides.shape[1]):
        if float(np.abs(sides[:, number]).max()) < max(SILENCE, loudest * 0.01):
            continue
        curve = novelty(sides[:, number], rate)
        lags = best_lags(curve, moments, rate)
        if lags:
            choices.append((lags[0].score, -number, curve, lags))
    if not choices:
        raise NoSignal("Only a steady sound or noise came back: nothing in it begins. Check that the notes are sent.")
    _, number, curve, lags = max(choices, key=lambda choice: choice[:2])
    return -number, curve, lags


def _match(signal: np.ndarray, curve: Novelty, rate: int, moments: np.ndarray, lag: Lag) -> list[Match]:
    """Each moment with its hit; looked for around the coarse lag first, then again around the line found."""
    middle = (moments[0] + moments[-1]) / 2
    expected = moments + lag.lateness_ms * rate / 1000 + lag.drift_ppm * 1e-6 * (moments - middle)
    found = _hits_around(signal, curve, rate, expected, REACH_MS)
    known = [(moment, hit) for moment, hit in zip(moments, found, strict=True) if hit]
    if len(known) < FEWEST_HITS:
        return known
    line = _line_through(known, rate)
    expected = moments + (line.intercept + line.slope * moments / rate) * rate / 1000
    reach = min(REACH_MS, max(4.0, 5 * line.jitter_ms))
    found = _hits_around(signal, curve, rate, expected, reach)
    return [(moment, hit) for moment, hit in zip(moments, found, strict=True) if hit]


def _hits_around(
    signal: np.ndarray, curve: Novelty, rate: int, expected: np.ndarray, reach_ms: float
) -> list[Hit | None]:
    after = np.append(expected[1:], np.inf)
    gap = np.append(np.inf, np.diff(expected))
    room = np.minimum(gap, np.append(gap[1:], np.inf)) / 2
    reach = np.minimum(reach_ms * rate / 1000, room)
    return [
        find_hit(signal, curve, rate, around=here, reach=width, until=following - width / 2)
        for here, width, following in zip(expected, reach, after, strict=True)
    ]


def _line_through(matched: list[Match], rate: int) -> Line:
    moments = np.array([moment for moment, _ in matched])
    onsets = np.array([hit.onset for _, hit in matched])
    return robust_line(moments / rate, (onsets - moments) * 1000 / rate)


def _summary(
    matched: list[Match],
    *,
    rate: int,
    side: str,
    curve: Novelty,
    missed: int,
    merged: int,
    outside: int,
) -> Lateness:
    inside = len(matched) + missed
    if len(matched) < FEWEST_HITS or len(matched) < SMALLEST_SHARE * inside:
        raise WrongScore(
            f"Only {len(matched)} of {inside} note moments have a hit. What came back does not follow these notes: "
            "check channel, patch and return."
        )
    line = _line_through(matched, rate)
    if line.used.sum() < max(FEWEST_HITS, SMALLEST_SHARE * inside):
        raise WrongScore(
            f"Only {int(line.used.sum())} of {inside} hits agree with each other. What came back does not follow "
            "these notes, or the box plays its own pattern."
        )
    low, high = RANGE_MS
    if not low <= line.median_ms <= high:
        raise NoAnswer(
            f"The hits come {line.median_ms:+.1f} ms off, outside {low:+.0f} to {high:+.0f} ms: more likely the "
            "recording begins elsewhere."
        )
    drift = line.slope * 1000
    if abs(drift) - line.slope_half * 1000 > LARGEST_DRIFT_PPM * 1.01:
        raise NoAnswer(
            f"The hits drift by {drift:+.0f} ppm, more than two clocks do. The tempo of notes and recording differs."
        )
    hits = tuple(
        MatchedHit(moment, hit.onset, (hit.onset - moment) * 1000 / rate, bool(used))
        for (moment, hit), used in zip(matched, line.used, strict=True)
    )
    typical = float(np.median([hit.peak for _, hit in matched]))
    claimed = np.array([hit.onset for hit in hits])
    return Lateness(
        lateness_ms=line.median_ms,
        lateness_half=line.median_half,
        start_ms=line.at(hits[0].moment / rate),
        end_ms=line.at(hits[-1].moment / rate),
        jitter_ms=line.jitter_ms,
        jitter_half=line.jitter_half,
        drift_ppm=drift,
        drift_half=line.slope_half * 1000,
        sample_rate=rate,
        side=side,
        hits=hits,
        missed=missed,
        merged=merged,
        outside=outside,
        extra=len(loose_hits(curve, claimed, typical)),
    )
