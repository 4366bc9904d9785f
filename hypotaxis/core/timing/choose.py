"""Which notes of a score does a recording answer?

Track and channel may be given (both means both). Neither given: all notes together; if that does not convince, each
track and each channel alone, and one clear winner is taken.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import NoAnswer, SeveralCandidates, UnsupportedScore, WrongScore, WrongTempo
from hypotaxis.core.session.score import Score, ScorePart
from hypotaxis.core.timing.lateness import Lateness, Listened
from hypotaxis.core.timing.moments import Moments, distinct_moments

CONVINCING, GOOD_ENOUGH, CLEARLY = 0.8, 0.7, 0.1
"""Shares of hits and notes explained: that needs no search, that a winner must reach, and by how much."""
MOST_CANDIDATES, MOST_EXPLAINED = 48, 4


@dataclass(frozen=True)
class Answer:
    """What was measured, of which track and channel (None: all), and a sentence when they were found by trying."""

    lateness: Lateness
    track: int | None
    channel: int | None
    told: str = ""


@dataclass(frozen=True, eq=False)
class _Candidate:
    parts: tuple[ScorePart, ...]
    track: int | None = None
    channel: int | None = None

    @property
    def name(self) -> str:
        if self.track is not None:
            names = ", ".join(dict.fromkeys(part.name for part in self.parts))
            return f"track {self.track} ({names})"
        return f"channel {self.channel}"

    @property
    def option(self) -> str:
        return f"--track {self.track}" if self.track is not None else f"--channel {self.channel}"


def measure_score(listened: Listened, score: Score, *, track: int | None = None, channel: int | None = None) -> Answer:
    """Lateness of what was listened to against a score whose zero is the recording's first frame.

    Raises UnsupportedScore when no notes are left to look for, SeveralCandidates when it is not clear which of the
    tracks or channels was recorded, NoAnswer when nothing can be read.
    """
    parts = _chosen(score, track, channel)
    rate = listened.recording.rate
    together, refused = None, None
    try:
        together = listened.measure(moments_of(score, parts, rate))
    except WrongTempo as error:
        raise _with_tempos(score, error) from error
    except NoAnswer as error:
        refused = error
    if together and (explained(together) >= CONVINCING or track is not None or channel is not None):
        return Answer(together, track, channel)
    candidates = [] if track is not None or channel is not None else _alone(score)
    if len(candidates) < 2:
        if together:
            return Answer(together, track, channel)
        raise refused
    return _winner(listened, score, candidates, refused)


def _with_tempos(score: Score, error: WrongTempo) -> NoAnswer:
    """Another tempo in the words of the score's own, where that has one."""
    if len(score.tempo.tempos) > 1:
        return error
    bpm = 60e6 / score.tempo.tempos[0][1]
    return WrongScore(
        f"The recording runs at {bpm / error.ratio:.4g} BPM, the score at {bpm:.4g}. Record it again at the score's "
        "tempo, or export the score at that of the recording."
    )


def moments_to_compare(score: Score, rate: int, *, track: int | None, channel: int | None) -> Moments:
    """The moments of the chosen notes, or of all of them; raises UnsupportedScore where there are none."""
    return moments_of(score, _chosen(score, track, channel), rate)


def moments_of(score: Score, parts: tuple[ScorePart, ...], rate: int) -> Moments:
    """Distinct onset moments of some parts, in samples from the score's zero; by the tempo map of the whole file."""
    notes = np.concatenate([part.notes for part in parts])
    return distinct_moments(score.tempo.samples_at(notes["tick"], rate), rate, notes["note"])


def explained(lateness: Lateness) -> float:
    """Share of notes and hits that belong together (the harmonic mean of both shares, 0–1)."""
    return 2 * lateness.matched / (2 * lateness.matched + lateness.missed + lateness.extra)


def _chosen(score: Score, track: int | None, channel: int | None) -> tuple[ScorePart, ...]:
    parts = tuple(part for part in score.parts if track in (None, part.track) and channel in (None, part.channel))
    if parts:
        return parts
    if not score.parts:
        raise UnsupportedScore("The score has no notes, so there is nothing to measure against.")
    there = "; ".join(f"track {part.track}, channel {part.channel} ({part.name})" for part in score.parts[:12])
    asked = " and ".join(
        word for word in (f"track {track}" if track else "", f"channel {channel}" if channel else "") if word
    )
    raise UnsupportedScore(
        f"There are no notes on {asked}. Tracks count from 1, the conductor track included: {there}."
    )


def _alone(score: Score) -> list[_Candidate]:
    """Each track, then each channel that holds other notes than a track does."""
    candidates = []
    seen = set()
    for name in ("track", "channel"):
        for number in sorted({getattr(part, name) for part in score.parts}):
            parts = tuple(part for part in score.parts if getattr(part, name) == number)
            if frozenset(map(id, parts)) not in seen:
                seen.add(frozenset(map(id, parts)))
                candidates.append(_Candidate(parts, **{name: number}))
    return candidates[:MOST_CANDIDATES]


def _winner(listened: Listened, score: Score, candidates: list[_Candidate], refused: NoAnswer | None) -> Answer:
    found: list[tuple[float, _Candidate, Lateness]] = []
    for candidate in candidates:
        try:
            lateness = listened.measure(moments_of(score, candidate.parts, listened.recording.rate), explain=False)
        except NoAnswer:
            continue
        found.append((explained(lateness), candidate, lateness))
    found.sort(key=lambda one: -one[0])
    if found and found[0][0] >= GOOD_ENOUGH and (len(found) == 1 or found[0][0] - found[1][0] >= CLEARLY):
        _, candidate, lateness = found[0]
        told = f"All notes together did not fit; {candidate.name} did and was taken."
        return Answer(lateness, candidate.track, candidate.channel, told)
    if not found:
        # One part alone, at another tempo.
        for candidate in candidates[:MOST_EXPLAINED]:
            try:
                listened.measure(moments_of(score, candidate.parts, listened.recording.rate))
            except WrongTempo as error:
                raise _with_tempos(score, error) from error
            except NoAnswer:
                continue
        if refused:
            raise refused
    listed = "; ".join(f"{one.name}: {one.option}" for one in candidates[:16])
    why = "More than one part may be what was recorded" if found else "No part clearly is what was recorded"
    raise SeveralCandidates(f"{why}. Choose one of: {listed}.")
