"""What do hits of one kind say together that a single one cannot?

Hits that look alike are laid over each other: their relative times come from correlation, finer than a sample, and the
mean of them shows the beginning that noise or hum covers in each. Impulse-like hits (under about 1 ms) are read at
their centre instead, interpolated between samples (band-limited, by zero-padding the spectrum).
"""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.timing.hits import NOISE, THRESHOLD, Hits
from hypotaxis.core.timing.recording import Recording, windows

IMPULSE_MS = 1.0
PRE_MS, POST_MS, SLACK_MS = 6.0, 40.0, 1.5
FEWEST_ALIKE, MOST_ALIKE = 4, 400
ALIKE = 0.9
"""Correlation from which two hits count as the same sound."""
QUIET = 0.02
"""Level before the hits, as a share of their height, under which it moves no onset."""
NOTICED = 0.4
"""Share of the level before (about three deviations of the noise) that the sound itself must make up for."""
FINER = 16
"""Points a sample between which an impulse's peak is looked for."""


@dataclass(frozen=True, eq=False)
class Reading:
    """onset of each row in samples (NaN where none); impulses: whether centres were read."""

    onset: np.ndarray
    impulses: bool


def read_together(recording: Recording, side: int, hits: Hits, kinds: np.ndarray, *, impulses: bool = False) -> Reading:
    """Onsets of found hits, each kind (equal numbers) compared within itself. impulses: they are known to be such."""
    found = hits.found
    if not found.any():
        return Reading(hits.onset, False)
    if impulses or float(np.median(hits.width[found])) <= IMPULSE_MS * recording.rate / 1000:
        return Reading(_centres(recording, side, hits), True)
    onset = hits.onset.copy()
    for kind in np.unique(kinds[found]).tolist():
        rows = np.flatnonzero(found & (kinds == kind))
        if len(rows) >= FEWEST_ALIKE:
            onset[rows] = _together(recording, side, hits, rows)
    return Reading(onset, False)


def _centres(recording: Recording, side: int, hits: Hits) -> np.ndarray:
    rows = np.flatnonzero(hits.found)
    half = 32
    place = hits.peak_at[rows].astype(np.int64)
    pieces = windows(recording, side, place - half, 2 * half).astype(np.float64)
    pieces -= np.median(pieces, axis=1, keepdims=True)
    spectrum = np.fft.rfft(pieces, axis=1)
    spectrum[:, -1] *= 0.5
    dense = np.abs(np.fft.irfft(spectrum, 2 * half * FINER, axis=1)) * FINER
    # The true peak lies within a sample of the highest one.
    near = dense[:, (half - 2) * FINER : (half + 2) * FINER + 1]
    top = np.clip(near.argmax(axis=1), 1, near.shape[1] - 2)
    centres = hits.onset.copy()
    centres[rows] = place - 2 + (top + vertex(near, top)) / FINER
    return centres


def vertex(rows: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Where between its neighbours the top of each row stands, by a parabola, −0.5 to 0.5."""
    index = np.arange(len(rows))
    left, middle, right = (rows[index, at + step] for step in (-1, 0, 1))
    bend = left - 2 * middle + right
    return np.where(bend < 0, 0.5 * (left - right) / np.where(bend < 0, bend, -1.0), 0.0)


def _together(recording: Recording, side: int, hits: Hits, rows: np.ndarray) -> np.ndarray:
    """Onsets of hits of one kind."""
    rate = recording.rate
    pre, slack = round(PRE_MS * rate / 1000), round(SLACK_MS * rate / 1000)
    rise = float(np.median(hits.rise[rows]))
    # The next hit must stay outside, and a long sound adds nothing to its own beginning.
    gap = float(np.diff(hits.onset[rows]).min(initial=np.inf))
    post = int(min(POST_MS * rate / 1000, max(2 * rise + 4 * slack, 0.01 * rate), 0.8 * gap))
    length = pre + max(post, slack)
    size = 1 << int(np.ceil(np.log2(length + 2 * slack)))
    place = np.floor(hits.onset[rows]).astype(np.int64)
    sample = np.unique(np.linspace(0, len(rows) - 1, min(len(rows), MOST_ALIKE)).astype(int))

    def spectra(some: np.ndarray) -> np.ndarray:
        pieces = windows(recording, side, place[some] - pre, length).astype(np.float64)
        pieces -= pieces[:, : pre // 2].mean(axis=1, keepdims=True)
        pieces /= hits.peak[rows[some]][:, None]
        return np.fft.rfft(pieces, size, axis=1)

    learnt = spectra(sample)
    turn = 2j * np.pi * np.arange(learnt.shape[1]) / size
    delay = hits.onset[rows[sample]] - place[sample]
    for _ in range(2):
        mean = (learnt * np.exp(turn * delay[:, None])).mean(axis=0)
        delay, alike = _delays(learnt, mean, size, slack)
    delays, likeness = np.empty(len(rows)), np.empty(len(rows))
    for start in range(0, len(rows), MOST_ALIKE):
        part = np.arange(start, min(start + MOST_ALIKE, len(rows)))
        # Few enough are all learnt from, and need not be read again.
        these = learnt if len(sample) == len(rows) else spectra(part)
        delays[part], likeness[part] = _delays(these, mean, size, slack)
    coherent = likeness >= ALIKE
    onset = hits.onset[rows].copy()
    late = _covered(hits, rows, learnt, turn, delay, alike, size, pre)
    if coherent.sum() >= FEWEST_ALIKE:
        steady = place[coherent] + delays[coherent]
        onset[coherent] = steady + np.median(onset[coherent] - steady)
    return onset - late


def _delays(spectra: np.ndarray, mean: np.ndarray, size: int, slack: int) -> tuple[np.ndarray, np.ndarray]:
    """(samples by which each row is later than the mean, its correlation with it)."""
    both = np.fft.irfft(spectra * np.conj(mean), size, axis=1)
    near = np.concatenate([both[:, -slack - 1 :], both[:, : slack + 2]], axis=1)
    top = np.clip(near.argmax(axis=1), 1, near.shape[1] - 2)
    weights = np.full(spectra.shape[1], 2.0)
    weights[[0, -1]] = 1.0
    energy = np.sqrt(((np.abs(spectra) ** 2) @ weights) * ((np.abs(mean) ** 2) @ weights)) / size
    height = near[np.arange(len(near)), top]
    return top - slack - 1 + vertex(near, top), np.where(energy > 0, height / np.maximum(energy, 1e-300), 0.0)


def _covered(hits: Hits, rows, learnt, turn, delay, alike, size: int, pre: int) -> float:
    """Samples by which noise makes each hit be noticed too late; what rings on from the hit before is none."""
    base = float(np.median(hits.base[rows] / hits.peak[rows]))
    if base < QUIET or float(np.median(hits.rough[rows])) < NOISE:
        return 0.0
    pieces = np.fft.irfft(learnt * np.exp(turn * delay[:, None]), size, axis=1)
    before = pieces[:, : pre // 2]
    if float(np.median(alike)) >= ALIKE:
        shape = np.abs(pieces.mean(axis=0))
    else:
        shape = np.sqrt(np.maximum((pieces**2).mean(axis=0) - (before**2).mean(), 0.0))
    shape = shape[: -(size // 16)]
    begin = max(0, pre - pre // 2)
    floor = float(shape[:begin].max(initial=0.0))
    peak = float(shape[begin:].max())
    # Noise lifts some sample over the threshold before the sound alone would: on average by two of its deviations.
    noticed = (NOTICED * base + THRESHOLD) / (base + 1.0)
    if peak <= 0 or floor > 0.08 * peak:
        return 0.0
    return max(0.0, _passing(shape, noticed * peak, begin) - _passing(shape, THRESHOLD * peak, begin))


def _passing(shape: np.ndarray, threshold: float, begin: int) -> float:
    at = begin + int(np.argmax(shape[begin:] > threshold))
    below, above = shape[at - 1], shape[at]
    return at - 1 + (float((threshold - below) / (above - below)) if above > below and below < threshold else 1.0)
