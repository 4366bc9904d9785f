"""What a sounding sends, whoever asks for it: the pattern on a port, or as a signal on an output, and what it is
measured against."""

from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, replace

import numpy as np

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.session.gaps import clear_of
from hypotaxis.core.session.schedule import PlayedPart, plan_run
from hypotaxis.core.session.score import Score
from hypotaxis.core.studio import Lost, RunSetup, Studio, Written, sound_of
from hypotaxis.core.timing.choose import Answer, measure_score
from hypotaxis.core.timing.lateness import Listened
from hypotaxis.core.timing.pattern import loop_signal
from hypotaxis.core.timing.recording import HeldRecording
from hypotaxis.core.timing.wish import Wish, played_score, sounding_score

TAIL_S = 1.5
"""What a loop's last impulse has time to come home."""
LOOP_LEVEL = 0.5
LEAST_HITS = 8
"""As few as a sounding may be asked for."""


@dataclass(frozen=True)
class PatternRun:
    """A run that plays the pattern."""

    source: Written
    outputs: tuple[str, ...]
    """System names of the outputs that it plays on."""
    score: Score
    """What the recording is measured against; its zero is the frame `skipped`."""
    skipped: int
    frames: int


def played_run(wish: Wish, *, port: str, channel: int, rate: int, calls: Sequence[bytes] = ()) -> PatternRun:
    """The pattern as notes on a port (system name) and channel; calls: messages that call a sound up before."""
    score = played_score(wish, channel)
    part = score.parts[0]
    played = PlayedPart(port, channel, part.notes, part.controls, tuple(calls))
    last_bar = score.tempo.position(score.end_tick).bar
    schedule = plan_run([played], score.tempo, first_bar=1, last_bar=last_bar, sample_rate=rate)
    wanted = sounding_score(wish, channel)
    return PatternRun(Written(schedule.messages), (), wanted, -schedule.first_sample, schedule.frames)


def loop_run(wish: Wish, *, outputs: Sequence[str], rate: int) -> PatternRun:
    """The pattern as band-limited impulses on one output or both sides of a pair (system names)."""
    signal = loop_signal(rate, hits=wish.hits, level=LOOP_LEVEL)
    source = Written((), {output: sound_of(signal) for output in outputs})
    return PatternRun(source, tuple(outputs), sounding_score(wish, 1), 0, len(signal) + round(TAIL_S * rate))


def sound_trip(studio: Studio, run: PatternRun, inputs: Sequence[str], *, fast: bool = False) -> Answer:
    """Play the pattern, record one input or a left and a right one, and measure. Raises NoAnswer, StudioTrouble."""
    asked = RunSetup(inputs=tuple(inputs), outputs=run.outputs, frames=run.frames, fast=fast)
    with closing(studio.run(run.source, asked)) as coming:
        blocks = list(coming)
    samples = np.concatenate([block.samples for block in blocks])
    gaps = [gap for block in blocks for gap in block.lost]
    score = clear_score(run, gaps, studio.sample_rate)
    return measure_score(Listened(HeldRecording(samples[run.skipped :], studio.sample_rate)), score)


def clear_score(run: PatternRun, gaps: Sequence[Lost], rate: int) -> Score:
    """What a recording with gaps is measured against: the notes that no gap is near. Raises NoAnswer where too few
    are left."""
    if not gaps:
        return run.score
    part = run.score.parts[0]
    at = run.score.tempo.samples_at(part.notes["tick"], rate) + run.skipped
    notes = part.notes[clear_of(gaps, at, rate)]
    if len(notes) < LEAST_HITS:
        frames = sum(gap.frames for gap in gaps)
        raise NoAnswer(
            f"{frames} frames did not come while it was sounded, and only {len(notes)} notes are clear of them. Take a "
            "larger buffer, or see to real-time rights, then sound it again."
        )
    return replace(run.score, parts=(replace(part, notes=notes),))
