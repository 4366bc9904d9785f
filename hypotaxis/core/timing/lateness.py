"""How late is a recording against its notes?

Lateness of a hit = onset − moment, in ms, + late. The answer carries its uncertainty, or is refused by name.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from hypotaxis.core.errors import NoAnswer, NoSignal, UnreadableFile, WrongScore, WrongTempo
from hypotaxis.core.timing.belief import AMBIGUOUS, Belief, Evidence, believe
from hypotaxis.core.timing.hits import NOISE, Hits, find_hits, loose_hits, rough_onsets
from hypotaxis.core.timing.levels import Levels, levels_of
from hypotaxis.core.timing.likeness import read_together
from hypotaxis.core.timing.line import Line, TwoValues, robust_line
from hypotaxis.core.timing.moments import Moments
from hypotaxis.core.timing.novelty import Lag, Novelty, best_lags, novelty, spectral_novelty
from hypotaxis.core.timing.recording import MIX, SIDE_NAMES, Recording
from hypotaxis.core.timing.swells import coarse_lag, is_soft, swell_onsets
from hypotaxis.core.timing.tempos import other_tempo

RANGE_MS = (-10.0, 250.0)
FEWEST_HITS = 4
SMALLEST_SHARE = 0.6
LARGEST_DRIFT_PPM = 300.0
REACH_MS = 14.0
"""How far from the coarse lag a hit is looked for: four standard deviations of 3 ms jitter."""
UNEVEN = 0.1
"""Spread of the distances between notes, as a share of their mean, from which what stands before each differs."""
CLEAR, TRIED = 0.7, 3
"""Share of the moments that must agree for a lag to need no rivals, and how many rivals of a kind are tried."""
EARLIER = 0.7
"""Share of the best fit from which an earlier lag is tried as well."""
SILENCE = 10 ** (-80 / 20)
SWELL_JITTER_MS, FEWEST_SWELLS, SWELL_CONFIDENCE = 15.0, 6, 0.25
"""How far swells may scatter and still be those of the notes, how many are needed, and what such an answer is worth."""
STEADY_JITTER_MS, SUDDEN_MS, LEFT_OPEN = 0.3, 25.0, 0.05
"""Scatter up to which hits are read alike; rise (10 to 90 %) up to which a beginning is none of definition, and the
share of a slower one that is left open."""
GRID_SAMPLES, CENTRE_SAMPLES = 0.3, 0.05
"""What the sampling grid leaves unknown of an edge, and of an impulse's centre."""

STEADY = (
    "Only a steady sound or noise came back: there is no signal in which anything begins. Check that the notes are "
    "sent, the box's level and the cable."
)
Progress = Callable[[float], None]


@dataclass(frozen=True)
class MatchedHit:
    """One moment and its hit: moment and onset in samples, lateness in ms; used is False where it was set aside."""

    moment: float
    onset: float
    lateness_ms: float
    used: bool


@dataclass(frozen=True, kw_only=True)
class Lateness:
    """The answer. All `_half` values are half-widths of 95 % intervals, `_low` and `_high` the ends of such that
    are not even; drift in ppm, + = progressively later; attack from 10 to 90 % of the peak."""

    lateness_ms: float
    lateness_low: float
    lateness_high: float
    start_ms: float
    start_half: float
    end_ms: float
    end_half: float
    jitter_ms: float
    jitter_low: float
    jitter_high: float
    drift_ppm: float
    drift_half: float
    attack_ms: float
    attack_half: float
    sample_rate: int
    side: str
    """Mono, left, right or mix."""
    hits: tuple[MatchedHit, ...]
    missed: int
    merged: int
    outside: int
    extra: int
    clipped: bool
    impulses: bool
    confidence: float
    """0 to 1."""
    alternatives_ms: tuple[float, ...]
    """Other shifts that match nearly as well. matched + missed + merged + outside = number of distinct note
    moments; matched = used + set_aside."""
    warnings: tuple[str, ...]
    two: TwoValues | None = None
    """Where the hits stand at two values; lateness_ms is half-way between them then."""

    @property
    def matched(self) -> int:
        return len(self.hits)

    @property
    def used(self) -> int:
        return sum(hit.used for hit in self.hits)

    @property
    def set_aside(self) -> int:
        return self.matched - self.used

    @property
    def samples(self) -> float:
        """Lateness in samples, not rounded."""
        return self.lateness_ms * self.sample_rate / 1000

    @property
    def placement(self) -> int:
        """The shift in whole samples that makes sound and note coincide: minus the lateness."""
        return -round(self.samples)


@dataclass(frozen=True, eq=False)
class _Match:
    """The moments looked for under one lag, the hits found there and their onsets (NaN where none)."""

    moments: np.ndarray
    hits: Hits
    onset: np.ndarray
    impulses: bool
    rate: int

    @property
    def found(self) -> np.ndarray:
        return ~np.isnan(self.onset)

    def line(self) -> Line:
        """The line through what was found."""
        moments = self.moments[self.found]
        return robust_line(moments / self.rate, (self.onset[self.found] - moments) * 1000 / self.rate)

    def agreement(self) -> float:
        """How many hits agree, each counting less the further they scatter (half at 3 ms)."""
        if self.found.sum() < FEWEST_HITS:
            return 0.0
        line = self.line()
        if not RANGE_MS[0] <= line.median_ms <= RANGE_MS[1]:
            return 0.0
        return float(line.used.sum()) / (1 + (line.jitter_ms / 3) ** 2)

    def unclaimed(self, curve: Novelty) -> int:
        """Hits that no moment claims."""
        if not self.found.any():
            return 0
        return len(loose_hits(curve, self.onset[self.found], float(np.median(self.hits.peak[self.found]))))


class Listened:
    """A recording whose coarse curves are known, so that several sets of moments can be measured against it.

    side: auto, left, right or mix; of a pair `auto` takes the clearer side, never the sum. impulses: such were sent, so
    centres are read even where echoes make the hits long. levels: of those sides, where they are known, so that the
    recording need not be read as a whole. progress: told the share (0–1) of the reading. Raises NoSignal for silence,
    UnreadableFile for samples that are no numbers.
    """

    def __init__(
        self,
        recording: Recording,
        *,
        side: str = "auto",
        impulses: bool = False,
        levels: Levels | None = None,
        progress: Progress | None = None,
    ) -> None:
        self.recording, self.impulses = recording, impulses
        sides = _sides(recording, side)
        known = levels or levels_of(recording, sides, progress)
        # Before anything is worked out of them, which costs far more.
        if not np.isfinite(known.hops[:, 0]).all():
            raise UnreadableFile("The recording holds values that are no numbers. Export it again.")
        loudest = known.hops[:, 0].max(axis=1, initial=0.0)
        if loudest.max() < SILENCE:
            raise NoSignal(
                "Nothing came back: the recording is silent. Check the cable, the box's level and its channel."
            )
        heard = np.flatnonzero(loudest >= max(SILENCE, 0.01 * loudest.max()))
        self.curves = novelty(recording, [sides[row] for row in heard], known.only(heard))

    def measure(self, moments: Moments, *, explain: bool = True) -> Lateness:
        """Lateness against moments whose zero is the recording's first frame. explain: where there is none, find out
        whether another tempo is the reason, which takes as long again.

        Raises NoSignal for noise only, WrongScore when what is heard does not follow the moments, NoAnswer for too few
        hits or a lateness that cannot be.
        """
        rate, frames = self.recording.rate, self.recording.frames
        low, high = RANGE_MS
        near = (moments.positions >= -high * rate / 1000) & (moments.positions < frames - low * rate / 1000)
        if near.sum() < FEWEST_HITS:
            raise NoAnswer(
                f"Only {int(near.sum())} note moments lie inside the recording; at least {FEWEST_HITS} are needed "
                "to tell how late it is. Record a passage with more notes."
            )
        positions, kinds = moments.positions[near], moments.kinds[near]
        curve, lags = self._clearest(positions)
        match = self._best_match(curve, positions, kinds, lags)
        try:
            return _summary(self.recording, curve, match, lags, moments)
        except NoAnswer as error:
            if curve.is_steady:
                raise NoSignal(STEADY) from error
            soft = self._swells(curve, positions, moments) if isinstance(error, WrongScore) else None
            if soft is not None:
                return soft
            ratio = other_tempo(curve, positions, rate) if explain else None
            if ratio is not None:
                raise WrongTempo(ratio) from error
            raise

    def _swells(self, curve: Novelty, positions: np.ndarray, moments: Moments) -> Lateness | None:
        """What a sound without edges tells by how it swells, where that agrees with the moments at all."""
        rate = self.recording.rate
        lag = coarse_lag(curve, positions, rate, RANGE_MS) if is_soft(curve, len(positions)) else None
        if lag is None:
            return None
        onset, rise = swell_onsets(self.recording, curve, positions, lag)
        hits = replace(Hits.none(len(positions)), onset=onset, rise=rise)
        match = _Match(positions, hits, onset, False, rate)
        if match.found.sum() < max(FEWEST_SWELLS, SMALLEST_SHARE * len(positions)):
            return None
        line = match.line()
        low, high = RANGE_MS
        agree = line.used.sum() >= SMALLEST_SHARE * len(positions) and line.jitter_ms <= SWELL_JITTER_MS
        if (
            not agree
            or not low <= line.median_ms <= high
            or abs(line.slope) * 1000 > LARGEST_DRIFT_PPM + line.slope_half * 1000
        ):
            return None
        rise_ms = float(np.median(rise[match.found])) * 1000 / rate
        # Where a slow rise begins is a matter of definition: a quarter of it is left open.
        doubt = rise_ms / 4
        told = (
            f"The notes have no edge, they swell over {rise_ms:.0f} ms: how late they are is known to ±{doubt:.0f} ms. "
            "Compare the recording with another one of the same notes, or measure with a percussive sound."
        )
        belief = Belief(SWELL_CONFIDENCE, (), (told,))
        return _lateness(self.recording, curve, match, line, moments, belief=belief, extra=0, doubt_ms=doubt)

    def _clearest(self, positions: np.ndarray) -> tuple[Novelty, list[Lag]]:
        choices = []
        for number, curve in enumerate(self.curves):
            lags = best_lags(curve, positions, self.recording.rate)
            if lags:
                # Of sides that say the same the louder one.
                choices.append((round(lags[0].score, 2), curve.loudest, -number, curve, lags))
        if not choices:
            raise NoSignal(STEADY)
        *_, curve, lags = max(choices, key=lambda choice: choice[:3])
        return curve, lags

    def _best_match(self, curve: Novelty, positions, kinds, lags: list[Lag]) -> _Match:
        """The lag under which most hits agree best; the others are tried only when the likeliest is no clear case.

        Of two that explain as much the earlier one is taken: notes that come twice are late by the first of them.
        """
        tried = [self._match(curve, positions, kinds, lag) for lag in _close(lags)]
        if max(match.agreement() for match in tried) < CLEAR * len(positions):
            rate = self.recording.rate
            slower = best_lags(spectral_novelty(self.recording, curve), positions, rate)[:TRIED]
            slower += best_lags(replace(curve, rises=curve.swells), positions, rate)[:1]
            tried += [self._match(curve, positions, kinds, lag) for lag in [*slower, *lags[1:TRIED]]]
        if len(tried) == 1:
            return tried[0]
        worths = [match.agreement() - 0.5 * match.unclaimed(curve) for match in tried]
        as_good = [
            match
            for match, worth in zip(tried, worths, strict=True)
            if worth >= max(worths) - 0.75 and match.found.any()
        ]
        if not as_good:
            return tried[0]
        return min(as_good, key=lambda match: float(np.nanmedian(match.onset - match.moments)))

    def _match(self, curve: Novelty, positions: np.ndarray, kinds: np.ndarray, lag: Lag) -> _Match:
        """Each moment with its hit; looked for around the coarse lag first, then again around the line found."""
        rate = self.recording.rate
        middle = (positions[0] + positions[-1]) / 2
        expected = positions + lag.lateness_ms * rate / 1000 + lag.drift_ppm * 1e-6 * (positions - middle)
        reach, _ = self._room(expected, REACH_MS)
        rough = rough_onsets(curve, expected, reach)
        first = _Match(positions, Hits.none(len(positions)), rough, False, rate)
        if first.found.mean() < SMALLEST_SHARE:
            hits = self._hits_around(curve, expected, REACH_MS, few=True)
            first = _Match(positions, hits, hits.onset, False, rate)
        if first.found.sum() < FEWEST_HITS:
            return first
        line = first.line()
        expected = positions + (line.intercept + line.slope * positions / rate) * rate / 1000
        hits = self._hits_around(curve, expected, min(REACH_MS, max(4.0, 5 * line.jitter_ms)), few=False)
        reading = read_together(self.recording, curve.side, hits, kinds, impulses=self.impulses)
        return _Match(positions, hits, reading.onset, reading.impulses, rate)

    def _hits_around(self, curve: Novelty, expected: np.ndarray, reach_ms: float, *, few: bool) -> Hits:
        reach, until = self._room(expected, reach_ms)
        return find_hits(self.recording, curve, around=expected, reach=reach, until=until, few_through_ringing=few)

    def _room(self, expected: np.ndarray, reach_ms: float) -> tuple[np.ndarray, np.ndarray]:
        """(how far around each expected hit to look, where the next one may begin), in samples."""
        after = np.append(expected[1:], np.inf)
        gap = np.append(np.inf, np.diff(expected))
        room = np.minimum(gap, np.append(gap[1:], np.inf)) / 2
        reach = np.minimum(reach_ms * self.recording.rate / 1000, room)
        return reach, after - reach / 2


def measure(
    recording: Recording,
    moments: Moments,
    *,
    side: str = "auto",
    levels: Levels | None = None,
    progress: Progress | None = None,
) -> Lateness:
    """Lateness of a recording whose first frame is the moments' zero; see Listened."""
    return Listened(recording, side=side, levels=levels, progress=progress).measure(moments)


def _close(lags: list[Lag]) -> list[Lag]:
    """The best lag and its nearest rivals; of earlier ones those, too, that fit less well, since echoes come later."""
    best = lags[0]
    return [
        lag for lag in lags if lag.score >= (AMBIGUOUS if lag.lateness_ms >= best.lateness_ms else EARLIER) * best.score
    ][: TRIED + 1]


def _sides(recording: Recording, side: str) -> tuple[int, ...]:
    if recording.channels == 1:
        return (0,)
    return {"auto": (0, 1), "left": (0,), "right": (1,), "mix": (MIX,)}[side]


def _summary(recording: Recording, curve: Novelty, match: _Match, lags: list[Lag], moments: Moments) -> Lateness:
    rate = match.rate
    found = match.found
    if found.sum() < FEWEST_HITS:
        raise WrongScore(
            f"Only {int(found.sum())} of {len(found)} note moments have a hit. What came back does not follow these "
            "notes (check channel, patch and return), or the sound is so slow that its beginnings cannot be read."
        )
    line = match.line()
    matched, missed = _counted(match, line, recording.frames)
    extra = match.unclaimed(curve)
    _refuse(line, matched, missed, extra)
    rise_ms = float(np.median(match.hits.rise[found])) * 1000 / rate
    evidence = Evidence(
        matched=matched,
        missed=missed,
        used=int(line.used.sum()),
        extra=extra,
        jitter_ms=line.jitter_ms,
        drift_ppm=line.slope * 1000,
        drift_half=line.slope_half * 1000,
        base=float(np.median(match.hits.base[found] / (match.hits.base[found] + match.hits.peak[found]))),
        rise_ms=rise_ms,
        covered_ms=_covered_ms(match.hits, rate),
        uneven=bool(np.std(gaps := np.diff(match.moments)) > UNEVEN * np.mean(gaps)),
        rung=float(np.mean(match.hits.rung[found])),
        lags=tuple(lags),
        lateness_ms=line.median_ms,
        range_ms=RANGE_MS,
        two=line.two,
    )
    belief = believe(evidence)
    if belief.refusal:
        raise WrongScore(belief.refusal)
    # A slow rise that is read alike each time is one the definition fits; where hits scatter, it leaves its place open.
    doubt = max(0.0, rise_ms - SUDDEN_MS) * LEFT_OPEN if line.jitter_ms > STEADY_JITTER_MS else 0.0
    return _lateness(recording, curve, match, line, moments, belief=belief, extra=extra, doubt_ms=doubt)


def _lateness(
    recording: Recording,
    curve: Novelty,
    match: _Match,
    line: Line,
    moments: Moments,
    *,
    belief: Belief,
    extra: int,
    doubt_ms: float,
) -> Lateness:
    """The answer of a match that is believed; doubt_ms: what stays open of where its hits begin, all alike."""
    rate, found = match.rate, match.found
    matched, missed = _counted(match, line, recording.frames)
    hits = tuple(
        MatchedHit(float(moment), float(begin), float((begin - moment) * 1000 / rate), bool(used))
        for moment, begin, used in zip(match.moments[found], match.onset[found], line.used, strict=True)
    )
    grid = float(np.hypot((CENTRE_SAMPLES if match.impulses else GRID_SAMPLES) * 1000 / rate, doubt_ms))
    rises = match.hits.rise[found] * 1000 / rate
    start, end = hits[0].moment / rate, hits[-1].moment / rate
    low, high = line.median_ends(grid)
    return Lateness(
        lateness_ms=line.median_ms,
        lateness_low=low,
        lateness_high=high,
        start_ms=line.at(start),
        start_half=float(np.hypot(line.half_at(start), grid)),
        end_ms=line.at(end),
        end_half=float(np.hypot(line.half_at(end), grid)),
        jitter_ms=line.jitter_ms,
        jitter_low=line.jitter_low,
        jitter_high=line.jitter_high,
        drift_ppm=line.slope * 1000,
        drift_half=line.slope_half * 1000,
        attack_ms=float(np.median(rises)),
        attack_half=float(1.96 * 1.2533 * 1.4826 * np.median(np.abs(rises - np.median(rises))) / np.sqrt(len(rises))),
        sample_rate=rate,
        side="mono" if recording.channels == 1 else SIDE_NAMES[curve.side],
        hits=hits,
        missed=missed,
        merged=moments.merged,
        outside=len(moments) - matched - missed,
        extra=extra,
        clipped=curve.clipped,
        impulses=match.impulses,
        confidence=belief.confidence,
        alternatives_ms=belief.alternatives_ms,
        warnings=belief.warnings,
        two=line.two,
    )


def _counted(match: _Match, line: Line, frames: int) -> tuple[int, int]:
    """(moments with a hit, moments without one that should lie inside the recording)."""
    expected = match.moments + (line.intercept + line.slope * match.moments / match.rate) * match.rate / 1000
    inside = match.found | ((expected >= 0) & (expected < frames))
    return int(match.found.sum()), int((inside & ~match.found).sum())


def _covered_ms(hits: Hits, rate: int) -> float:
    """By how much the level before the hits may have moved where they are noticed: what of it is left uncorrected."""
    share = hits.base / (hits.base + hits.peak) / 0.8
    left = np.where(hits.rough > NOISE, 0.5, 1.0)
    return float(np.nanmedian(left * share * hits.rise)) * 1000 / rate


def _refuse(line: Line, matched: int, missed: int, extra: int) -> None:
    inside = matched + missed
    if matched < SMALLEST_SHARE * inside:
        raise WrongScore(
            f"Only {matched} of {inside} note moments have a hit. What came back does not follow these notes (check "
            "channel, patch and return), or the sound is so slow that its beginnings cannot be read."
        )
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
