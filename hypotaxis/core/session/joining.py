"""What becomes of a piece when a further file is brought into it?

The file begins at a bar of the piece. Whose tempo rules is said: the piece's, so that the file's notes keep their beats
and go at another pace; or the file's, which then takes over from that bar to the file's end.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.arrange import MOST_BARS, Part, Piece, changes, together, with_bars
from hypotaxis.core.session.score import Score, ScorePart
from hypotaxis.core.session.tempo import TempoMap

SESSIONS, FILES = RULES = ("session", "file")
"""Whose tempo rules."""


@dataclass(frozen=True, eq=False)
class Joined:
    """The piece with the file in it, and what is worth saying."""

    piece: Piece
    remarks: tuple[str, ...] = ()


def joined(piece: Piece, score: Score, where: Mapping[int, str], *, bar: int, rules: str = SESSIONS) -> Joined:
    """A file brought into a piece from a bar on. where: uid of the track for each part of the file that is taken, by
    its number; a uid the piece does not have is a new track. It grows where the file is longer. Raises BadBars."""
    if not 1 <= bar <= MOST_BARS:
        raise BadBars(f"A file can begin at bar 1 to {MOST_BARS:,}, not at bar {bar}.")
    if bar > piece.bars:
        piece = with_bars(piece, bar)
    at = piece.tempo.bar_tick(bar)
    pace = Fraction(piece.tempo.ticks_per_quarter, score.tempo.ticks_per_quarter)
    ends = at + _there(score.end_tick, pace)
    tempo = _taken_over(piece.tempo, score.tempo, at, ends, pace) if rules == FILES else piece.tempo
    parts = dict(piece.parts)
    for number, uid in where.items():
        came = moved(score.parts[number], at, pace)
        parts[uid] = together(parts[uid], came) if uid in parts else came
    whole = replace(piece, tempo=tempo, parts=parts)
    bars = max(tempo.last_bar(ends), tempo.last_bar(piece.end_tick))
    return Joined(with_bars(whole, bars), tuple(_remarks(piece.tempo, score, rules, bar)))


def moved(part: ScorePart, by: int, pace: Fraction) -> Part:
    """A file's notes and controls in the piece's ticks, `by` later."""
    notes, controls = part.notes.copy(), part.controls.copy()
    ends = _scaled(notes["tick"] + notes["duration"], pace)
    notes["tick"] = _scaled(notes["tick"], pace)
    notes["duration"] = ends - notes["tick"]
    notes["tick"] += by
    controls["tick"] = _scaled(controls["tick"], pace) + by
    return Part(notes, controls)


def _scaled(ticks: np.ndarray, pace: Fraction) -> np.ndarray:
    """Ticks at another pace, to the nearest, in integers."""
    return (2 * ticks * pace.numerator + pace.denominator) // (2 * pace.denominator)


def _there(tick: int, pace: Fraction) -> int:
    return int(_scaled(np.int64(tick), pace))


def _taken_over(mine: TempoMap, theirs: TempoMap, at: int, ends: int, pace: Fraction) -> TempoMap:
    """The piece's changes outside, the file's inside; behind its end the piece goes on as it would have."""

    def over(ours: tuple[tuple, ...], others: tuple[tuple, ...]) -> tuple[tuple, ...]:
        resumed = [row for row in ours if row[0] <= ends][-1]
        found = [row for row in ours if row[0] < at]
        found += [(at + _there(tick, pace), *rest) for tick, *rest in others]
        found += [(ends, *resumed[1:])] + [row for row in ours if row[0] > ends]
        return changes(found)

    return replace(mine, tempos=over(mine.tempos, theirs.tempos), meters=over(mine.meters, theirs.meters))


def _remarks(mine: TempoMap, score: Score, rules: str, bar: int) -> list[str]:
    theirs = score.tempo
    if rules == FILES:
        return [f"From bar {bar} to its end the file’s tempo rules, {theirs.told} BPM."]
    found = []
    if theirs.told != mine.told:
        found.append(f"The file goes at {theirs.told} BPM by itself; here it goes at the session’s {mine.told}.")
    here = next((f"{b}/{u}" for tick, b, u in reversed(mine.meters) if tick <= mine.bar_tick(bar)), "")
    other = [f"{b}/{u}" for _, b, u in theirs.meters if f"{b}/{u}" != here]
    if other:
        found.append(
            f"The file is in {', '.join(dict.fromkeys(other))}, the session in {here}: its notes keep their beats."
        )
    return found
