"""What is to be played: notes and controls as arrays, one part a channel.

Ticks count from the session's zero. Notes are sorted by tick, then note; controls by tick in their given order.
"""

from dataclasses import dataclass, replace

import numpy as np

from hypotaxis.core.midi.messages import CONTROL_CHANGE
from hypotaxis.core.midi.programs import BANK_LSB, BANK_MSB, Program
from hypotaxis.core.session.tempo import TempoMap

NOTE = np.dtype([("tick", "<i8"), ("duration", "<i8"), ("note", "u1"), ("velocity", "u1")])
"""A note: duration in ticks (0 allowed), note and velocity 0–127 (velocity from 1)."""

CONTROL = np.dtype([("tick", "<i8"), ("status", "u1"), ("data1", "u1"), ("data2", "u1")])
"""Any other channel message: status without its channel (A0, B0, C0, D0, E0), data2 0 where there is none."""

ENDS, CONTROLS, BRIEF, BEGINS = range(4)
"""The order of what stands at one time: ends first, so that a repeated note is not cut by the end of the one before;
then controls, notes of no length with their ends, and what begins."""


@dataclass(frozen=True, eq=False)
class ScorePart:
    """One channel's notes."""

    name: str
    channel: int
    """1–16."""
    notes: np.ndarray
    controls: np.ndarray
    program: int | None = None
    """The sound in force at the first note, on the wire (0–127), with the bank it was called up from; None where
    the piece names none. Those messages are not among the controls."""
    track: int = 0
    """The track of its file, counted from 1 in file order with the conductor track; 0 where there is no file."""
    msb: int | None = None
    lsb: int | None = None
    """The sound in force at the first note, on the wire (0–127), with the bank it was called up from; None where
    the piece names none. Those messages are not among the controls."""

    @property
    def sound(self) -> Program | None:
        """Program and bank as the one thing that is sent."""
        return None if self.program is None else Program(self.program, self.msb, self.lsb)


@dataclass(frozen=True, eq=False)
class Score:
    """A piece: its tempo map, its parts, its last tick, sentences on what was read but not kept, and its named places
    as (tick, name), ascending."""

    tempo: TempoMap
    parts: tuple[ScorePart, ...]
    end_tick: int
    remarks: tuple[str, ...] = ()
    markers: tuple[tuple[int, str], ...] = ()


def in_order(notes: np.ndarray) -> np.ndarray:
    """Notes sorted by tick, then note."""
    return notes[np.lexsort((notes["note"], notes["tick"]))]


def no_notes() -> np.ndarray:
    """An empty array of notes."""
    return np.zeros(0, dtype=NOTE)


def no_controls() -> np.ndarray:
    """An empty array of controls."""
    return np.zeros(0, dtype=CONTROL)


def called_by(part: ScorePart, sound: Program) -> ScorePart:
    """A part with the sound that is called up for it; what no program stands for goes in front of its controls."""
    rows = [(0, CONTROL_CHANGE, number, value) for number, value in sound.controls]
    if sound.program is None:
        banks = ((BANK_MSB, sound.msb), (BANK_LSB, sound.lsb))
        rows = [(0, CONTROL_CHANGE, number, value) for number, value in banks if value is not None] + rows
    controls = np.concatenate([np.array(rows, dtype=CONTROL), part.controls]) if rows else part.controls
    banked = {} if sound.program is None else {"msb": sound.msb, "lsb": sound.lsb}
    return replace(part, program=sound.program, controls=controls, **banked)
