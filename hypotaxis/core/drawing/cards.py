"""Where on a card of the sheet do its name, its sockets' labels and their signs stand?

Coordinates of the sheet; baselines of texts; rectangles as x, y, width, height.
"""

from typing import NamedTuple

from hypotaxis.core.drawing.sheet import FREE, IDLE, LOOSE, USED, BoxDrawing, SocketDrawing
from hypotaxis.core.drawing.words import short

LABEL, NOTE = 20, 20
"""Characters of a socket's label and of a card's note that have room."""
TITLE_W, NOTE_W = 8.0, 6.0
"""Width of a letter of a name and of a note, rounded up."""
_STUBS = {"right": "h9", "bottom": "v9", "left": "h-9"}


class Rect(NamedTuple):
    x: float
    y: float
    w: float
    h: float


class Lettering(NamedTuple):
    """A text: its place, and which end of it stands there."""

    text: str
    x: float
    y: float
    anchor: str = "start"


class Head(NamedTuple):
    """A card's name and what stands beside it."""

    hit: Rect
    """Where it is taken hold of."""
    name: Lettering
    note: Lettering | None = None
    rule: str = ""
    """The line below, as a path."""
    picture: Rect | None = None
    icon: Rect | None = None


class Mark(NamedTuple):
    """A socket's state as a shape: a dot or ring of a radius, or a path; sign: where an open end has its sign."""

    kind: str
    radius: float = 0.0
    path: str = ""
    sign: tuple[float, float] | None = None


def tab_of(card: BoxDrawing) -> Rect:
    """The owner's colour on its left edge."""
    return Rect(card.x, card.y, 4, card.h)


def sleeve_at(x: float, y: float) -> Rect:
    """A cable's sleeve around a point."""
    return Rect(x - 4, y - 4, 8, 8)


def head_of(card: BoxDrawing) -> Head:
    """Between its sockets on a compact card, above them otherwise."""
    note = short(card.note, NOTE)
    if card.compact:
        middle, base = card.x + card.w / 2 + 6, card.y + card.h / 2 - 3
        return Head(
            Rect(middle - 48, card.y, 96, card.h),
            Lettering(card.title, middle, base, "middle"),
            Lettering(note, middle, base + 17, "middle"),
        )
    right = card.x + card.w
    head = Head(
        Rect(card.x, card.y, card.w, 30 if card.sockets else card.h),
        Lettering(card.title, card.x + 13, card.y + 21),
        rule=f"M{card.x + 1} {card.y + 31}h{card.w - 2}" if card.sockets else "",
    )
    if card.role == "hands":
        return head if card.sockets else head._replace(note=Lettering(note, card.x + 13, card.y + 38))
    if card.role != "boxes":
        room = TITLE_W * len(card.title) + NOTE_W * len(note) <= card.w - 33
        return head._replace(note=Lettering(note, right - 12, card.y + 21, "end")) if room else head
    if card.w < 200:
        return head
    if len(card.title) < 13:
        head = head._replace(note=Lettering(note, right - 36, card.y + 21, "end"))
    if card.picture:
        return head._replace(picture=Rect(right - 30, card.y + 4, 24, 24))
    return head._replace(icon=Rect(right - 28, card.y + 7, 18, 18)) if card.icon else head


def hit_of(socket: SocketDrawing) -> Rect:
    """Where a socket is taken hold of: 28 high."""
    return Rect(socket.hit_x, socket.y - (24 if socket.side == "bottom" else 14), socket.hit_w, 28)


def mark_of(socket: SocketDrawing) -> Mark:
    """Filled where it is used, a ring where it is cabled only, a stub where it is free, an open end with the sign where
    something is expected there."""
    if socket.state == USED:
        return Mark("dot", 7 if socket.strong else 5)
    if socket.state == IDLE:
        return Mark("ring", 4.5)
    start = f"M{socket.x} {socket.y}"
    if socket.state == FREE:
        return Mark("stub", path=start + _STUBS[socket.side])
    end, sign_x = ("h7m4 -2l6 -6", socket.x + 18) if socket.side == "right" else ("h-7m-4 -2l-6 -6", socket.x - 38)
    return Mark("open", path=start + end, sign=(sign_x, socket.y - 9))


def label_of(card: BoxDrawing, socket: SocketDrawing) -> tuple[Lettering, Lettering | None]:
    """(its label, its tag at the other edge of the card)."""
    label, base = short(socket.label, LABEL), socket.y + 5
    if socket.side == "bottom":
        return Lettering(label, socket.x + 12, socket.y - 9), None
    if socket.side == "right":
        tag = Lettering(socket.tag, card.x + 11, base)
        return Lettering(label, socket.x - 14, base, "end"), tag if socket.tag else None
    tag = Lettering(socket.tag, card.x + card.w - 12, base, "end")
    return Lettering(label, socket.x + 14, base), tag if socket.tag else None


def is_open(socket: SocketDrawing) -> bool:
    """Whether a definition points to it that finds nothing there."""
    return socket.state == LOOSE
