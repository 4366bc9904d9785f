"""Has only one side of a stereo sound anything in it? Then a mono file holds all of it."""

from collections.abc import Iterable

import numpy as np

from hypotaxis.core.session.listening import AUDIBLE_DB
from hypotaxis.core.units import factor_to_db

LESS_DB = 30.0
"""A dead side lies at least so far under the other one: what leaks over does not."""


def live_side(blocks: Iterable[np.ndarray]) -> int | None:
    """The only side, 0 or 1, of frames of shape (frames, 2) that is alive; None where both are, or neither."""
    peaks = np.zeros(2)
    for block in blocks:
        if len(block):
            peaks = np.maximum(peaks, np.abs(block).max(axis=0))
    low, high = sorted(factor_to_db(float(peak)) for peak in peaks)
    return int(peaks.argmax()) if low <= AUDIBLE_DB < high and high - low >= LESS_DB else None
