"""A trip's budget as a ribbon: the way out above the line, the way home below it, on one scale of milliseconds.

Legs stand end to end; the trip turns round where the box answers. A leg that is wide enough carries its name.
"""

from dataclasses import dataclass

from hypotaxis.core.drawing.needles import WIDTH
from hypotaxis.core.timing.budget import Budget

LEG_H, LINE_Y = 14, 21
LETTER = 6.4
"""Width of a letter of a leg's name, rounded up."""
SHADES = {
    "host": 0,
    "interface": 1,
    "wire": 3,
    "wait": 4,
    "hop": 3,
    "box": 0,
    "effect": 0,
    "converter": 3,
    "buffer": 1,
    "driver": 2,
}
"""How strongly each kind of leg is filled, 0 faintest; 4: hatched."""


@dataclass(frozen=True)
class LegShape:
    """A leg's rectangle."""

    x: float
    y: int
    width: float
    ink: str
    shade: int
    label: str
    """Its name where it fits."""
    told: str
    """What the pointer is told."""

    @property
    def middle_x(self) -> float:
        return round(self.x + self.width / 2, 2)


@dataclass(frozen=True)
class Ribbon:
    """Legs in order, the x at which the trip turns round, and where it ends. state: measured (filled), predicted
    (its needle dashed), borrowed (in outline) or expected (dashed)."""

    legs: tuple[LegShape, ...]
    turn_x: float
    end_x: float
    state: str


def ribbon(budget: Budget, end_ms: float, state: str) -> Ribbon:
    """The ribbon on a scale that ends at end_ms."""
    pixel = WIDTH / end_ms
    at, shapes = 0.0, []
    for leg in budget.legs:
        width = leg.ms * pixel
        out = leg.way == "out"
        word = leg.kind if leg.kind in ("box", "buffer", "effect") else ""
        told = f"{leg.name}: {leg.ms:.2f} ±{leg.half_ms:.2f} ms, {leg.origin}"
        if width >= 0.5:
            shapes.append(
                LegShape(
                    round(at, 2),
                    LINE_Y - LEG_H if out else LINE_Y,
                    round(width, 2),
                    "out" if out else "back",
                    SHADES[leg.kind],
                    word if width > LETTER * len(word) + 6 else "",
                    told,
                )
            )
        at += width
    return Ribbon(tuple(shapes), round(budget.out_ms * pixel, 2), round(at, 2), state)
