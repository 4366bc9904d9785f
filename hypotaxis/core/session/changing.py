"""Notes of some bars changed together: moved in pitch, made louder or softer, taken out."""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.score import in_order
from hypotaxis.core.session.tempo import TempoMap

LOWEST, HIGHEST = 0, 127
SOFTEST = 1
MOST_SEMITONES = 48


@dataclass(frozen=True, kw_only=True)
class NoteChange:
    """What happens to the notes that begin in these bars. loudness: their velocity, times this."""

    first_bar: int
    last_bar: int
    semitones: int = 0
    loudness: float = 1.0
    remove: bool = False

    def __post_init__(self) -> None:
        if self.last_bar < self.first_bar or self.first_bar < 1:
            raise BadBars(
                f"Bars {self.first_bar} to {self.last_bar} are none: the first is 1 or later, the last not before."
            )
        if abs(self.semitones) > MOST_SEMITONES:
            raise BadBars(f"{self.semitones} semitones are too far: up to {MOST_SEMITONES} up or down.")
        if not 0 < self.loudness <= 10:
            raise BadBars("Loudness is more than 0 and at most 1,000 %.")


def changed(notes: np.ndarray, tempo: TempoMap, how: NoteChange) -> tuple[np.ndarray, int]:
    """(the notes in order of time, how many of them it touched). Raises BadBars where a note would leave 0 to 127."""
    begins, ends = tempo.bar_tick(how.first_bar), tempo.bar_tick(how.last_bar + 1)
    chosen = (notes["tick"] >= begins) & (notes["tick"] < ends)
    if how.remove:
        return notes[~chosen], int(chosen.sum())
    pitches = notes["note"][chosen].astype(int) + how.semitones
    if len(pitches) and (pitches.min() < LOWEST or pitches.max() > HIGHEST):
        beyond = int(((pitches < LOWEST) | (pitches > HIGHEST)).sum())
        raise BadBars(f"{beyond} of its notes would leave the notes there are, {LOWEST} to {HIGHEST}. Move them less.")
    moved = notes.copy()
    moved["note"][chosen] = pitches
    loud = np.rint(notes["velocity"][chosen].astype(float) * how.loudness)
    moved["velocity"][chosen] = np.clip(loud, SOFTEST, HIGHEST)
    return in_order(moved), int(chosen.sum())
