"""By which returns do single voices of a drum machine come home, and what are they called when each gets a track?"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.plan import Instrument, Return, Voice


@dataclass(frozen=True)
class SingleVoice:
    """A voice as a track plays it. notes: its note numbers; count: how many notes the track has of it; home: the return
    it comes by, None = none that is there."""

    name: str
    notes: tuple[int, ...]
    count: int
    home: Return | None


def returns_of(instrument: Instrument, only: Sequence[int]) -> tuple[Return, ...]:
    """The returns by which these notes come home, the main one first, each once; of no notes all there are. Those
    without an input are left out."""
    there = [one for one in instrument.every_return if one.inputs]
    if not only:
        return tuple(there)
    homes = {voice.note: voice.home for voice in instrument.voices}
    wanted = {homes.get(note, "") for note in only}
    # A voice whose own return is gone comes with the rest.
    known = {one.uid for one in there}
    wanted = {uid if uid in known else "" for uid in wanted}
    return tuple(one for one in there if one.uid in wanted)


def single_voices(
    instrument: Instrument, voices: Sequence[Voice], notes: np.ndarray, middle_c: int = 4
) -> list[SingleVoice]:
    """The voices that a track's note numbers play, in the instrument's order, then those without a name. Notes of one
    name are one voice."""
    numbers, counts = np.unique(notes, return_counts=True)
    found = dict(zip(numbers.tolist(), counts.tolist(), strict=True))
    named: dict[str, list[int]] = {}
    for voice in voices:
        if voice.note in found:
            named.setdefault(voice.name, []).append(voice.note)
    taken = {note for notes_of in named.values() for note in notes_of}
    for note in found:
        if note not in taken:
            named.setdefault(note_name(note, middle_c), []).append(note)
    return [_single(instrument, name, tuple(mine), sum(found[note] for note in mine)) for name, mine in named.items()]


def _single(instrument: Instrument, name: str, notes: tuple[int, ...], count: int) -> SingleVoice:
    homes = returns_of(instrument, notes)
    return SingleVoice(name, notes, count, homes[0] if homes else None)


def effects_told(instrument: Instrument, apart: Sequence[Return]) -> str:
    """What becomes of a box's own effects when its voices are recorded apart, by these returns; "" where nothing
    does."""
    dry = list(dict.fromkeys(one.name for one in apart if one.uid))
    shared = sum(not one.uid for one in apart)
    told = []
    if dry:
        told.append(
            f"What comes by {' and '.join(dry)} is dry: a separate out leaves the box before its effects, as a rule."
        )
    if shared > 1:
        told.append(
            f"{shared} voices of {instrument.name} come by its main out, a pass each: an effect on it works on each "
            "alone, so a compressor there will not pump as it does when all play."
        )
    return " ".join(told)
