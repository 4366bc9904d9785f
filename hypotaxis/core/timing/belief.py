"""How far is an answer to be believed?

Confidence is a product of shares, each 1 where nothing speaks against the answer. The bounds are set so that of the
generated cases of the tests that are given 0.9 or more, at least 95 % are within their target.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.timing.line import TwoValues
from hypotaxis.core.timing.novelty import Lag

AMBIGUOUS = 0.85
"""A rival shift that reaches this share of the best match may be the true one."""
AMBIGUOUS_AT_MOST = 0.45
"""Of one that has rivals: less than an even chance."""
SLOW_MS = 25.0
"""Attack (10 to 90 %) from which a beginning cannot be told to a quarter of a millisecond."""
TWO_VALUES = 0.8
"""At most, where no hit stands at the value that is told."""
UNLIKELY, WILD_JITTER_MS, WILD_DRIFT_PPM = 0.35, 2.5, 200.0
"""An answer of so little confidence that scatters or drifts so much is none."""
LOOSE_JITTER_MS = 5.0
"""Hits that scatter more than this over a window of ±14 ms may be anything (evenly spread ones have 8 ms)."""
FEW_EXTRA, EXTRA_SHARE, MISSED_SHARE = 4, 0.15, 0.15
"""Odd hits up to which nothing is said, and the shares of the matched and of the notes from which it is."""


@dataclass(frozen=True, kw_only=True)
class Evidence:
    """What a match rests on: counts, the scatter and the drift of the hits, the level before them as a share of their
    height, how long they rise (10 to 90 %), the share that begins while something rings on, by how much what stands
    before a slow rise may have moved the point where it is noticed, whether the notes are uneven, the coarse lags, best
    first, and the two values at which the hits stand, if they do."""

    matched: int
    missed: int
    used: int
    extra: int
    jitter_ms: float
    drift_ppm: float
    drift_half: float
    base: float
    rise_ms: float
    rung: float
    covered_ms: float
    uneven: bool
    lags: tuple[Lag, ...]
    lateness_ms: float
    range_ms: tuple[float, float]
    two: TwoValues | None = None


@dataclass(frozen=True)
class Belief:
    """confidence 0–1; other shifts that match nearly as well; what to tell; a reason to refuse, or nothing."""

    confidence: float
    alternatives_ms: tuple[float, ...]
    warnings: tuple[str, ...]
    refusal: str = ""


def many_extra(matched: int, extra: int) -> bool:
    """Whether more hits belong to no note than hands and rattles make (common practice)."""
    return extra > FEW_EXTRA and extra > EXTRA_SHARE * matched


def many_missed(matched: int, missed: int) -> bool:
    """Whether too many notes have no hit."""
    return missed > MISSED_SHARE * (matched + missed)


def believe(evidence: Evidence) -> Belief:
    """What the evidence is worth."""
    if evidence.jitter_ms > LOOSE_JITTER_MS:
        return Belief(
            0.0,
            (),
            (),
            f"The hits scatter by {evidence.jitter_ms:.1f} ms around any line. What came back does not follow these "
            "notes, or the box plays its own pattern.",
        )
    if evidence.extra > 2 * evidence.matched:
        return Belief(
            0.0,
            (),
            (),
            f"{evidence.extra} hits belong to no note, against {evidence.matched} that do: more likely another piece, "
            "or other instruments on the same input. Choose the track or channel that was recorded.",
        )
    rivals = _rivals(evidence)
    covered_ms = evidence.covered_ms
    if evidence.uneven:
        # What covers beginnings differs from note to note: it moves them by half of it on the whole, and would make
        # them scatter by as much.
        covered_ms = min(covered_ms / 2, 2 * evidence.jitter_ms + 0.05)
    inside = evidence.matched + evidence.missed
    confidence = (
        ramp(evidence.matched / inside, 0.6, 0.9)
        * ramp(evidence.used / evidence.matched, 0.7, 0.9)
        * ramp(evidence.used, 2, 10)
        * ramp(-evidence.jitter_ms, -6.0, -3.6)
        * ramp(-evidence.extra / evidence.matched, -2.5, -1.1)
        * ramp(-evidence.base, -0.6, -0.3)
        * ramp(-covered_ms, -1.0, -0.12)
    )
    warnings = []
    if rivals:
        confidence = min(confidence, AMBIGUOUS_AT_MOST)
        listed = ", ".join(f"{ms:+.1f} ms" for ms in rivals)
        warnings.append(
            f"ambiguous: a shift of {listed} matches nearly as well, since the notes repeat at that distance. "
            "Measure with uneven notes."
        )
    if evidence.two:
        confidence = min(confidence, TWO_VALUES)
        early, late, share = evidence.two.early_ms, evidence.two.late_ms, evidence.two.later_share
        warnings.append(
            f"Two values: {1 - share:.0%} of the hits come at {early:+.2f} ms, {share:.0%} at {late:+.2f} ms, as a "
            "buffer or a frame grid makes them. The lateness told is half-way between; a driver of another kind, or "
            "time stamps from another source, may end it."
        )
    if evidence.rung > 0.5:
        confidence = min(confidence, 0.85)
        warnings.append("Most hits begin while others ring on: an uneven pattern with gaps tells it more surely.")
    if evidence.rise_ms > SLOW_MS:
        # From a beginning that is hardly one of definition to one that a tenth of a second leaves open.
        confidence = min(confidence, 0.85 - 0.5 * ramp(evidence.rise_ms, SLOW_MS, 100.0))
        warnings.append(
            f"The sound takes {evidence.rise_ms:.0f} ms to rise: where it begins is a matter of definition. Compare it "
            "with soundings of the same sound, or measure with a percussive one."
        )
    if many_extra(evidence.matched, evidence.extra):
        warnings.append(f"{evidence.extra} hits belong to no note: notes doubled, or something else on this input.")
    if many_missed(evidence.matched, evidence.missed):
        warnings.append(
            f"{evidence.missed} of {inside} notes have no hit: the sound swallows them, or it is another take's."
        )
    # Few hits leave the drift open; only one that they are sure of speaks against them.
    drifts = abs(evidence.drift_ppm) - evidence.drift_half > WILD_DRIFT_PPM
    wild = evidence.jitter_ms > WILD_JITTER_MS or drifts
    if confidence < UNLIKELY and wild:
        return Belief(
            0.0,
            (),
            (),
            f"The hits scatter by {evidence.jitter_ms:.1f} ms and drift by {evidence.drift_ppm:+.0f} ppm, and little "
            "else speaks for them: more likely echoes or other notes were taken for these. Record a drier or shorter "
            "sound.",
        )
    return Belief(round(float(confidence), 3), rivals, tuple(warnings))


def _rivals(evidence: Evidence) -> tuple[float, ...]:
    low, high = evidence.range_ms
    best = max((lag.score for lag in evidence.lags), default=0.0)
    return tuple(
        round(lag.lateness_ms, 1)
        for lag in evidence.lags
        if lag.score >= AMBIGUOUS * best
        and low <= lag.lateness_ms <= high
        and abs(lag.lateness_ms - evidence.lateness_ms) > 12
    )


def ramp(value: float, nothing: float, all_of_it: float) -> float:
    """What a value is worth, 0 to 1, between where it is worth nothing and where all of it."""
    return float(np.clip((value - nothing) / (all_of_it - nothing), 0.0, 1.0))
