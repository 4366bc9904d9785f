"""How does lateness follow buffer and rate, as far as soundings can tell?

L(b, rate) = F + (c + k · b) / rate: F in ms (wire, box), c in samples (converters, driver), k in buffers. One sounding
tells only itself; two buffer sizes at one rate give k and the rest together; telling F from c needs two rates. What the
soundings cannot tell apart is neither given nor predicted. Least squares, each sounding weighted by its uncertainty.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hypotaxis.core.timing.line import student_quantile

SMALLEST_HALF_MS = 0.02
"""No sounding is taken to be surer than about a sample (common sense: interfaces restart on another sample)."""
TELLABLE = 1e-6
"""What may be left of a wanted combination outside what the soundings span, relative to its length."""


@dataclass(frozen=True)
class Measured:
    """One sounding: its settings, its median and the half-width of its 95 % interval, in ms."""

    buffer: int
    rate: int
    lateness_ms: float
    half_ms: float


@dataclass(frozen=True)
class Known:
    """A value with the half-width of its 95 % interval."""

    value: float
    half: float


@dataclass(frozen=True, eq=False)
class BufferModel:
    """The fit. fixed_ms, fixed_samples, buffers: F, c and k, None where the soundings cannot tell; settings: how many
    different pairs of buffer and rate were measured."""

    soundings: tuple[Measured, ...]
    values: np.ndarray
    covariance: np.ndarray
    spanned: np.ndarray

    @property
    def fixed_ms(self) -> Known | None:
        return self._known(np.array([1.0, 0.0, 0.0]))

    @property
    def fixed_samples(self) -> Known | None:
        return self._known(np.array([0.0, 1.0, 0.0]))

    @property
    def buffers(self) -> Known | None:
        return self._known(np.array([0.0, 0.0, 1.0]))

    @property
    def settings(self) -> int:
        return len({(one.buffer, one.rate) for one in self.soundings})

    def predict(self, buffer: int, rate: int) -> Known | None:
        """Lateness in ms at another setting; None where the soundings cannot tell."""
        return self._known(_row(buffer, rate))

    def _known(self, wanted: np.ndarray) -> Known | None:
        # A combination is known where it lies in what the soundings span.
        scaled = wanted / _SCALE
        rest = scaled - self.spanned.T @ (self.spanned @ scaled)
        if np.linalg.norm(rest) > TELLABLE * np.linalg.norm(scaled):
            return None
        half = float(np.sqrt(max(0.0, wanted @ self.covariance @ wanted)))
        return Known(float(wanted @ self.values), half)


_SCALE = np.array([1.0, 1000.0 / 48_000, 256_000.0 / 48_000])
"""Brings the three columns to one size, so that "zero" means the same for each."""


def fit_buffers(soundings: Sequence[Measured]) -> BufferModel:
    """The model of at least one sounding. Where there are more soundings than parameters and they scatter more than
    their own uncertainties say, the errors grow with the scatter."""
    rows = np.array([_row(one.buffer, one.rate) for one in soundings]) / _SCALE
    sigma = np.array([max(one.half_ms, SMALLEST_HALF_MS) / 1.96 for one in soundings])
    weighted = rows / sigma[:, None]
    left, sizes, right = np.linalg.svd(weighted, full_matrices=False)
    rank = int((sizes > 1e-9 * sizes[0]).sum())
    left, sizes, right = left[:, :rank], sizes[:rank], right[:rank]
    late = np.array([one.lateness_ms for one in soundings]) / sigma
    scaled = right.T @ ((left.T @ late) / sizes)
    freedom = len(soundings) - rank
    misfit = float(((late - weighted @ scaled) ** 2).sum())
    spread = max(1.0, misfit / freedom) if freedom else 1.0
    quantile = student_quantile(freedom) if freedom > 1 else 1.96 if not freedom else 12.706
    quantile = 1.96 if spread == 1.0 else quantile
    covariance = right.T @ np.diag(1 / sizes**2) @ right * spread * quantile**2
    return BufferModel(tuple(soundings), scaled / _SCALE, covariance / np.outer(_SCALE, _SCALE), right)


def _row(buffer: int, rate: int) -> np.ndarray:
    return np.array([1.0, 1000.0 / rate, 1000.0 * buffer / rate])


def in_words(model: BufferModel) -> str:
    """What the soundings tell, and what one more would."""
    pieces = []
    if model.buffers:
        pieces.append(f"{model.buffers.value:.2f} ±{model.buffers.half:.2f} buffers")
    if model.fixed_samples:
        pieces.append(f"{model.fixed_samples.value:.0f} ±{model.fixed_samples.half:.0f} samples")
    if model.fixed_ms:
        pieces.append(f"{model.fixed_ms.value:.2f} ±{model.fixed_ms.half:.2f} ms")
    if len(pieces) == 3:
        return f"Lateness is {pieces[2]}, {pieces[1]} and {pieces[0]}."
    sizes, rates = ({getattr(one, name) for one in model.soundings} for name in ("buffer", "rate"))
    if len(sizes) < 2 and len(rates) < 2:
        return "All soundings are of one buffer and rate. One at another buffer tells how lateness follows it."
    if not pieces:
        return "These settings cannot tell the buffer's share from the rest. Sound once more at one of the same rates."
    return (
        f"Lateness follows the buffer by {pieces[0]}. What is fixed in ms and what is fixed in samples cannot be told "
        "apart at one rate, so other rates are not predicted."
    )
