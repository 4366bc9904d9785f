"""Chosen notes of a part, changed: moved, lengthened, transposed, made louder, taken away, laid in once more.

A choice is places in the part's notes. Every function returns the notes in order of time, and where the chosen ones
stand among them then. Notes stay within 0 to 127 and the piece; what would leave it is refused, nothing is cut.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.midi.scales import in_scale
from hypotaxis.core.session.score import NOTE

LOWEST, HIGHEST = 0, 127
MOST_PASTED = 20_000


@dataclass(frozen=True, eq=False)
class Edited:
    """Notes after a change, and the places of the chosen ones."""

    notes: np.ndarray
    chosen: tuple[int, ...]


def checked(notes: np.ndarray, chosen: Sequence[int]) -> np.ndarray:
    """A choice as an array of places. Raises BadBars where it is none of these notes."""
    places = np.unique(np.array(chosen, dtype=np.int64))
    if len(places) and (places[0] < 0 or places[-1] >= len(notes)):
        raise BadBars("The notes have changed since this page was shown. Choose them once more.")
    return places


def moved(notes: np.ndarray, chosen: Sequence[int], *, ticks: int, pitches: np.ndarray | None, end_tick: int) -> Edited:
    """Moved in time by ticks, and to these pitches (one a chosen note, in order of place; None = as they are)."""
    places = checked(notes, chosen)
    after = notes.copy()
    starts = after["tick"][places] + ticks
    if len(places) and (starts.min() < 0 or starts.max() >= end_tick):
        raise BadBars("They would leave the session: move them less far, or make it longer (Bars).")
    after["tick"][places] = starts
    after["duration"][places] = np.minimum(after["duration"][places], end_tick - starts)
    if pitches is not None:
        after["note"][places] = _within(pitches)
    return ordered(after, places)


def lengthened(notes: np.ndarray, chosen: Sequence[int], *, ticks: int, end_tick: int) -> Edited:
    """Made longer, − shorter, by ticks; none shorter than one tick or beyond the piece."""
    places = checked(notes, chosen)
    after = notes.copy()
    room = end_tick - after["tick"][places]
    after["duration"][places] = np.clip(after["duration"][places] + ticks, 1, np.maximum(room, 1))
    return Edited(after, tuple(places.tolist()))


def transposed(notes: np.ndarray, chosen: Sequence[int], *, steps: int, scale: str, root: int) -> Edited:
    """Moved by steps of a scale ("all notes": semitones); one beside the scale keeps its distance to the one below."""
    places = checked(notes, chosen)
    after = notes.copy()
    after["note"][places] = _within(
        np.array([_along(int(note), steps, scale, root) for note in notes["note"][places]], dtype=np.int64)
    )
    return ordered(after, places)


def _along(note: int, steps: int, scale: str, root: int) -> int:
    ladder = [one for one in range(-24, 152) if in_scale(one, root, scale)]
    below = max(place for place, one in enumerate(ladder) if one <= note)
    target = below + steps
    if not 0 <= target < len(ladder):
        return -1
    return ladder[target] + note - ladder[below]


def louder(
    notes: np.ndarray, chosen: Sequence[int], *, by: int = 0, share: float = 1.0, to: int | None = None
) -> Edited:
    """Velocity set to a value, or scaled and then raised by so much; held within 1 to 127."""
    places = checked(notes, chosen)
    after = notes.copy()
    stood = notes["velocity"][places].astype(float)
    wanted = np.full(len(places), float(to)) if to is not None else stood * share + by
    after["velocity"][places] = np.clip(np.rint(wanted), 1, HIGHEST)
    return Edited(after, tuple(places.tolist()))


def removed(notes: np.ndarray, chosen: Sequence[int]) -> Edited:
    """Without them."""
    return Edited(np.delete(notes, checked(notes, chosen)), ())


def laid(notes: np.ndarray, more: np.ndarray, *, at_tick: int, end_tick: int) -> Edited:
    """With further notes (their ticks count from 0) from a tick on; these are chosen then."""
    if len(more) > MOST_PASTED:
        raise BadBars(f"{len(more):,} notes are too many to be laid in at once: up to {MOST_PASTED:,} are.")
    coming = more.copy()
    coming["tick"] += at_tick
    if len(coming) and coming["tick"].max() >= end_tick:
        raise BadBars("They would leave the session: lay them further in front, or make it longer (Bars).")
    coming["duration"] = np.minimum(coming["duration"], end_tick - coming["tick"])
    every = np.concatenate([notes, coming]).astype(NOTE)
    return ordered(every, np.arange(len(notes), len(every)))


def _within(pitches: np.ndarray) -> np.ndarray:
    beyond = int(((pitches < LOWEST) | (pitches > HIGHEST)).sum())
    if beyond:
        raise BadBars(f"{beyond} of them would leave the notes there are, {LOWEST} to {HIGHEST}. Move them less.")
    return pitches


def ordered(notes: np.ndarray, places: np.ndarray) -> Edited:
    """Notes in order of time, and where those at these places stand then."""
    order = np.lexsort((notes["note"], notes["tick"]))
    stands = np.empty(len(order), dtype=np.int64)
    stands[order] = np.arange(len(order))
    return Edited(notes[order], tuple(sorted(stands[places].tolist())))
