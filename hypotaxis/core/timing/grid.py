"""A click or clock in place of notes: what to measure a recording against that has no score.

A click recorded beside an improvisation says where its beats are; a pattern or an arpeggio that a clock drives begins
on its steps. Both are a plain grid: one moment a step, from the recording's beginning.
"""

import numpy as np

from hypotaxis.core.session.score import NOTE, Score, ScorePart, no_controls
from hypotaxis.core.session.tempo import TempoMap

TICKS_PER_QUARTER = 480
STEPS = {
    "quarters": 480,
    "eighths": 240,
    "eighth triplets": 160,
    "sixteenths": 120,
}
"""Ticks of a step."""
CLICK_NOTE = 76
"""High wood block in the General MIDI percussion map."""
BPM = (20.0, 400.0)
MOST_STEPS = 30_000
"""An hour of sixteenths at 120; what lies behind them is not looked at."""


def grid_score(*, bpm: float, step: str, seconds: float) -> Score:
    """Steps of a steady tempo from zero on, as many as begin within the seconds. step: a key of STEPS.

    The tempo is exact to a millionth of a quarter's microseconds, as a MIDI file holds it.
    """
    tempo = TempoMap(TICKS_PER_QUARTER, ((0, round(60e6 / bpm)),), ((0, 4, 4),))
    last = tempo.tick_at_us(seconds * 1e6)
    ticks = np.arange(min(last // STEPS[step] + 1, MOST_STEPS)) * STEPS[step]
    notes = np.zeros(len(ticks), dtype=NOTE)
    notes["tick"], notes["duration"], notes["note"], notes["velocity"] = ticks, STEPS[step] // 4, CLICK_NOTE, 100
    return Score(tempo, (ScorePart(f"{step} at {bpm:g} BPM", 10, notes, no_controls()),), last)
