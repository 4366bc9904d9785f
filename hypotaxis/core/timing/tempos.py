"""Does a recording play the same notes at another tempo?

The score's moments are stretched by many ratios and laid over the coarse curve of rises; the ratio at which they fit is
told instead of a lateness. Ratio of times: above 1 the recording is slower.
"""

import numpy as np

from hypotaxis.core.timing.novelty import RISE_CAP, SEARCH_MS, Novelty

RATIOS = (0.75, 1.34)
FIRST_NOTES = 32
FINE_MS = 8.0
"""How far the last note may miss between two ratios that are tried."""
CLOCKS = 6e-4
"""Nearer to 1 than two clocks may be apart it is no tempo."""
FITS, BETTER = 0.5, 1.6
"""Share of the best possible fit that counts as one, and how much better than without stretching."""


def other_tempo(curve: Novelty, positions: np.ndarray, rate: int) -> float | None:
    """The ratio of times at which moments (samples) fit a curve clearly better than as they are, or None."""
    if len(positions) < 8:
        return None
    hop_ms = curve.hop * 1000 / rate
    lags = np.arange(int(SEARCH_MS[0] / hop_ms), int(SEARCH_MS[1] / hop_ms) + 1)
    kernel = np.array([0.5, 0.8, 1.0, 0.8, 0.5])
    rises = np.convolve(curve.rises, kernel, "same")

    def fit(times: np.ndarray, ratios: np.ndarray) -> np.ndarray:
        """The best fit of each ratio over all lags, as a share of the best possible."""
        total = np.zeros((len(ratios), len(lags)))
        for time in times:
            at = np.rint(time * ratios / hop_ms).astype(int)[:, None] + lags
            inside = (at >= 0) & (at < len(rises))
            total += np.where(inside, rises[np.clip(at, 0, len(rises) - 1)], 0.0)
        return total.max(axis=1) / (len(times) * RISE_CAP)

    times = positions * 1000 / rate
    few = times[:FIRST_NOTES]
    coarse = np.arange(*RATIOS, FINE_MS / max(few[-1], 1.0))
    fits = fit(few, coarse)
    best = float(coarse[fits.argmax()])
    some = times[np.unique(np.linspace(0, len(times) - 1, min(len(times), 4 * FIRST_NOTES)).astype(int))]
    near = best + np.arange(-25, 26) * FINE_MS / 4 / max(float(some[-1]), 1.0)
    fine = fit(some, near)
    ratio = float(near[fine.argmax()])
    as_is = float(fit(some, np.ones(1))[0])
    fits_well = fine.max() >= FITS and fine.max() >= BETTER * as_is
    return ratio if fits_well and abs(ratio - 1) > CLOCKS else None
