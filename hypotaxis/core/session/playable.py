"""Which notes of a part can its box not play as they stand? Asked before it plays, and drawn where they are."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.messages import PROGRAM_CHANGE
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
    notes: np.ndarray,
    tempo: TempoMap,
    plan: Plan,
    instrument: Instrument,
    *,
    part: str = "",
    voices: dict[int, str],
    controls: np.ndarray | None = None,
    loop_ticks: int = 0,
) -> list[Unplayable]:
    """What a part's box cannot play of its notes. part: uid of the instrument's part; voices: names of the notes that
    sound on it, empty = all do; controls: the part's; loop_ticks: length of the session's loop, 0 = it has none."""
    if not len(notes):
        return []
    box = plan.rig.box(instrument.box)
    return [
        *_without_voice(notes, instrument, voices),
        *_out_of_range(notes, instrument, part),
        *(_chords(notes, tempo, box.name) if box and box.shape in ONE_AT_A_TIME else ()),
        *(_too_many(notes, box.name, box.setup.polyphony) if box and box.setup.polyphony else ()),
        *(_longer_than(notes, loop_ticks) if loop_ticks else ()),
        *(_behind_a_program(notes, controls, tempo, instrument) if controls is not None else ()),
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


def _too_many(notes: np.ndarray, box: str, most: int) -> Iterator[Unplayable]:
    starts, ends = notes["tick"], notes["tick"] + np.maximum(notes["duration"], 1)
    # Those that sound when each begins, itself among them; what ends on the tick has made room.
    begun = np.searchsorted(np.sort(starts), starts, side="right")
    sounding = begun - np.searchsorted(np.sort(ends), starts, side="right")
    over = np.flatnonzero(sounding > most)
    if len(over):
        told = f"{counted(len(over), 'note')} beyond the {most} voices of {box}: others are cut off for them."
        yield Unplayable(told, tuple(over.tolist()))


def _longer_than(notes: np.ndarray, loop_ticks: int) -> Iterator[Unplayable]:
    long = np.flatnonzero(notes["duration"] > loop_ticks)
    if len(long):
        yield Unplayable(f"{counted(len(long), 'note')} longer than the loop.", tuple(long.tolist()))


def _behind_a_program(
    notes: np.ndarray, controls: np.ndarray, tempo: TempoMap, instrument: Instrument
) -> Iterator[Unplayable]:
    """Programs that follow a note so closely that the gap before the next one cannot be left."""
    changes = controls["tick"][controls["status"] == PROGRAM_CHANGE]
    if not len(changes):
        return
    programs = tempo.us_at(changes) / 1000
    at_ms = tempo.us_at(notes["tick"]) / 1000
    swallowed: set[int] = set()
    for program in programs.tolist():
        following = int(np.searchsorted(at_ms, program))
        if 0 < following < len(at_ms) and at_ms[following] - at_ms[following - 1] < instrument.gap_ms:
            swallowed |= set(np.flatnonzero(at_ms == at_ms[following]).tolist())
    if swallowed:
        told = f"{counted(len(swallowed), 'note')} too close behind a change of sound: {instrument.name} wants "
        yield Unplayable(f"{told}{instrument.gap_ms:g} ms before the next note.", tuple(sorted(swallowed)))


def _chords(notes: np.ndarray, tempo: TempoMap, box: str) -> Iterator[Unplayable]:
    at_ms = tempo.us_at(notes["tick"]) / 1000
    struck = np.flatnonzero(np.diff(at_ms) < TOGETHER_MS) + 1
    if len(struck):
        told = f"{counted(len(struck), 'note')} in chords: {box} plays one note at a time, and cuts the others off."
        yield Unplayable(told, tuple(struck.tolist()))
