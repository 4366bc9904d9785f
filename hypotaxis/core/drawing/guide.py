"""The next move drawn where it belongs: a box that is not there yet, a cable that is not drawn yet."""

from dataclasses import dataclass

from hypotaxis.core.drawing.paths import rounded
from hypotaxis.core.drawing.sheet import (
    BACK_W,
    BACK_X,
    BAR_LEFT,
    BOX_W,
    BOX_X,
    GAP,
    OUT_W,
    OUT_X,
    TOP,
    BoxDrawing,
    SheetDrawing,
    SocketDrawing,
)
from hypotaxis.core.rig.beginning import Move

GHOST_H = 88
LOWEST = 420
"""Of a guide's words on the sheet; further down they would be out of sight, and stand in the strip below it."""


@dataclass(frozen=True)
class GuideDrawing:
    """Guide drawing."""

    move: Move
    cards: tuple[tuple[float, float, float, float], ...]
    """(x, y, width, height) of boxes that are not there yet."""
    path: str
    """Of a cable that is not; label at (x, y)."""
    ink: str
    label_x: float
    label_y: float

    @property
    def on_sheet(self) -> bool:
        """Whether the words stand beside what they are about."""
        return self.label_y <= LOWEST


def draw_guide(drawing: SheetDrawing, move: Move) -> GuideDrawing:
    """Where on the sheet the next move shows."""
    if move.kind == "interface":
        cards = ((OUT_X, TOP, OUT_W, GHOST_H), (BACK_X, TOP, BACK_W, GHOST_H))
        return GuideDrawing(move, cards, f"M{BAR_LEFT} {TOP + 16}H{OUT_X}", "text", OUT_X, TOP + GHOST_H + 24)
    if move.kind == "box":
        below = _below(drawing) - 26 + GAP if any(card.role == "boxes" for card in drawing.boxes) else TOP
        return GuideDrawing(move, ((BOX_X, below, BOX_W, GHOST_H),), "", "text", BOX_X, below + GHOST_H + 24)
    if move.kind == "cable":
        return _cable(drawing, move)
    return GuideDrawing(move, (), "", "text", BOX_X, _below(drawing))


def _below(drawing: SheetDrawing) -> float:
    """Below every box, so that the guide covers none."""
    return max((card.y + card.h + 26 for card in drawing.boxes if card.role == "boxes"), default=TOP)


def _cable(drawing: SheetDrawing, move: Move) -> GuideDrawing:
    ends: dict[str, tuple[SocketDrawing, BoxDrawing]] = {
        s.uid: (s, card) for card in drawing.boxes for s in card.sockets
    }
    below = _below(drawing)
    if move.source not in ends or move.target not in ends:
        return GuideDrawing(move, (), "", "text", BOX_X, below)
    (start, _), (end, _) = ends[move.source], ends[move.target]
    middle = (start.x + end.x) / 2
    path = rounded([(start.x, start.y), (middle, start.y), (middle, end.y), (end.x, end.y)])
    return GuideDrawing(move, (), path, "out" if move.number == 3 else "back", BOX_X, below)
