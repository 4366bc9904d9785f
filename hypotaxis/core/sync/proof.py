"""Does a box really stay in step? Read from what came home while it played its own pattern to the clock it was sent.

The box's sound is looked at sixteenth by sixteenth. All of them together, folded over each other, say how late it
steps; single hits say it exactly (`timing.lateness`). What it plays before the first wrap is its pattern, place by
place; after each wrap the same is looked for at every other place, and where it fits best is where the box stands. A
lost or added clock shows as steps that are later or earlier by a clock.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

import numpy as np

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.sync.course import Course, Stretch
from hypotaxis.core.sync.misstep import TICKS_A_SIXTEENTH
from hypotaxis.core.timing.lateness import measure
from hypotaxis.core.timing.moments import distinct_moments
from hypotaxis.core.timing.recording import HeldRecording

HOP_S = 0.001
EARLY_S = 0.03
"""How far before its clock a step is looked for."""
BANDS_HZ = (150, 600, 2400)
"""Between these the loudness of a step is compared, band by band."""
AUDIBLE_DB = -55.0
"""Below the loudest step nothing is one."""
SWELLS_DB = -6.0
"""Below the greatest swell a held sound moves by itself."""
LEAST_STEPS = 8
SURE = 0.75
"""Another place fits as well where its distance is no further than this share of the best's from the middle."""


@dataclass(frozen=True)
class ProvedWrap:
    """What a wrap made of the pattern. number: from 1; predicted, measured: ticks by which it is ahead; sure: whether
    no other place fits as well."""

    number: int
    predicted: float
    measured: float
    sure: bool

    @property
    def as_predicted(self) -> bool:
        """Whether it is what was expected."""
        return self.predicted == self.measured


@dataclass(frozen=True, kw_only=True)
class Proof:
    """How a box follows: the lateness of its steps, and where its pattern stands after each wrap."""

    lateness_ms: float
    half_ms: float
    """Half of the median's 95 % interval."""
    jitter_ms: float
    steps: int
    """Hits that were used."""
    drift_ppm: float
    drift_half: float
    bpm: tuple[float, float]
    """The lowest and highest tempo that was sent."""
    wraps: tuple[ProvedWrap, ...] = ()
    seconds: float = 0.0

    @property
    def in_step(self) -> bool:
        """Whether the pattern stood where the host counted it all the way."""
        return all(wrap.measured == 0 for wrap in self.wraps)

    @property
    def as_predicted(self) -> bool:
        """Whether every wrap did what was expected."""
        return all(wrap.as_predicted for wrap in self.wraps)


def prove(
    samples: np.ndarray,
    rate: int,
    course: Course,
    *,
    zero: float,
    lasts: int,
    predicted: Sequence[Fraction],
    swings: bool = False,
) -> Proof:
    """Read a recording (frames,) or (frames, sides) of a box that played a pattern of `lasts` ticks along a course.
    zero: frame of the course's first moment; predicted: how far the pattern should be ahead in each stretch; swings: it
    is a held sound that swells at the beginning of each. Raises NoAnswer where the box was silent, or the first stretch
    does not hold its whole pattern."""
    mono = samples.reshape(len(samples), -1).mean(axis=1)
    stretches = list(course.stretches)
    cells = [_cells(course, one, rate, zero) for one in stretches]
    places = lasts // TICKS_A_SIXTEENTH
    if len(cells) > 1 and len(cells[0][1]) < places:
        raise NoAnswer(
            "The way to the first wrap is shorter than the pattern, so that it cannot be learnt. Begin earlier, or "
            "loop more bars."
        )
    level = _levels(mono, rate)
    rise = np.maximum(0.0, np.diff(level.sum(axis=1), prepend=0.0))
    if level.sum() == 0 or 20 * np.log10(max(float(np.abs(mono).max()), 1e-9)) < -70:
        raise NoAnswer("Nothing came back while the clock ran. Is the box set to follow, and its pattern not empty?")
    late = [_late_s(rise, at, rate) for at, _ in cells]
    steps = [at + late[0] * rate for at, _ in cells]
    a_tick = float(np.median(np.diff(cells[0][0]))) / TICKS_A_SIXTEENTH / rate
    shifted = [round((one - late[0]) / a_tick) for one in late]
    features = [_features(level, at + shift * a_tick * rate, rate) for at, shift in zip(steps, shifted, strict=True)]
    loud = max(float(one[:, -1].max()) for one in features)
    audible_db = SWELLS_DB if swings else AUDIBLE_DB
    played = [one[:, -1] > loud * 10 ** (audible_db / 20) for one in features]
    moments = np.concatenate(
        [at[which] + shift * a_tick * rate for (at, _), which, shift in zip(cells, played, shifted, strict=True)]
    )
    if len(moments) < LEAST_STEPS:
        raise NoAnswer(f"Only {len(moments)} steps were heard: too few to prove anything. Let its pattern have more.")
    answer = measure(HeldRecording(mono.astype(np.float32), rate), distinct_moments(moments, rate))
    wraps = _wraps(features, [ticks for _, ticks in cells], places, shifted, predicted)
    tempos = [course.tempo.bpm_at(tick) for tick in _tempo_ticks(course)]
    return Proof(
        lateness_ms=answer.lateness_ms,
        half_ms=(answer.lateness_high - answer.lateness_low) / 2,
        jitter_ms=answer.jitter_ms,
        steps=answer.matched,
        drift_ppm=answer.drift_ppm,
        drift_half=answer.drift_half,
        bpm=(min(tempos), max(tempos)),
        wraps=wraps,
        seconds=len(mono) / rate,
    )


def _tempo_ticks(course: Course) -> list[int]:
    inside = [tick for tick, _ in course.tempo.tempos if course.begin < tick < course.loop[1]]
    return [course.begin, *inside]


def _cells(course: Course, one: Stretch, rate: int, zero: float) -> tuple[np.ndarray, np.ndarray]:
    """(frames at which the sixteenths of a stretch are due, the ticks of the host there)."""
    exact, first = course.ticks(one)
    ticks = float(first) + np.arange(len(exact))
    due = np.flatnonzero(np.abs(ticks % TICKS_A_SIXTEENTH) < 1e-9)
    return zero + exact[due] / course.per_us * rate / 1e6, ticks[due]


def _levels(mono: np.ndarray, rate: int) -> np.ndarray:
    """Loudness in bands, shape (ms, bands), as amplitudes."""
    hop = round(HOP_S * rate)
    size = 16 * hop
    count = max(1, (len(mono) - size) // hop + 1)
    window = np.hanning(size)
    edges = [0, *(round(one * size / rate) for one in BANDS_HZ), size // 2 + 1]
    found = np.zeros((count, len(edges) - 1))
    for start in range(0, count, 4096):
        rows = np.arange(start, min(count, start + 4096))
        framed = mono[np.minimum(rows[:, None] * hop + np.arange(size), len(mono) - 1)] * window
        power = np.abs(np.fft.rfft(framed, axis=1)) ** 2
        for band, (low, high) in enumerate(pairwise(edges)):
            found[rows, band] = np.sqrt(power[:, low : max(high, low + 1)].sum(axis=1))
    return found


def _late_s(rise: np.ndarray, due: np.ndarray, rate: int) -> float:
    """How late the steps of a stretch are, roughly: where all of them, folded over each other, rise most. Within half a
    sixteenth, since the next one follows."""
    step_s = float(np.median(np.diff(due))) / rate if len(due) > 1 else 0.125
    reach = np.arange(-round(EARLY_S / HOP_S), round((step_s - EARLY_S) / HOP_S))
    at = np.rint(due / rate / HOP_S).astype(int)[:, None] + reach
    inside = (at >= 0) & (at < len(rise))
    folded = np.where(inside, rise[np.clip(at, 0, len(rise) - 1)], 0.0).sum(axis=0)
    return float(reach[int(np.argmax(folded))]) * HOP_S


def _features(level: np.ndarray, steps: np.ndarray, rate: int) -> np.ndarray:
    """What each step sounds like: how much each band rises there, and all together, shape (steps, bands + 1)."""
    at = np.rint(steps / rate / HOP_S).astype(int)
    before = np.clip(at[:, None] + np.arange(-24, -16), 0, len(level) - 1)
    after = np.clip(at[:, None] + np.arange(0, 40), 0, len(level) - 1)
    bands = np.maximum(0.0, level[after].max(axis=1) - level[before].mean(axis=1))
    return np.column_stack([bands, bands.sum(axis=1)])


def _wraps(features, ticks, places: int, shifted, predicted: Sequence[Fraction]) -> tuple[ProvedWrap, ...]:
    """Where the pattern stands after each wrap."""
    if len(features) < 2 or places < 1:
        return ()
    scale = max(1e-12, float(features[0].std()))
    known = [np.tanh(one / scale) for one in features]
    first = (np.rint(ticks[0] / TICKS_A_SIXTEENTH).astype(int) + int(predicted[0]) // TICKS_A_SIXTEENTH) % places
    learnt = np.zeros((places, known[0].shape[1]))
    counts = np.bincount(first, minlength=places)
    np.add.at(learnt, first, known[0])
    learnt /= np.maximum(1, counts)[:, None]
    found = []
    for number in range(1, len(known)):
        here = np.rint(ticks[number] / TICKS_A_SIXTEENTH).astype(int)
        apart = np.array([np.abs(known[number] - learnt[(here + ahead) % places]).mean() for ahead in range(places)])
        wanted = predicted[number]
        late_ticks = shifted[number] - shifted[0]
        likely = int((wanted + late_ticks) // TICKS_A_SIXTEENTH) % places
        best = int(np.argmin(apart))
        middle = float(np.median(apart))
        alike = apart <= apart[best] + (1 - SURE) * (middle - apart[best])
        if alike[likely]:
            best = likely
        lasts = places * TICKS_A_SIXTEENTH
        measured = (best * TICKS_A_SIXTEENTH - late_ticks) % lasts
        found.append(ProvedWrap(number, float(wanted), float(measured), int(alike.sum()) == 1))
    return tuple(found)
