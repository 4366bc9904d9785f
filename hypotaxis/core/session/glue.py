"""Notes and sound together: the notes as clicks, mixed with a take, so that an ear can judge the placement."""

from collections.abc import Iterator

import numpy as np

CLICK_MS = 12.0
CLICK_HZ = 2400.0
CLICK_LEVEL = 0.4


def click(rate: int) -> np.ndarray:
    """One click: a decaying sine that begins at its crest, so that its first sample is its edge."""
    time = np.arange(round(CLICK_MS * rate / 1000)) / rate
    return CLICK_LEVEL * np.cos(2 * np.pi * CLICK_HZ * time) * np.exp(-time / 0.002)


def with_clicks(
    blocks: Iterator[np.ndarray], moments: np.ndarray, *, rate: int, gain: float = 1.0
) -> Iterator[np.ndarray]:
    """Blocks (frames, channels) times gain plus a click at each moment (samples from the first block's start).

    Held at full scale rather than wrapped.
    """
    sound = click(rate)
    starts = np.rint(np.sort(moments)).astype(int)
    at = 0
    for block in blocks:
        mixed = block.astype(np.float64) * gain
        end = at + len(block)
        first = np.searchsorted(starts, at - len(sound), side="right")
        for start in starts[first : np.searchsorted(starts, end)]:
            low, high = max(start, at), min(start + len(sound), end)
            mixed[low - at : high - at] += sound[low - start : high - start, None]
        at = end
        yield np.clip(mixed, -1.0, 1.0)
