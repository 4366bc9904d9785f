"""Lines as SVG path data."""

from collections.abc import Sequence

RADIUS = 9.0


def number(value: float) -> str:
    """A coordinate without needless digits."""
    return f"{value:.2f}".rstrip("0").rstrip(".")


def rounded(points: Sequence[tuple[float, float]], radius: float = RADIUS) -> str:
    """A polyline of horizontal and vertical runs with rounded corners.

    >>> rounded([(0, 0), (10, 0)])
    'M0 0L10 0'
    """
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


def polyline(points: Sequence[tuple[float, float]]) -> str:
    """Straight pieces from point to point; an empty sequence gives an empty path."""
    return "".join(f"{'L' if index else 'M'}{number(x)} {number(y)}" for index, (x, y) in enumerate(points))
