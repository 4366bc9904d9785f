"""A wire's load over the time of a session, as a filled line on a scale that suits the busiest wire."""

import numpy as np

from hypotaxis.core.drawing.paths import polyline
from hypotaxis.core.midi.wire import SECOND_US, Sent

WIDTH, HEIGHT = 420, 34
POINTS = 210
TOPS = (0.02, 0.05, 0.1, 0.2, 0.5, 1.0)
"""Shares that may stand at full height."""


def top_of(busiest: float) -> float:
    """The share that stands at full height, where the busiest wire reaches `busiest`."""
    return next((top for top in TOPS if busiest <= top), 1.0)


def load_path(sent: Sent, seconds: float, top: float) -> str:
    """The share of the second around each point in which the wire carries bytes; empty for a wire without traffic. top:
    the share at full height."""
    if not len(sent.start) or seconds <= 0:
        return ""
    per_second = SECOND_US * sent.traffic.per_us
    at = np.linspace(0, seconds, POINTS)
    shares = sent.utilisation(((at - 0.5) * per_second).astype(np.int64))
    heights = HEIGHT * (1 - np.minimum(shares / top, 1.0))
    points = np.stack([at / seconds * WIDTH, heights], axis=1)
    return f"M0 {HEIGHT}{polyline(points).replace('M', 'L', 1)}L{WIDTH} {HEIGHT}z"
