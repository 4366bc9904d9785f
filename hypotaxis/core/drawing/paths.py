"""Lines as SVG path data."""

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike

RADIUS = 9.0
KEPT = 4096
"""Paths of cables: most stay where they are when something of a rig changes."""


def number(value: float) -> str:
    """A coordinate without needless digits."""
    return f"{value:.2f}".rstrip("0").rstrip(".")


def rounded(points: Sequence[tuple[float, float]], radius: float = RADIUS) -> str:
    """A polyline of horizontal and vertical runs with rounded corners.

    >>> rounded([(0, 0), (10, 0)])
    'M0 0L10 0'
    """
    return _rounded(tuple(points), radius)


@lru_cache(KEPT)
def _rounded(points: tuple[tuple[float, float], ...], radius: float) -> str:
    kept = [points[0]]
    for point in points[1:]:
        if point != kept[-1]:
            kept.append(point)
    parts = [f"M{number(kept[0][0])} {number(kept[0][1])}"]
    for before, corner, after in zip(kept, kept[1:], kept[2:], strict=False):
        near = _towards(corner, before, radius)
        far = _towards(corner, after, radius)
        parts.append(f"L{number(near[0])} {number(near[1])}")
        parts.append(f"Q{number(corner[0])} {number(corner[1])} {number(far[0])} {number(far[1])}")
    if len(kept) > 1:
        parts.append(f"L{number(kept[-1][0])} {number(kept[-1][1])}")
    return "".join(parts)


def _towards(corner: tuple[float, float], other: tuple[float, float], radius: float) -> tuple[float, float]:
    across, down = other[0] - corner[0], other[1] - corner[1]
    length = max(abs(across), abs(down))
    share = min(radius, length / 2) / length
    return corner[0] + across * share, corner[1] + down * share


def polyline(points: ArrayLike) -> str:
    """Straight pieces from point to point, shape (points, 2); none give an empty path.

    >>> polyline([(0, 0), (10, 0.126)])
    'M0 0L10 0.13'
    """
    return filled("L%.9g %.9g", np.asarray(points, dtype=float).reshape(-1, 2)).replace("L", "M", 1)


def filled(piece: str, rows: np.ndarray) -> str:
    """A piece of a path once for each row, its coordinates (%.9g) filled in, with two digits behind the point at most.
    All in one go, since a waveform has thousands."""
    return (piece * len(rows)) % tuple((np.round(rows, 2) + 0.0).ravel().tolist())
