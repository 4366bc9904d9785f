"""Which notes stand twice in a part, and by which path did they get there?

Two notes are one where they have the same pitch and begin together, or so closely behind each other and as loud as only
the same key by two paths is: a second stroke of a hand is neither.
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.session.tempo import TempoMap

SAME_MS, CLOSE_MS = 1.0, 15.0
AS_LOUD = 2
STEADY_MS = 1.5
"""Two paths keep their distance; its spread is no more than that."""


@dataclass(frozen=True)
class Doubled:
    """What stands twice. places: of the notes that are too many, in the part's order; cause: the likeliest."""

    places: tuple[int, ...] = ()
    cause: str = ""

    @property
    def count(self) -> int:
        return len(self.places)


def doubled_notes(notes: np.ndarray, tempo: TempoMap) -> Doubled:
    """The notes of a part that are too many, with the likeliest cause."""
    if len(notes) < 2:
        return Doubled()
    at_ms = tempo.us_at(notes["tick"]) / 1000
    order = np.lexsort((at_ms, notes["note"]))
    gone: list[int] = []
    gaps: list[float] = []
    kept = int(order[0])
    for place in order[1:].tolist():
        gap = float(at_ms[place] - at_ms[kept])
        as_loud = abs(int(notes["velocity"][place]) - int(notes["velocity"][kept])) <= AS_LOUD
        if notes["note"][place] == notes["note"][kept] and (gap <= SAME_MS or (gap <= CLOSE_MS and as_loud)):
            # What came later is the one that is too many.
            gone.append(place)
            gaps.append(gap)
        else:
            kept = place
    return Doubled(tuple(sorted(gone)), _cause(np.array(gaps))) if gone else Doubled()


def _cause(gaps_ms: np.ndarray) -> str:
    middle = float(np.median(gaps_ms))
    if middle <= SAME_MS / 10:
        return "They begin on the same tick: a file was brought in twice, or a loop went round twice."
    if float(gaps_ms.std()) <= STEADY_MS:
        return (
            f"The second is always some {middle:.1f} ms behind the first: two routes led to the port, or the box’s "
            "local control was on while the host echoed."
        )
    return "Their distances differ: a generator was left on beside its print, or hands struck beside it."


def without_doubled(notes: np.ndarray, found: Doubled) -> np.ndarray:
    """The part without what is too many."""
    return np.delete(notes, list(found.places))
