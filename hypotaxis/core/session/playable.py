"""Which notes of a part can its box not play as they stand? Asked before it plays, and drawn where they are."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.scales import note_name
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.units import counted

ONE_AT_A_TIME = ("mono-synth", "modular-midi", "modular-voice", "midi-to-cv")
"""Shapes of boxes that sound one note at a time."""
TOGETHER_MS = 20.0
"""Notes that begin so closely are meant together; a longer overlap of one with the next is legato."""


@dataclass(frozen=True)
class Unplayable:
    """Notes that will not sound as written. told: why, in a sentence; places: of the notes, in the part's order."""

    told: str
    places: tuple[int, ...]


def unplayable(
    notes: np.ndarray, tempo: TempoMap, plan: Plan, instrument: Instrument, *, part: str = "", voices: dict[int, str]
) -> list[Unplayable]:
    """What a part's box cannot play of its notes. part: uid of the instrument's part; voices: names of the notes that
    sound on it, empty = all do."""
    if not len(notes):
        return []
    box = plan.rig.box(instrument.box)
    return [
        *_without_voice(notes, instrument, voices),
        *_out_of_range(notes, instrument, part),
        *(_chords(notes, tempo, box.name) if box and box.shape in ONE_AT_A_TIME else ()),
    ]


def _without_voice(notes: np.ndarray, instrument: Instrument, voices: dict[int, str]) -> Iterator[Unplayable]:
    silent = np.flatnonzero(~np.isin(notes["note"], list(voices))) if voices else ()
    if len(silent):
        names = ", ".join(note_name(int(one), instrument.middle_c) for one in np.unique(notes["note"][silent])[:6])
        told = f"{counted(len(silent), 'note')} without a voice on {instrument.name}: {names}. Nothing is mapped there."
        yield Unplayable(told, tuple(silent.tolist()))


def _out_of_range(notes: np.ndarray, instrument: Instrument, part: str) -> Iterator[Unplayable]:
    shaping = next((one.shaping for one in instrument.parts if one.uid == part), instrument.shaping)
    out = np.flatnonzero((notes["note"] < shaping.low) | (notes["note"] > shaping.high))
    if len(out):
        low, high = (note_name(one, instrument.middle_c) for one in (shaping.low, shaping.high))
        yield Unplayable(f"{counted(len(out), 'note')} outside of its range, {low} to {high}.", tuple(out.tolist()))


def _chords(notes: np.ndarray, tempo: TempoMap, box: str) -> Iterator[Unplayable]:
    at_ms = tempo.us_at(notes["tick"]) / 1000
    struck = np.flatnonzero(np.diff(at_ms) < TOGETHER_MS) + 1
    if len(struck):
        told = f"{counted(len(struck), 'note')} in chords: {box} plays one note at a time, and cuts the others off."
        yield Unplayable(told, tuple(struck.tolist()))
