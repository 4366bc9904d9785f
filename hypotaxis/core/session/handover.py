"""What of a session is handed over, and on which time line do its files stand?

When a take begins before the session's zero, the files begin whole bars earlier, notes and audio alike, so that
nothing is cut: bar 1 of the session is then a later bar of the files, and everything says so.
"""

from dataclasses import dataclass, replace

import numpy as np

from hypotaxis.core.formats.filenames import USUAL
from hypotaxis.core.formats.sound import WAVE
from hypotaxis.core.session.score import Score, ScorePart
from hypotaxis.core.session.takes import preroll_bars, preroll_samples
from hypotaxis.core.session.tempo import TempoMap

STANDING, TAKES, GROUPS = SOUNDS = ("what stands of each track", "every placed take", "each group")
"""Which sounds are handed over."""
ITEMS = AUDIO, FILLED, TIMELINE, TABLE, NOTES, NAMES, SHEET, SESSION = (
    "audio",
    "filled",
    "timeline",
    "table",
    "notes",
    "names",
    "sheet",
    "session",
)
"""What may go into an archive: sounds with their time reference, the same filled from the beginning, the same on a time
line (AAF), a table of what begins where, notes, patch lists and note maps, the sheet of settings, the session to be
opened again."""


@dataclass(frozen=True)
class Wish:
    """What goes into an archive, and how."""

    items: tuple[str, ...] = (AUDIO, TABLE, NOTES, NAMES, SHEET)
    """Of ITEMS."""
    sounds: str = STANDING
    """One of SOUNDS."""
    tracks: tuple[str, ...] = ()
    """Uids of the tracks whose sounds go in; () = all."""
    form: str = WAVE
    """One of core.formats.sound.FORMS."""
    rate: int = 0
    """Hz; 0 = as recorded."""
    as_set: bool = True
    """With home trim, gain and polarity as they are set; without them as recorded."""
    whole: bool = False
    """Single takes as long as they were recorded, though bars of them are cut off."""
    fold: bool = True
    """Mono where one side is dead."""
    pattern: str = USUAL
    """Of the files' names (core.formats.filenames)."""
    packed: bool = False
    """The takes of the session to be opened again as FLAC, which comes back to the byte."""


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
    return replace(
        score,
        tempo=tempo,
        parts=tuple(_moved(part, shift) for part in score.parts),
        end_tick=score.end_tick + shift,
        markers=tuple((tick + shift, name) for tick, name in score.markers),
    )


def _moved(part: ScorePart, shift: int) -> ScorePart:
    def later(rows: np.ndarray) -> np.ndarray:
        moved = rows.copy()
        moved["tick"] += shift
        return moved

    return replace(part, notes=later(part.notes), controls=later(part.controls))
