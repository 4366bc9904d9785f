"""A session on the time line of its files.

When a take begins before the session's zero, the files begin whole bars earlier, notes and audio alike, so that
nothing is cut: bar 1 of the session is then a later bar of the files, and everything says so.
"""

from dataclasses import dataclass, replace

import numpy as np

from hypotaxis.core.session.score import Score, ScorePart
from hypotaxis.core.session.takes import preroll_bars, preroll_samples
from hypotaxis.core.session.tempo import TempoMap


@dataclass(frozen=True)
class FileLine:
    """The files' time line: how many bars, and samples of the rate, stand before the session's zero."""

    bars: int
    samples: int

    def reference(self, start: int) -> int:
        """Time reference of something at a session position: samples from the files' zero, never negative."""
        return self.samples + start


def file_line(tempo: TempoMap, starts: list[int], rate: int) -> FileLine:
    """The time line that keeps everything that begins at these session positions (samples)."""
    bars = preroll_bars(tempo, min(starts, default=0), rate)
    return FileLine(bars, preroll_samples(tempo, bars, rate))


def with_preroll(score: Score, bars: int) -> Score:
    """The score moved later by whole bars of its first meter, its tempo and meter from the new beginning on."""
    if bars == 0:
        return score
    shift = score.tempo.bar_tick(2) * bars
    tempo = replace(
        score.tempo,
        tempos=tuple((tick + shift if tick else 0, us) for tick, us in score.tempo.tempos),
        meters=tuple((tick + shift if tick else 0, n, d) for tick, n, d in score.tempo.meters),
    )
    return Score(tempo, tuple(_moved(part, shift) for part in score.parts), score.end_tick + shift, score.remarks)


def _moved(part: ScorePart, shift: int) -> ScorePart:
    def later(rows: np.ndarray) -> np.ndarray:
        moved = rows.copy()
        moved["tick"] += shift
        return moved

    return replace(part, notes=later(part.notes), controls=later(part.controls))
