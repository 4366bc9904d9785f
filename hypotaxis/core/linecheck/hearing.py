"""What did each input hear of a line? Levels in dBFS, times in ms from when the note left."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from hypotaxis.core.units import CLIP_RUN, FLOOR_DB, factor_to_db

RISES_DB, AUDIBLE_DB = 14.0, -66.0
"""How far a note must rise above what was heard just before it, and how loud it must be, to have come home."""
FIRST_MS, SHARE = 1.0, 0.1
"""It begins where it first passes this share of its own peak."""
REST_PERCENTILE = 90
COPY, MOST_APART_MS, COMPARED_MS = 0.85, 60.0, 120.0
"""Correlation from which two inputs hear one sound on two ways, how far those may be apart, how much is compared."""
MAINS_HZ, HARMONICS = (50, 60), 8
HUMS, HUMS_APART = 0.7, 0.15
"""Share of a rest's energy that lies on one mains and its harmonics, from which it is hum; and how much less the other
mains must explain. Of our own trial: 150 ms tell 50 from 60 Hz by their harmonics."""
BANDS_HZ = (0.0, 150.0, 400.0, 1_000.0, 2_500.0, 6_000.0, 24_000.0)


@dataclass(frozen=True)
class InputHeard:
    """An input during a line. rest_db: before its note; late_ms: of its first edge, None where nothing rose."""

    uid: str
    peak_db: float
    rest_db: float
    late_ms: float | None = None
    clipped: bool = False
    bands_db: tuple[float, ...] = ()
    """How its sound is made up: energy by band, of all of it."""
    hum_hz: int = 0

    @property
    def moved(self) -> bool:
        return self.late_ms is not None


@dataclass(frozen=True)
class LineHeard:
    """All inputs during a line. copies: (uid, uid, ms) of inputs that heard one sound on two ways, and how much later
    the second is."""

    inputs: tuple[InputHeard, ...]
    copies: tuple[tuple[str, str, float], ...] = ()

    @cached_property
    def moved(self) -> tuple[str, ...]:
        """Uids of the inputs at which something came home, the loudest first."""
        there = sorted((one for one in self.inputs if one.moved), key=lambda one: -one.peak_db)
        return tuple(one.uid for one in there)

    def of(self, uid: str) -> InputHeard | None:
        return next((one for one in self.inputs if one.uid == uid), None)

    def about(self, own: Sequence[str]) -> "LineHeard":
        """Without the inputs at which nothing came home and that are none of its own: nothing is asked of them, and a
        large rig has hundreds."""
        kept = tuple(one for one in self.inputs if one.moved or one.uid in own)
        return LineHeard(kept, self.copies)

    def copied(self, one: str, other: str) -> float | None:
        """By how many ms one input hears later what the other does; None where it hears something else."""
        for first, second, ms in self.copies:
            if (first, second) == (other, one):
                return ms
            if (first, second) == (one, other):
                return -ms
        return None


def hear_line(samples: np.ndarray, rate: int, note_frame: int, uids: Sequence[str]) -> LineHeard:
    """samples: of its slot, shape (frames, inputs); note_frame: when its note left; uids: of the inputs."""
    heard = tuple(_heard(samples[:, column], rate, note_frame, uid) for column, uid in enumerate(uids))
    columns = {uid: samples[:, column] for column, uid in enumerate(uids)}
    moved = [one for one in heard if one.moved]
    copies = []
    for place, one in enumerate(moved):
        for other in moved[place + 1 :]:
            ms = _apart(columns[one.uid], columns[other.uid], rate, note_frame, min(one.late_ms, other.late_ms))
            if ms is not None:
                copies.append((one.uid, other.uid, round(ms, 3)))
    return LineHeard(heard, tuple(copies))


def _heard(signal: np.ndarray, rate: int, note_frame: int, uid: str) -> InputHeard:
    hop = max(1, round(FIRST_MS * rate / 1000))
    hops = len(signal) // hop
    level = np.abs(signal[: hops * hop].reshape(hops, hop)).max(axis=1) if hops else np.zeros(1)
    first = note_frame // hop
    before, after = level[:first], level[first:]
    rest = float(np.percentile(before, REST_PERCENTILE)) if len(before) else 0.0
    peak = float(after.max(initial=0.0))
    peak_db, rest_db = (max(FLOOR_DB, factor_to_db(value)) for value in (peak, rest))
    hums = hum_hz(signal[:note_frame], rate) if rest_db > AUDIBLE_DB else 0
    if peak_db < AUDIBLE_DB or peak_db < rest_db + RISES_DB:
        return InputHeard(uid, round(peak_db, 1), round(rest_db, 1), hum_hz=hums)
    begins = int(np.argmax(after > max(SHARE * peak, 2 * rest)))
    fine = np.abs(signal[note_frame + max(0, begins - 1) * hop : note_frame + (begins + 1) * hop])
    over = np.flatnonzero(fine > max(SHARE * peak, 2 * rest))
    exact = (max(0, begins - 1) * hop + (int(over[0]) if len(over) else hop)) * 1000 / rate
    full = np.abs(signal) >= 1.0 - 2.0**-15
    clipped = bool(len(signal) >= CLIP_RUN and np.convolve(full, np.ones(CLIP_RUN), "valid").max(initial=0) >= CLIP_RUN)
    sound = signal[note_frame + round(exact * rate / 1000) :]
    return InputHeard(uid, round(peak_db, 1), round(rest_db, 1), round(exact, 2), clipped, _bands(sound, rate), hums)


def hum_hz(rest: np.ndarray, rate: int) -> int:
    """Which mains an input hums with: 50, 60 or 0. rest: at least 0.1 s without a note."""
    if len(rest) < rate // 10:
        return 0
    signal, time_s = rest - rest.mean(), np.arange(len(rest)) / rate
    shares = {hz: _share(signal, time_s, hz) for hz in MAINS_HZ}
    best, other = sorted(shares, key=shares.get, reverse=True)
    return best if shares[best] >= HUMS and shares[best] >= shares[other] + HUMS_APART else 0


def _share(signal: np.ndarray, time_s: np.ndarray, hz: int) -> float:
    """Of the energy, what a tone and its harmonics explain (least squares)."""
    turns = 2 * np.pi * hz * np.outer(time_s, np.arange(1, HARMONICS + 1))
    waves = np.hstack([np.sin(turns), np.cos(turns)])
    left = signal - waves @ np.linalg.lstsq(waves, signal, rcond=None)[0]
    energy = float((signal**2).sum())
    return 1.0 - float((left**2).sum()) / energy if energy > 0 else 0.0


def _bands(sound: np.ndarray, rate: int) -> tuple[float, ...]:
    spectrum = np.abs(np.fft.rfft(sound * np.hanning(len(sound)))) ** 2 if len(sound) > 64 else np.ones(33)
    edges = np.searchsorted(np.fft.rfftfreq(max(64, len(sound)), 1 / rate), BANDS_HZ)
    energies = [float(spectrum[low:high].sum()) for low, high in pairwise(edges)]
    whole = max(sum(energies), 1e-30)
    return tuple(round(max(-60.0, 10 * np.log10(max(one / whole, 1e-9))), 1) for one in energies)


def _apart(one: np.ndarray, other: np.ndarray, rate: int, note_frame: int, late_ms: float) -> float | None:
    """By how many ms the second is later, where both hear one sound."""
    begin = max(0, note_frame + round((late_ms - 5) * rate / 1000))
    frames = round((COMPARED_MS + MOST_APART_MS) * rate / 1000)
    a, b = one[begin : begin + frames], other[begin : begin + frames]
    size = 1 << int(np.ceil(np.log2(max(2, 2 * len(a)))))
    spectra = [np.fft.rfft(wave, size) for wave in (a, b)]
    both = np.fft.irfft(spectra[1] * np.conj(spectra[0]), size)
    most = round(MOST_APART_MS * rate / 1000)
    near = np.concatenate([both[-most:], both[: most + 1]])
    at = int(np.argmax(np.abs(near)))
    energy = float(np.sqrt((a**2).sum() * (b**2).sum()))
    return (at - most) * 1000 / rate if energy > 0 and abs(near[at]) / energy >= COPY else None


def other_sound(now: Mapping[str, InputHeard], then: Mapping[str, InputHeard]) -> float:
    """By how many dB the make-up of what is heard differs from an earlier one, in the band that differs most among
    those that matter in either."""
    worst = 0.0
    for uid in now.keys() & then.keys():
        for mine, theirs in zip(now[uid].bands_db, then[uid].bands_db, strict=False):
            if max(mine, theirs) > -25.0:
                worst = max(worst, abs(mine - theirs))
    return worst
