"""Same or different? One take against another of the same notes: how their levels and their sound differ, bar by bar.

Both are given from the same place of the piece. What is compared are energies in bands, 50 times a second, so that
the unsteadiness of a box (tenths of a ms) and phases that run free change nothing; waves only tell by how much one is
later.
Levels in dB, + = the first is louder.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.units import signed

EDGES_HZ = (100.0, 200.0, 400.0, 1_000.0, 2_000.0, 4_000.0, 8_000.0)
BANDS = ("below 200 Hz", "200 Hz to 1 kHz", "1 to 4 kHz", "above 4 kHz")
"""As they are told: two of the bands that are compared each."""
COMPARED = len(EDGES_HZ) + 1
WINDOW_S, STEP_S = 0.04, 0.02
LEVEL_DB, SOUND_DB, ALL_ALONG_DB = 1.5, 5.0, 1.3
"""From which another level, another sound of a bar, another sound all along is told: the worst band of a bar, and what
the bands differ by on the average of the bars. Honest repeats of one box stay well within (tests)."""
BEYOND, BEYOND_ALONG = 4.5, 3.0
"""How far beyond its own unsteadiness from bar to bar a difference must lie as well: noises are never the same twice.
One bar in tens of thousands is taken for another sound by chance then."""
STEADIED_BY = 4
"""Bars from which a band's unsteadiness is known well enough to be asked."""
BRIEF_DB = 6.0
"""In the place of SOUND_DB where there are fewer."""
HEARD_DB = 30.0
"""A band that lies so far below the loudest says nothing."""
SILENT_DB, GONE_DB = 40.0, 30.0
"""So far below the other it is silent in a bar, gone for a moment."""
MOMENT_S = 0.08
"""A drop-out lasts so long at least."""
QUIET_DB = -65.0
"""What is below this in both is no sound, dBFS."""
SAME, LEVEL, SOUND, SILENT, SIDE, DROP, BAR = "same", "level", "sound", "silent", "side", "drop", "bar"
ALIKE_MOVED, MORE_ALIKE, LEAST_ALIKE = 0.85, 0.2, 100
"""Correlation from which notes are the same some bars away, and by how much it must be better than here; over so many
steps in which both sound."""
MOST_LAG_S = 0.05


@dataclass(frozen=True)
class BarDifference:
    """How two takes differ in a bar. worst_db: of the band that differs most, once levels are matched; None where
    neither sounds."""

    bar: int
    level_db: float | None
    worst_db: float | None


@dataclass(frozen=True)
class Sameness:
    """What came of it. kind: one of the words above; bands_db: over the bars that differ, or all, levels matched."""

    kind: str
    told: str
    level_db: float
    bands_db: tuple[float, ...]
    bars: tuple[BarDifference, ...]
    later_samples: float | None
    """By how much the first is later; None where their waves are not alike."""


class Energies:
    """Energies of a take, 50 a second, in bands by channel; shape (steps, channels, bands)."""

    def __init__(self, rate: int) -> None:
        self.rate, self.width, self.step = rate, round(WINDOW_S * rate), round(STEP_S * rate)
        self._begins = np.searchsorted(np.fft.rfftfreq(self.width, 1 / rate), (0.0, *EDGES_HZ))
        self._window = np.hanning(self.width).astype(np.float32)
        self._left: np.ndarray | None = None
        self._found: list[np.ndarray] = []

    def feed(self, block: np.ndarray) -> None:
        """The next frames, shape (frames, channels)."""
        from scipy.fft import rfft  # Takes long to import, and few commands need it.

        sound = np.asarray(block, dtype=np.float32)
        sound = sound if self._left is None else np.concatenate([self._left, sound])
        count = max(0, (len(sound) - self.width) // self.step + 1)
        if count:
            views = np.lib.stride_tricks.sliding_window_view(sound, self.width, axis=0)[:: self.step][:count]
            # In single precision, which is far finer than what is told of it, and twice as quick.
            found = rfft(views * self._window, axis=-1)
            power = found.real**2 + found.imag**2
            rows = np.add.reduceat(power, self._begins, axis=-1).astype(np.float64)
            self._found.append(rows / float((self._window**2).sum()) / self.width * 2)
        self._left = sound[count * self.step :]

    def found(self) -> np.ndarray:
        """All of them."""
        return np.concatenate(self._found) if self._found else np.zeros((0, 1, COMPARED))


def same_or_different(
    one: np.ndarray, other: np.ndarray, bars: Sequence[tuple[int, float]], *, later_samples: float | None = None
) -> Sameness:
    """one, other: energies of the same stretch (shape (steps, channels, bands)); bars: (number, seconds at which it
    ends), ascending, from the stretch's beginning; later_samples: as `later` found it."""
    count = min(len(one), len(other))
    one, other = one[:count], other[:count]
    step_bar = np.searchsorted([ends for _, ends in bars], (np.arange(count) + 0.5) * STEP_S, side="right")
    first, second = (np.stack([_summed(rows, step_bar == n) for n in range(len(bars))]) for rows in (one, other))
    level = _level(first, second)
    bands_off = _differences(first, second, level)
    rows = tuple(_bar(number, first[n], second[n], bands_off[n]) for n, (number, _) in enumerate(bars))
    shape = {"level_db": round(level, 2), "bars": rows, "later_samples": later_samples}
    every = [row.bar for row in rows]
    differing = [bar for bar, row in zip(every, bands_off, strict=True) if _is_other(row, bands_off)]
    if not differing and _is_other_all_along(bands_off):
        differing = [row.bar for row in rows if row.worst_db is not None]
    bands = _bands(first, second, level, [every.index(bar) for bar in differing] or range(len(rows)))

    def told(kind: str, words: str) -> Sameness:
        return Sameness(kind, words, bands_db=bands, **shape)

    if moved := _moved(one, other, step_bar, len(bars)):
        return told(BAR, f"The first has its notes {abs(moved)} bar{'s' if abs(moved) > 1 else ''} {_later(moved)}.")
    if side := _side(one, other):
        return told(SIDE, side)
    silent = [row.bar for row in rows if row.level_db is not None and abs(row.level_db - level) > SILENT_DB]
    if silent:
        who = "first" if next(row.level_db for row in rows if row.bar == silent[0]) < 0 else "second"
        return told(SILENT, f"The {who} is silent {_bars_told(silent, every)}.")
    if gone := _gone(one, other, step_bar, level, every):
        return told(DROP, gone)
    if differing:
        return told(SOUND, _sound_told(differing, every, bands))
    if abs(level) > LEVEL_DB:
        return told(LEVEL, f"The same sound, the first {abs(level):.1f} dB {'louder' if level > 0 else 'softer'}.")
    return told(SAME, "The same sound.")


def later(one: np.ndarray, other: np.ndarray, rate: int) -> float | None:
    """By how many samples a take (mono, shape (frames,)) is later than another, to a fraction; None where their waves
    are not alike within 50 ms."""
    count = min(len(one), len(other))
    size = 1 << int(np.ceil(np.log2(max(2, 2 * count))))
    spectra = [np.fft.rfft(np.asarray(wave[:count], dtype=np.float64), size) for wave in (one, other)]
    power = float(np.sqrt((one[:count] ** 2).sum() * (other[:count] ** 2).sum()))
    if power <= 0:
        return None
    most = round(MOST_LAG_S * rate)
    cross = np.fft.irfft(spectra[0] * np.conj(spectra[1]), size)
    lags = np.concatenate([cross[-most:], cross[: most + 1]])
    place = int(np.argmax(lags))
    if lags[place] < 0.5 * power or not 0 < place < len(lags) - 1:
        return None
    # The peak between samples, from the same cross spectrum on a grid ten times as fine around it.
    fine = np.arange(-10, 11) / 10 + place - most
    turns = np.exp(2j * np.pi * np.outer(fine, np.arange(len(spectra[0]))) / size)
    values = np.real(turns @ (spectra[0] * np.conj(spectra[1])))
    top = int(np.clip(np.argmax(values), 1, len(values) - 2))
    left, middle, right = values[top - 1 : top + 2]
    bend = left - 2 * middle + right
    return float(fine[top] + (0.0 if bend == 0 else 0.05 * (left - right) / bend))


def _summed(rows: np.ndarray, mine: np.ndarray) -> np.ndarray:
    """Mean energy by band of some steps, shape (bands,)."""
    return rows[mine].sum(axis=1).mean(axis=0) if mine.any() else np.zeros(rows.shape[2])


def _db(energy) -> np.ndarray:
    return 10 * np.log10(np.maximum(energy, 1e-14))


def _level(first: np.ndarray, second: np.ndarray) -> float:
    """The level that most bars differ by."""
    totals = [_db(rows.sum(axis=1)) for rows in (first, second)]
    both = (totals[0] > QUIET_DB) & (totals[1] > QUIET_DB)
    return float(np.median((totals[0] - totals[1])[both])) if both.any() else 0.0


def _differences(first: np.ndarray, second: np.ndarray, level: float) -> np.ndarray:
    """By how many dB each band differs in each bar, once levels are matched, shape (bars, bands); not a number where a
    band says nothing."""
    one, two = _db(first), _db(second)
    totals = [_db(rows.sum(axis=1)) for rows in (first, second)]
    heard = np.maximum(one - totals[0][:, None], two - totals[1][:, None]) > -HEARD_DB
    heard &= (np.maximum(*totals) >= QUIET_DB)[:, None]
    return np.where(heard, one - two - level, np.nan)


def _bar(number: int, first: np.ndarray, second: np.ndarray, off: np.ndarray) -> BarDifference:
    off = off[~np.isnan(off)]
    if not len(off):
        return BarDifference(number, None, None)
    level = float(_db(first.sum()) - _db(second.sum()))
    return BarDifference(number, round(level, 2), round(float(off[np.argmax(np.abs(off))]), 2))


def _is_other(bar: np.ndarray, every: np.ndarray) -> bool:
    """Whether a bar has another sound: one of its bands is off by more than it is unsteady from bar to bar."""
    steadied = len(every) >= STEADIED_BY
    least = np.full(len(bar), SOUND_DB if steadied else BRIEF_DB)
    if steadied:
        # From one bar to the next, so that a sound that changes for good counts as steady.
        steps = np.abs(np.diff(every, axis=0))
        known = (~np.isnan(steps)).sum(axis=0) >= STEADIED_BY - 1
        middle = np.array([np.nanmedian(steps[:, band]) if known[band] else 0.0 for band in range(len(bar))])
        least = np.maximum(least, BEYOND * 1.4826 * middle / np.sqrt(2))
    return bool((np.abs(np.nan_to_num(bar)) > least).any())


def _is_other_all_along(every: np.ndarray) -> bool:
    """Whether the bands are off by the same in most bars, little as it may be in each."""
    bands = ~np.isnan(every)
    heard = bands.sum(axis=0) > 0
    if not heard.any():
        return False
    counts = bands.sum(axis=0)[heard]
    means = np.nansum(every, axis=0)[heard] / counts
    together = float(np.sqrt((means**2).mean()))
    if (counts < 2).all():
        return together > 2 * ALL_ALONG_DB
    scatter = np.nansum((every[:, heard] - means) ** 2) / max(1, (counts - 1).sum())
    return together > max(ALL_ALONG_DB, BEYOND_ALONG * float(np.sqrt((scatter / counts).mean())))


def _bands(first: np.ndarray, second: np.ndarray, level: float, places) -> tuple[float, ...]:
    means = [rows[list(places)].mean(axis=0) if len(places) else rows.mean(axis=0) for rows in (first, second)]
    one, two = (rows.reshape(len(BANDS), -1).sum(axis=1) for rows in means)
    return tuple(round(float(value), 1) for value in _db(one) - _db(two) - level)


def _moved(one: np.ndarray, other: np.ndarray, step_bar: np.ndarray, bars: int) -> int:
    """By how many bars the notes of the first stand later, 0 where they stand as well as anywhere."""
    shapes = [np.sqrt(rows.sum(axis=1)) for rows in (one, other)]
    shapes = [rows / np.maximum(rows.std(axis=0), 1e-9) for rows in shapes]
    sounds = [_db(rows.sum(axis=(1, 2))) > QUIET_DB for rows in (one, other)]
    starts = np.searchsorted(step_bar, np.arange(bars))

    def alike(by: int) -> float:
        lag = int(starts[by] - starts[0]) if by >= 0 else -int(starts[-by] - starts[0])
        count = len(step_bar) - abs(lag)
        spans = slice(max(0, lag), max(0, lag) + count), slice(max(0, -lag), max(0, -lag) + count)
        both = sounds[0][spans[0]] & sounds[1][spans[1]]
        first, second = (rows[span][both].ravel() for rows, span in zip(shapes, spans, strict=True))
        if both.sum() < LEAST_ALIKE or first.std() == 0 or second.std() == 0:
            return 0.0
        return float(np.corrcoef(first, second)[0, 1])

    here = alike(0)
    found = {by: alike(by) for by in range(-min(4, bars - 1), min(4, bars - 1) + 1) if by}
    best = max(found, key=found.get, default=0)
    return best if found and found[best] > ALIKE_MOVED and here < found[best] - MORE_ALIKE else 0


def _later(moved: int) -> str:
    return "later" if moved > 0 else "earlier"


def _side(one: np.ndarray, other: np.ndarray) -> str:
    if one.shape[1] != 2 or other.shape[1] != 2:
        return ""
    for name, rows, beside in (("first", one, other), ("second", other, one)):
        mine, theirs = (_db(found.sum(axis=2).mean(axis=0)) for found in (rows, beside))
        for side, word in ((0, "left"), (1, "right")):
            alone = mine[1 - side] - mine[side] > SILENT_DB and theirs[1 - side] - theirs[side] < SILENT_DB / 2
            if alone and mine[1 - side] > QUIET_DB:
                return f"The {word} side of the {name} is missing."
    return ""


def _gone(one: np.ndarray, other: np.ndarray, step_bar: np.ndarray, level: float, bars: list[int]) -> str:
    """A moment in which one of them is gone though the other sounds on."""
    first, second = _db(one.sum(axis=(1, 2))) - level, _db(other.sum(axis=(1, 2)))
    length = round(MOMENT_S / STEP_S)
    for name, mine, theirs in (("first", first, second), ("second", second, first)):
        loud = theirs > max(QUIET_DB, float(np.median(theirs)) - 15)
        runs = np.convolve((loud & (theirs - mine > GONE_DB)).astype(int), np.ones(length, int), mode="valid")
        places = np.flatnonzero(runs == length)
        if len(places):
            bar = bars[min(int(step_bar[places[0]]), len(bars) - 1)]
            return f"The {name} drops out in bar {bar}, for a moment."
    return ""


def _bars_told(some: list[int], every: list[int]) -> str:
    first = every.index(some[0])
    if some == every:
        return "all along"
    if some == every[first:]:
        return f"from bar {some[0]} on"
    if some == every[first : first + len(some)]:
        return f"in bar {some[0]}" if len(some) == 1 else f"in bars {some[0]} to {some[-1]}"
    return f"in {len(some)} of {len(every)} bars, first in bar {some[0]}"


def _sound_told(differing: list[int], every: list[int], bands: tuple[float, ...]) -> str:
    worst = int(np.argmax(np.abs(bands)))
    high, low = np.mean(bands[2:]), np.mean(bands[:2])
    how = "duller" if high - low < -1 else "brighter" if high - low > 1 else "different"
    until = f"The same sound until bar {differing[0] - 1}. " if differing[0] > every[0] else ""
    where = _bars_told(differing, every)
    return f"{until}Another sound {where}: the first is {how}, {signed(bands[worst])} dB {BANDS[worst]}."
