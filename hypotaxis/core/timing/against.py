"""By how much is one recording later than another one of the same notes?

Soft sounds have no beginning that could be read to a fraction of a millisecond, but two takes of one can be laid over
each other. Each hit of one is compared with the same hit of the other: first the rises of their envelopes, then, where
the sound is the same each time, their waves, to a fraction of a sample. Where its phases run free only the envelopes
compare, and their own spread says what that is worth. Difference in ms, + = the first recording is later; each counts
from its own first sample.
"""

import math
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.timing.belief import ramp
from hypotaxis.core.timing.lateness import FEWEST_HITS, RANGE_MS, Listened
from hypotaxis.core.timing.likeness import vertex
from hypotaxis.core.timing.line import Line, robust_line
from hypotaxis.core.timing.novelty import Novelty
from hypotaxis.core.timing.recording import Recording
from hypotaxis.core.timing.swells import coarse_lag, swell

EVERYDAY_MS = 40.0
APART_MS = 300.0
"""How far apart two recordings may be, each from its own first sample."""
BEFORE_MS, AFTER_MS, SHORTEST_MS = 80.0, 400.0, 40.0
"""What of a hit is compared, from its coarse beginning; less where the next one begins."""
SMOOTH_MS, SEARCH_MS = 6.0, 40.0
"""The window over which an envelope is taken, and how far from the coarse difference a hit's is looked for."""
SAME_WAVE, SAME_NOTE, SAME_RISE = 0.8, 0.75, 0.5
"""Likeness (correlation, 0–1) from which two waves, two spectra, two rises count as the same."""
GRID_SAMPLES = 0.1
"""What the sampling grid leaves unknown of a correlation's peak."""
SHARE_ALIKE, MOST_HITS = 0.6, 400
"""Least share of the hits that must compare; of more an even selection is looked at."""


@dataclass(frozen=True)
class ComparedHit:
    """One moment: note_ms from the score's zero, and by how much its hit is later in the first recording."""

    note_ms: float
    difference_ms: float


@dataclass(frozen=True, kw_only=True)
class Difference:
    """What two recordings differ by. low, high: of the 95 % interval."""

    difference_ms: float
    low_ms: float
    high_ms: float
    jitter_ms: float
    """How the hits scatter about the line; drift in ppm, + = the first falls behind."""
    drift_ppm: float
    waves: bool
    """Whether waves were compared, otherwise envelopes; confidence 0–1."""
    confidence: float
    hits: tuple[ComparedHit, ...]
    warnings: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class _Windows:
    """The same hits of both recordings at one rate, a row each, shape (hits, samples)."""

    one: np.ndarray
    other: np.ndarray
    rate: int


def compare(
    one: Listened, other: Listened, moments_ms: np.ndarray, other_moments_ms: np.ndarray | None = None
) -> Difference:
    """Difference of two recordings of notes at these moments, in ms from each file's first sample, ascending;
    other_moments_ms: where the second file begins elsewhere in the piece, its own times of the same notes.

    Raises NoAnswer where fewer than four hits compare, or where the notes are not the same.
    """
    theirs = moments_ms if other_moments_ms is None else other_moments_ms
    if len(moments_ms) < FEWEST_HITS:
        raise NoAnswer(f"{len(moments_ms)} notes are in both recordings; at least {FEWEST_HITS} are needed to compare.")
    first, second = (max(listened.curves, key=lambda curve: curve.loudest) for listened in (one, other))
    offset_ms = float(np.median(moments_ms - theirs))
    apart_ms = _coarse_difference(first, second, offset_ms) - offset_ms
    # Only so that the right windows are cut; where nothing tells, an everyday value does.
    start_ms = coarse_lag(first, moments_ms * one.recording.rate / 1000, one.recording.rate, RANGE_MS)
    start_ms = EVERYDAY_MS if start_ms is None else start_ms
    chosen = np.unique(np.linspace(0, len(moments_ms) - 1, min(len(moments_ms), MOST_HITS)).astype(int))
    begins, others = moments_ms[chosen] + start_ms, theirs[chosen] + start_ms - apart_ms
    inside = _inside(begins, one.recording) & _inside(others, other.recording)
    if inside.sum() < FEWEST_HITS:
        raise NoAnswer("The two recordings do not overlap: fewer than four notes are in both. Record the same bars.")
    times = moments_ms[chosen][inside]
    windows = _cut((one.recording, other.recording), (first.side, second.side), (begins[inside], others[inside]))
    rises, alike = _correlate(
        *(_rise_of(rows, windows.rate) for rows in (windows.one, windows.other)), round(SEARCH_MS)
    )
    same = (alike >= SAME_RISE) & (_notes_alike(windows) >= SAME_NOTE)
    if same.sum() < FEWEST_HITS or same.mean() < SHARE_ALIKE:
        raise NoAnswer(
            f"Only {int(same.sum())} of {len(times)} notes are the same in both recordings. Record the same part with "
            "the same sound, from the same bar."
        )
    found, likeness = _by_waves(windows, times / 1000, robust_line(times[same] / 1000, rises[same]))
    coherent = same & (likeness >= SAME_WAVE)
    waves = bool(coherent.sum() >= max(FEWEST_HITS, SHARE_ALIKE * same.sum()))
    kept, late = (coherent, found) if waves else (same, rises)
    late = late[kept] + apart_ms
    line = robust_line(times[kept] / 1000, late)
    return _told(line, times[kept], late, waves, float(same.mean()), GRID_SAMPLES * 1000 / windows.rate)


def _told(line: Line, times: np.ndarray, late: np.ndarray, waves: bool, share: float, grid_ms: float) -> Difference:
    used = int(line.used.sum())
    half = (line.median_high - line.median_low) / 2
    confidence = ramp(share, 0.5, 0.9) * ramp(used, 2, 8) * ramp(used / len(late), 0.5, 0.85)
    if not waves:
        # What envelopes tell is worth what their own spread leaves open.
        confidence *= 1 - 0.7 * ramp(half, 0.2, 3.0)
        confidence = min(confidence, 0.85)
    warnings = []
    if not waves:
        warnings.append(
            "The two recordings were compared by how their sounds swell, since their waves are not the same each "
            f"time: single notes tell it to ±{2 * line.jitter_ms:.1f} ms, all together to ±{half:.2f} ms."
        )
    if line.two:
        warnings.append(
            f"The differences stand at two values, {line.two.early_ms:+.2f} and {line.two.late_ms:+.2f} ms."
        )
    low, high = line.median_ends(grid_ms)
    return Difference(
        difference_ms=line.median_ms,
        low_ms=low,
        high_ms=high,
        jitter_ms=line.jitter_ms,
        drift_ppm=line.slope * 1000,
        waves=waves,
        confidence=round(float(confidence), 3),
        hits=tuple(ComparedHit(float(note), float(ms)) for note, ms in zip(times, late, strict=True)),
        warnings=tuple(warnings),
    )


def _inside(begins_ms: np.ndarray, recording: Recording) -> np.ndarray:
    end = recording.frames * 1000 / recording.rate
    return (begins_ms > -BEFORE_MS) & (begins_ms < end - SHORTEST_MS)


def _coarse_difference(first: Novelty, second: Novelty, around_ms: float) -> float:
    """By how many ms the first recording is later, to a few ms: where the swells of both agree best."""
    one, other = swell(first), swell(second)
    size = 1 << int(np.ceil(np.log2(len(one) + len(other) + abs(around_ms) + APART_MS)))
    both = np.fft.irfft(np.fft.rfft(one, size) * np.conj(np.fft.rfft(other, size)), size)
    lags = round(around_ms) + np.arange(-int(APART_MS), int(APART_MS) + 1)
    return float(lags[both[lags % size].argmax()])


def _cut(
    recordings: tuple[Recording, Recording], sides: tuple[int, int], begins_ms: tuple[np.ndarray, np.ndarray]
) -> _Windows:
    """The windows of both around each begin, the second's brought to the first's rate."""
    gap = float(np.diff(begins_ms[0]).min(initial=AFTER_MS))
    length_ms = BEFORE_MS + float(np.clip(gap * 0.9, SHORTEST_MS, AFTER_MS))
    rate = recordings[0].rate
    length = round(length_ms * rate / 1000)
    rows = []
    for recording, side, begins in zip(recordings, sides, begins_ms, strict=True):
        cut = np.zeros((len(begins), length))
        spare = round(0.01 * recording.rate)
        for row, begin in enumerate(begins):
            exact = (begin - BEFORE_MS) * recording.rate / 1000
            first = math.floor(exact) - spare
            piece = recording.piece(side, first, first + round(length_ms * recording.rate / 1000) + 2 * spare)
            piece = _at_rate(piece.astype(np.float64), recording.rate, rate)
            # A begin between two samples: by the spectrum, so that no time is lost.
            offset = (exact - first) * rate / recording.rate
            whole = math.floor(offset)
            cut[row] = _moved(piece, whole - offset)[whole : whole + length]
        rows.append(cut - cut.mean(axis=1, keepdims=True))
    return _Windows(rows[0], rows[1], rate)


def _at_rate(signal: np.ndarray, rate: int, wanted: int) -> np.ndarray:
    """A signal at another rate."""
    if rate == wanted:
        return signal
    from scipy.signal import resample_poly

    common = math.gcd(rate, wanted)
    return resample_poly(signal, wanted // common, rate // common)


def _moved(signal: np.ndarray, samples: float) -> np.ndarray:
    """A signal later by a fraction of a sample."""
    if abs(samples) < 1e-9:
        return signal
    spectrum = np.fft.rfft(signal)
    return np.fft.irfft(spectrum * np.exp(-2j * np.pi * np.arange(len(spectrum)) * samples / len(signal)), len(signal))


def _rise_of(rows: np.ndarray, rate: int) -> np.ndarray:
    """How the envelopes rise, one value a ms, shape (hits, ms)."""
    hop = max(1, round(rate / 1000))
    count = rows.shape[1] // hop
    power = (rows[:, : count * hop] ** 2).reshape(len(rows), count, hop).mean(axis=2)
    width = round(SMOOTH_MS)
    kernel = np.hanning(2 * width + 1)
    # Only where the kernel is all inside: a window's own edge is no rise.
    level = np.sqrt(np.apply_along_axis(np.convolve, 1, power, kernel / kernel.sum(), "valid"))
    level /= np.maximum(level.max(axis=1, keepdims=True), 1e-12)
    return np.maximum(np.diff(level, axis=1), 0.0)


def _correlate(one: np.ndarray, other: np.ndarray, reach: int) -> tuple[np.ndarray, np.ndarray]:
    """(lag in columns at which each row of one is most like that of the other, and the correlation there)."""
    near = _correlation(one, other, reach)
    top = np.clip(near.argmax(axis=1), 1, near.shape[1] - 2)
    return top - reach + vertex(near, top), near[np.arange(len(near)), top]


def _correlation(one: np.ndarray, other: np.ndarray, reach: int) -> np.ndarray:
    """Correlation of each pair of rows at the lags −reach to reach, 1 = the same but for its height."""
    size = 1 << int(np.ceil(np.log2(one.shape[1] + reach + 1)))
    both = np.fft.irfft(np.fft.rfft(one, size, axis=1) * np.conj(np.fft.rfft(other, size, axis=1)), size, axis=1)
    energy = np.sqrt((one**2).sum(axis=1) * (other**2).sum(axis=1))
    near = np.concatenate([both[:, -reach:], both[:, : reach + 1]], axis=1)
    return near / np.maximum(energy, 1e-300)[:, None]


def _notes_alike(windows: _Windows) -> np.ndarray:
    """How alike the spectra of each pair are, phases left out: another pitch or another sound is not."""
    spectra = []
    for rows in (windows.one, windows.other):
        loud = np.abs(np.fft.rfft(rows * np.hanning(rows.shape[1]), axis=1))
        # Wide enough for voices that are not quite in tune, narrower than a semitone of the middle octaves.
        width = max(1, round(6.0 * rows.shape[1] / windows.rate))
        kernel = np.hanning(2 * width + 3)[1:-1]
        spectra.append(np.sqrt(np.apply_along_axis(np.convolve, 1, loud**2, kernel, "same")))
    one, other = spectra
    return (one * other).sum(axis=1) / np.maximum(np.sqrt((one**2).sum(axis=1) * (other**2).sum(axis=1)), 1e-300)


def _by_waves(windows: _Windows, seconds: np.ndarray, coarse: Line) -> tuple[np.ndarray, np.ndarray]:
    """(ms by which each hit is later, beyond the coarse difference; how alike the waves are there).

    Waves of one pitch are alike at every period; which one is meant is what most hits of different pitch agree on, near
    what the envelopes say.
    """
    rate = windows.rate
    # A slope that is not sure would only spread what belongs together.
    sloping = abs(coarse.slope) > coarse.slope_half
    expected = (coarse.intercept + coarse.slope * seconds) if sloping else np.full(len(seconds), coarse.median_ms)
    expected = expected * rate / 1000
    doubt_ms = max(0.3, coarse.median_high - coarse.median_low, 0.5 * coarse.jitter_ms)
    search = round(min(12.0, 3 * doubt_ms + 3.0) * rate / 1000)
    reach = search + int(np.abs(expected).max()) + 2
    near = _correlation(windows.one, windows.other, reach)
    columns = reach + np.rint(expected).astype(int)[:, None] + np.arange(-search, search + 1)
    near = np.take_along_axis(near, columns, axis=1)
    turned = -1.0 if abs(near.mean(axis=0).min()) > near.mean(axis=0).max() else 1.0
    near = turned * near
    width = max(1, round(0.15 * rate / 1000))
    kernel = np.hanning(2 * width + 3)[1:-1]
    together = np.convolve(np.maximum(near, 0).mean(axis=0), kernel / kernel.sum(), "same")
    lags = np.arange(-search, search + 1)
    together *= np.exp(-0.5 * (lags / (2 * doubt_ms * rate / 1000)) ** 2)
    middle = int(together.argmax())
    # Near enough to rule out what is several periods away, wide enough for a hit's own jitter to choose the likest.
    weight = np.exp(-0.5 * ((lags - lags[middle]) / (2.5 * rate / 1000)) ** 2)
    top = np.clip((near * weight).argmax(axis=1), 1, near.shape[1] - 2)
    lag = columns[np.arange(len(near)), top] - reach + vertex(near, top)
    return lag * 1000 / rate, near[np.arange(len(near)), top]
