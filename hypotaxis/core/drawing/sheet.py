"""The out-and-back sheet: where do boxes, sockets and cables stand?

Four columns from left to right: Hands, Goes out, Boxes, Comes back; the host is a barline at both edges. An
interface appears twice, its sending and its receiving side. Coordinates are pixels of a sheet 1024 wide; every
position follows from the rig alone, so nothing moves that was not changed.
"""

from collections.abc import Iterable
from dataclasses import dataclass, replace

from hypotaxis.core.drawing.paths import rounded
from hypotaxis.core.findings.finding import WRONG, Finding
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.shapes import SHAPES, column_of, is_interface
from hypotaxis.core.rig.trips import Trip, heard_from, runs, trip_of
from hypotaxis.core.rig.values import Box, Cable, Rig, Socket

WIDTH = 1024
TOP = 20
HEADER = 32
PITCH = 28
GAP = 22
HANDS_X, HANDS_W = 24, 116
OUT_X, OUT_W = 186, 158
BOX_X, BOX_W = 440, 213
INDENT, DEEPEST = 28, 2
BACK_X, BACK_W = 818, 164
BAR_LEFT, BAR_RIGHT = 160, 1004
LANE = 12
MAX_TITLE = 24

USED, IDLE, FREE, LOOSE = "used", "idle", "free", "loose"


@dataclass(frozen=True, kw_only=True)
class SocketDrawing:
    """A socket: its dot at (x, y), its label beside it. side: edge of the card (left, right, bottom); ink: out, back
    or text."""

    uid: str
    label: str
    x: float
    y: float
    side: str
    ink: str
    state: str
    strong: bool
    tag: str
    spoken: str
    hit_x: float
    hit_w: float


@dataclass(frozen=True, kw_only=True)
class BoxDrawing:
    """A card. role: "hands", "sends", "boxes" or "receives"."""

    uid: str
    role: str
    title: str
    full_title: str
    note: str
    colour: str
    x: float
    y: float
    w: float
    h: float
    strong: bool
    sockets: tuple[SocketDrawing, ...]


@dataclass(frozen=True, kw_only=True)
class CableDrawing:
    """A cable. kind: midi, audio, send (audio out to an effect) or usb."""

    uid: str
    path: str
    kind: str
    ink: str
    strong: bool
    spoken: str


@dataclass(frozen=True, kw_only=True)
class SheetDrawing:
    """The whole picture. faded: something is selected, so the rest is drawn back."""

    width: int
    height: int
    boxes: tuple[BoxDrawing, ...]
    cables: tuple[CableDrawing, ...]
    leads: tuple[str, ...]
    homes: tuple[str, ...]
    faded: bool

    @property
    def bar_height(self) -> int:
        """Length of the barlines."""
        return self.height - TOP - 24


@dataclass(frozen=True)
class _Selection:
    sockets: frozenset[str]
    cables: frozenset[str]


def draw_sheet(
    plan: Plan,
    findings: Iterable[Finding] = (),
    *,
    trip: Trip | None = None,
    socket: str = "",
    marked: frozenset[str] = frozenset(),
) -> SheetDrawing:
    """The sheet of a plan. trip: drawn strong; socket: the picked one, with what hangs on it, when there is no trip;
    marked: uids of boxes, sockets and cables to draw strong instead, when neither is given."""
    rig = plan.rig
    loose = {finding.socket for finding in findings if finding.severity == WRONG and finding.socket}
    selection = _selection(rig, trip, socket, marked)
    used = {uid for instrument in plan.instruments for uid in trip_of(rig, instrument).sockets}
    tags = _tags(plan)
    depth = _thru_depth(rig)

    def sockets_of(box: Box, chosen: list[Socket], x: float, y: float, w: float, sides: dict[str, int]):
        for item in chosen:
            side = _side(box, item)
            row = sides["left" if side == "bottom" else side]
            sides["left" if side == "bottom" else side] += 1
            at_x = {"right": x + w, "left": x, "bottom": x + INDENT / 2}[side]
            state = _state(rig, item, used, loose)
            yield SocketDrawing(
                uid=item.uid,
                label=item.name,
                x=at_x,
                y=y + HEADER + row * PITCH + PITCH / 2,
                side=side,
                ink=_ink(box, item),
                state=state,
                strong=item.uid in selection.sockets,
                tag="no cable" if state == LOOSE else tags.get(item.uid, ""),
                spoken=_spoken(rig, box, item),
                hit_x=(at_x - w / 2 + 8) if side == "right" else x - 8,
                hit_w=w / 2,
            )

    def card(box: Box, role: str, chosen: list[Socket], x: float, y: float, w: float) -> BoxDrawing:
        sides = {"left": 0, "right": 0}
        drawn = tuple(sockets_of(box, chosen, x, y, w, sides))
        rows = max(sides.values())
        height = HEADER + rows * PITCH + (6 if rows else 14)
        # A thru hangs on the lower edge, from where the chain steps down.
        drawn = tuple(replace(item, y=y + height) if item.side == "bottom" else item for item in drawn)
        return BoxDrawing(
            uid=box.uid,
            role=role,
            title=_shorten(box.name, MAX_TITLE if role == "boxes" else 13),
            full_title=box.name,
            note={"sends": "sends", "receives": "receives"}.get(role, box.note),
            colour=box.colour,
            x=x,
            y=y,
            w=w,
            h=height,
            strong=box.uid in selection.sockets or any(item.strong for item in drawn),
            sockets=drawn,
        )

    cards: list[BoxDrawing] = []
    heights = {"hands": TOP, "sends": TOP, "boxes": TOP, "receives": TOP}
    for box in sorted(rig.boxes, key=lambda item: item.order):
        for role, chosen in _roles(box):
            x, w = {
                "hands": (HANDS_X, HANDS_W),
                "sends": (OUT_X, OUT_W),
                "boxes": (BOX_X + INDENT * min(depth.get(box.uid, 0), DEEPEST), BOX_W),
                "receives": (BACK_X, BACK_W),
            }[role]
            drawn = card(box, role, chosen, x, heights[role], w)
            heights[role] = drawn.y + drawn.h + GAP
            cards.append(drawn)
    height = max(520, int(max(heights.values())) + 26)
    ends = {item.uid: (item, drawn) for drawn in cards for item in drawn.sockets}
    return SheetDrawing(
        width=WIDTH,
        height=height,
        boxes=tuple(cards),
        cables=tuple(_cables(rig, cards, ends, selection)),
        leads=tuple(_leads(trip, ends)),
        homes=tuple(_homes(trip, ends)),
        faded=bool(selection.sockets or selection.cables),
    )


def _selection(rig: Rig, trip: Trip | None, socket: str, marked: frozenset[str]) -> _Selection:
    if trip is not None:
        return _Selection(trip.sockets, trip.cables)
    if not socket:
        return _Selection(marked, marked)
    cables = {hop.cable.uid for reached in heard_from(rig, socket) for hop in reached.hops}
    here = rig.cable_at(socket)
    if here:
        cables.add(here.uid)
    ends = {end for cable in rig.cables if cable.uid in cables for end in (cable.source, cable.target)}
    return _Selection(frozenset(ends | {socket}), frozenset(cables))


def _roles(box: Box) -> list[tuple[str, list[Socket]]]:
    """How often a box stands on the sheet, and with which sockets."""
    column = column_of(box.shape)
    if column == "host":
        return []
    if column == "interface":
        plain = [socket for socket in box.sockets if socket.kind != "usb"]
        return [
            ("sends", [socket for socket in plain if socket.direction == "out"]),
            ("receives", [socket for socket in plain if socket.direction == "in"]),
        ]
    if column == "hands":
        return [("hands", [socket for socket in box.sockets if socket.kind != "usb"])]
    return [("boxes", list(box.sockets))]


def _side(box: Box, socket: Socket) -> str:
    if is_interface(box.shape):
        return "right" if socket.direction == "out" else "left"
    if column_of(box.shape) == "hands":
        return "right"
    if socket.thru_of:
        return "bottom"
    return "right" if socket.direction == "out" else "left"


def _ink(box: Box, socket: Socket) -> str:
    if socket.kind == "usb" or column_of(box.shape) == "hands":
        return "text"
    if is_interface(box.shape):
        if socket.direction == "out":
            return "out"
        return "back" if socket.kind == "audio" else "text"
    if socket.kind == "midi":
        return "out"
    return "back" if socket.direction == "out" else "out"


def _state(rig: Rig, socket: Socket, used: set[str], loose: set[str]) -> str:
    if socket.uid in loose:
        return LOOSE
    if rig.cable_at(socket.uid) is None:
        return FREE
    return USED if socket.uid in used else IDLE


def _spoken(rig: Rig, box: Box, socket: Socket) -> str:
    cable = rig.cable_at(socket.uid)
    name = f"{box.name} {socket.name}"
    if cable is None:
        return f"{name}, free"
    other = cable.target if cable.source == socket.uid else cable.source
    return f"{name}, cabled to {rig.socket_text(other)}"


def _tags(plan: Plan) -> dict[str, str]:
    """What stands beside an input of the host: whose sound is expected there."""
    tags: dict[str, str] = {}
    for instrument in plan.instruments:
        box = plan.rig.box(instrument.box)
        sides = ("L", "R") if len(instrument.returns) == 2 else ("",)
        for uid, side in zip(instrument.returns, sides, strict=False):
            tags.setdefault(uid, _shorten(f"{box.name if box else instrument.name} {side}".strip(), 15))
    return tags


def _thru_depth(rig: Rig) -> dict[str, int]:
    """How many thrus a box hangs behind."""
    depth: dict[str, int] = {}
    for box, socket in rig.each_socket():
        if is_interface(box.shape) and socket.kind == "midi" and socket.direction == "out":
            for reached in heard_from(rig, socket.uid):
                depth[reached.box] = sum(hop.by_thru for hop in reached.hops)
    return depth


def _cables(rig: Rig, cards: list[BoxDrawing], ends: dict, selection: _Selection) -> Iterable[CableDrawing]:
    out_lanes = _lanes([c for c in rig.cables if _between(c, ends, "sends", "boxes")], ends, OUT_X + OUT_W, BOX_X)
    back_start = BOX_X + BOX_W + INDENT * DEEPEST
    home = [c for c in rig.cables if _between(c, ends, "boxes", "receives")]
    back_lanes = _lanes(home, ends, back_start, BACK_X)
    gutter = BOX_X - 10
    for cable in rig.cables:
        source, target = ends.get(cable.source), ends.get(cable.target)
        found = rig.find(cable.source), rig.find(cable.target)
        if found[0] is None or found[1] is None:
            continue
        spoken = f"Cable from {rig.socket_text(cable.source)} to {rig.socket_text(cable.target)}"
        strong = cable.uid in selection.cables
        if found[0][1].kind == "usb":
            for path in _usb_paths(cards, found[0][0]):
                yield CableDrawing(uid=cable.uid, path=path, kind="usb", ink="text", strong=strong, spoken=spoken)
            continue
        if source is None or target is None:
            continue
        (start, start_card), (end, end_card) = source, target
        lane = out_lanes.get(cable.uid) or back_lanes.get(cable.uid)
        if start.side == "bottom" and end_card.x > start.x and _next_below(start_card, end_card):
            points = [(start.x, start.y), (start.x, end.y), (end.x, end.y)]
        elif start.side == "bottom":
            under = start.y + GAP / 2
            points = [(start.x, start.y), (start.x, under), (gutter, under), (gutter, end.y), (end.x, end.y)]
        else:
            lane = lane or (start.x + 14 if start_card.role == end_card.role else gutter)
            points = [(start.x, start.y), (lane, start.y), (lane, end.y), (end.x, end.y)]
        audio = found[0][1].kind == "audio"
        from_host = is_interface(found[0][0].shape)
        yield CableDrawing(
            uid=cable.uid,
            path=rounded(points),
            kind="send" if audio and from_host else found[0][1].kind,
            ink="back" if audio and not from_host else "out",
            strong=strong,
            spoken=spoken,
        )


def _next_below(card: BoxDrawing, other: BoxDrawing) -> bool:
    return abs(other.y - (card.y + card.h + GAP)) < 1


def _between(cable: Cable, ends: dict, one: str, other: str) -> bool:
    source, target = ends.get(cable.source), ends.get(cable.target)
    return bool(source and target and source[1].role == one and target[1].role == other)


def _lanes(cables: list[Cable], ends: dict, left: float, right: float) -> dict[str, float]:
    """An upright lane for each cable between two columns, in an order in which those side by side do not cross."""
    down = [c for c in cables if ends[c.target][0].y >= ends[c.source][0].y]
    up = [c for c in cables if ends[c.target][0].y < ends[c.source][0].y]
    # Of cables that lead down the upper one turns last, of those that lead up the upper one turns first.
    down.sort(key=lambda c: -ends[c.source][0].y)
    up.sort(key=lambda c: ends[c.source][0].y)
    ordered = down + up
    pitch = min(LANE, (right - left - 24) / max(1, len(ordered)))
    first = (left + right) / 2 - pitch * (len(ordered) - 1) / 2
    return {cable.uid: first + index * pitch for index, cable in enumerate(ordered)}


def _usb_paths(cards: list[BoxDrawing], box: Box) -> Iterable[str]:
    """A box's USB cable: from its card to the barline, on both sides for an interface."""
    for card in cards:
        if card.uid != box.uid:
            continue
        y = card.y + HEADER / 2
        if card.role == "hands":
            yield f"M{card.x + card.w} {y}H{BAR_LEFT}"
        elif card.role == "sends":
            yield f"M{BAR_LEFT} {y}H{card.x}"
        elif card.role == "receives":
            yield f"M{card.x + card.w} {y}H{BAR_RIGHT}"


def _leads(trip: Trip | None, ends: dict) -> Iterable[str]:
    """From the host's barline into the send socket of the trip."""
    if trip and trip.instrument.send in ends:
        dot, card = ends[trip.instrument.send]
        yield f"M{BAR_LEFT} {dot.y}H{card.x + 24}"


def _homes(trip: Trip | None, ends: dict) -> Iterable[str]:
    """From each return of the trip to the host's barline."""
    for uid in trip.instrument.returns if trip else ():
        if uid in ends:
            dot, card = ends[uid]
            yield f"M{card.x + card.w} {dot.y}H{BAR_RIGHT - 2}"


def _shorten(text: str, length: int) -> str:
    return text if len(text) <= length else text[: length - 1].rstrip() + "…"


def column_counts(rig: Rig) -> dict[str, int]:
    """How many boxes stand in each column, the host not counted."""
    counts = {"hands": 0, "interface": 0, "boxes": 0}
    for box in rig.boxes:
        column = column_of(box.shape)
        if column in counts:
            counts[column] += 1
    return counts


def still_free(rig: Rig) -> dict[str, list[str]]:
    """Names of the sockets without a cable: the host's sends and returns, and the boxes' own."""
    free: dict[str, list[str]] = {"Sends": [], "Returns": [], "Boxes": []}
    for box, socket in rig.each_socket():
        if rig.cable_at(socket.uid) or socket.kind == "usb" or box.shape not in SHAPES:
            continue
        if not is_interface(box.shape):
            free["Boxes"].append(f"{box.name} {socket.name}")
        else:
            free["Sends" if socket.direction == "out" else "Returns"].append(socket.name)
    return {title: runs(names) for title, names in free.items()}
