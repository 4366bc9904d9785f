"""The out-and-back sheet: where do boxes, sockets and cables stand?

Four columns from left to right: Hands, Goes out, Boxes, Comes back; the host is a barline at both edges. An
interface appears twice, its sending and its receiving side; so does a box whose ports the computer reaches by USB or
network. Coordinates are pixels of a sheet 1024 wide; every position follows from the rig alone.
"""

from collections.abc import Iterable
from dataclasses import dataclass, replace

from hypotaxis.core.drawing.lanes import Span, lanes
from hypotaxis.core.drawing.layout import arranged, beside, hangs_on
from hypotaxis.core.drawing.paths import rounded
from hypotaxis.core.drawing.words import short
from hypotaxis.core.findings.finding import WRONG, Finding
from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.links import upstream
from hypotaxis.core.rig.loops import loop_trip
from hypotaxis.core.rig.ports import host_direction, is_port
from hypotaxis.core.rig.shapes import SHAPES, column_of, is_interface
from hypotaxis.core.rig.trips import Trip, heard_from, runs, trip_of
from hypotaxis.core.rig.values import LINKS, Box, Cable, Rig, Socket

WIDTH = 1024
TOP = 20
HEADER = 32
PITCH = 28
GAP = 22
SLEEVE = 17
"""From a cable's end to the middle of its sleeve."""
HANDS_X, HANDS_W = 24, 116
OUT_X, OUT_W = 186, 158
BOX_X, BOX_W = 440, 213
FEEDER_W, NARROW_X, NARROW_W = 145, 618, 91
INDENT, DEEPEST = 28, 2
BACK_X, BACK_W = 818, 164
BAR_LEFT, BAR_RIGHT = 160, 1004
COMPACT_TOP = 4
LETTER = 6.6
"""Width of a letter of a socket's label, about."""
MAX_TITLE = 24
ROW_LETTERS = 23
"""Letters that go side by side in a row of the host's cards: a label and a tag."""
LEAST_RUN = 3
"""Free sockets of an interface in a row that are drawn together."""

USED, IDLE, FREE, LOOSE = "used", "idle", "free", "loose"


@dataclass(frozen=True, kw_only=True)
class SocketDrawing:
    """A socket: its dot at (x, y), its label beside it."""

    uid: str
    label: str
    x: float
    y: float
    side: str
    """Edge of the card (left, right, bottom)."""
    ink: str
    """Out, back or text."""
    state: str
    strong: bool
    tag: str
    spoken: str
    hit_x: float
    hit_w: float
    cable: str = ""
    """Uid of what is plugged in."""
    run: int = 1
    """How many free sockets in a row it stands for."""


@dataclass(frozen=True, kw_only=True)
class BoxDrawing:
    """A card."""

    uid: str
    role: str
    """Its column: "hands", "sends", "boxes" or "receives"."""
    title: str
    full_title: str
    note: str
    colour: str
    icon: str
    picture: str
    x: float
    y: float
    w: float
    h: float
    strong: bool
    compact: bool
    """Its name stands between its sockets instead of above them."""
    sockets: tuple[SocketDrawing, ...]


@dataclass(frozen=True, kw_only=True)
class CableDrawing:
    """A cable."""

    uid: str
    path: str
    kind: str
    """Midi, audio, send (audio out to an effect), cv, usb or network."""
    ink: str
    strong: bool
    spoken: str
    colour: str = ""
    """The owner's, as a word; drawn as a sleeve at both ends."""
    sleeves: tuple[tuple[float, float], ...] = ()
    """Where the sleeves' middles stand."""


@dataclass(frozen=True, kw_only=True)
class SheetDrawing:
    """The whole picture."""

    width: int
    height: int
    boxes: tuple[BoxDrawing, ...]
    cables: tuple[CableDrawing, ...]
    leads: tuple[str, ...]
    homes: tuple[str, ...]
    faded: bool
    """Something is selected, so the rest is drawn back."""

    @property
    def bar_height(self) -> int:
        """Length of the barlines."""
        return self.height - TOP - 24


@dataclass(frozen=True)
class _Selection:
    sockets: frozenset[str]
    cables: frozenset[str]


@dataclass(frozen=True)
class _Look:
    """What the cards are drawn from, worked out once."""

    rig: Rig
    selection: _Selection
    used: frozenset[str]
    loose: frozenset[str]
    tags: dict[str, str]
    opened: frozenset[str]


def draw_sheet(
    plan: Plan,
    findings: Iterable[Finding] = (),
    *,
    trip: Trip | None = None,
    socket: str = "",
    marked: frozenset[str] = frozenset(),
    fitting: frozenset[str] = frozenset(),
) -> SheetDrawing:
    """The sheet of a plan. trip: drawn strong; socket: the picked one, with what hangs on it, when there is no trip;
    marked: uids of boxes, sockets and cables to draw strong instead, when neither is given; fitting: sockets that are
    to be chosen from, so none of them is drawn together with others."""
    rig = plan.rig
    look = _Look(
        rig=rig,
        selection=_selection(rig, trip, socket, marked),
        used=_used(plan),
        loose=frozenset(f.socket for f in findings if f.severity == WRONG and f.socket and _is_loose(rig, f)),
        tags=_tags(plan),
        opened=fitting | marked | {socket},
    )
    cards = _cards(look)
    height = max(520, int(max((card.y + card.h for card in cards), default=0) + GAP) + 26)
    ends = {item.uid: (item, card) for card in cards for item in card.sockets}
    return SheetDrawing(
        width=WIDTH,
        height=height,
        boxes=tuple(cards),
        cables=tuple(_cables(rig, cards, ends, look.selection)),
        leads=tuple(_leads(trip, ends)),
        homes=tuple(_homes(trip, ends)),
        faded=bool(look.selection.sockets or look.selection.cables),
    )


def _is_loose(rig: Rig, finding: Finding) -> bool:
    """Whether something is expected at the finding's socket and no cable is there."""
    return rig.cable_at(finding.socket) is None


def _used(plan: Plan) -> frozenset[str]:
    """Sockets that a definition rests on: those of trips, of clock, and of what only listens."""
    rig = plan.rig
    used = {uid for instrument in plan.instruments for uid in trip_of(rig, instrument).sockets}
    used |= {uid for loop in plan.loops for uid in loop_trip(rig, loop).sockets}
    for box, socket in rig.each_socket():
        if socket.clock:
            used |= {end for r in heard_from(rig, socket.uid) for hop in r.hops for end in (hop.source, hop.target)}
        played = socket.duty.startswith(("played from", "clock from", "surface"))
        outside = column_of(box.shape) == "outside" and rig.cable_at(socket.uid)
        if played or outside or socket.kind in LINKS:
            cable = rig.cable_at(socket.uid)
            used |= {socket.uid} | ({cable.source, cable.target} if cable else set())
    return frozenset(used)


def _selection(rig: Rig, trip: Trip | None, socket: str, marked: frozenset[str]) -> _Selection:
    if trip is not None:
        link = _link_of(rig, trip.instrument.send)
        return _Selection(trip.sockets, trip.cables | ({link.uid} if link else set()))
    if not socket:
        return _Selection(marked, marked)
    cables = {hop.cable.uid for reached in heard_from(rig, socket) for hop in reached.hops}
    here = rig.cable_at(socket)
    if here:
        cables.add(here.uid)
    ends = {end for cable in rig.cables if cable.uid in cables for end in (cable.source, cable.target)}
    return _Selection(frozenset(ends | {socket}), frozenset(cables))


def _link_of(rig: Rig, uid: str) -> Cable | None:
    """The USB or network cable that carries this port."""
    found = rig.find(uid)
    link = found[0].socket(found[1].carried_by) if found and found[1].carried_by else None
    return rig.cable_at(link.uid) if link else None


# --- cards ---------------------------------------------------------------------------------------


def _cards(look: _Look) -> list[BoxDrawing]:
    rig = look.rig
    depth, next_to = _depth(rig), beside(rig)
    feeders = set(next_to.values())
    heights = {"hands": TOP, "sends": TOP, "boxes": TOP, "receives": TOP}
    cards: list[BoxDrawing] = []
    placed: dict[str, BoxDrawing] = {}
    columns = arranged(rig)
    for box in (box for column in ("hands", "interface", "boxes") for box in columns.get(column, ())):
        for role, chosen in _roles(rig, box):
            x, w = _place(role, box.uid in feeders, depth.get(box.uid, 0))
            y = heights[role]
            narrow = role == "boxes" and box.uid in next_to
            if narrow:
                x, w, y = NARROW_X, NARROW_W, placed[next_to[box.uid]].y
            drawn = _card(look, box, role, chosen, x, y, w)
            if not narrow:
                heights[role] = drawn.y + drawn.h + GAP
            placed.setdefault(box.uid, drawn) if role == "boxes" else None
            cards.append(drawn)
    return cards


def _place(role: str, is_feeder: bool, depth: int) -> tuple[float, float]:
    if role == "boxes":
        return BOX_X + INDENT * min(depth, DEEPEST), FEEDER_W if is_feeder else BOX_W
    return {"hands": (HANDS_X, HANDS_W), "sends": (OUT_X, OUT_W), "receives": (BACK_X, BACK_W)}[role]


def _depth(rig: Rig) -> dict[str, int]:
    """How many boxes a box hangs below."""
    on = hangs_on(rig)
    depth: dict[str, int] = {}
    for uid in on:
        steps, here = 0, uid
        while here in on:
            here = on[here]
            steps += 1
        depth[uid] = steps
    return depth


def _roles(rig: Rig, box: Box) -> list[tuple[str, list[Socket]]]:
    """How often a box stands on the sheet, and with which sockets."""
    plain = [socket for socket in box.sockets if socket.kind not in LINKS and not socket.carried_by]
    if is_interface(box.shape):
        played = [socket for socket in plain if _fed_by_hands(rig, socket)]
        outward = [socket for socket in plain if socket.direction == "out"]
        inward = [socket for socket in plain if socket.direction == "in" and socket not in played]
        return [("sends", [*outward, *played]), ("receives", inward)]
    if column_of(box.shape) == "hands":
        return [("hands", plain)]
    carried = (socket for socket in box.sockets if socket.carried_by and is_port(rig, box, socket))
    ports = [socket for socket in carried if socket.duty not in ("spare", "editor")]
    sends = [socket for socket in ports if host_direction(box, socket) == "out"]
    receives = [socket for socket in ports if host_direction(box, socket) == "in"]
    sides = [("sends", sends)] * bool(sends) + [("receives", receives)] * bool(receives)
    return [*sides, ("boxes", [socket for socket in box.sockets if not socket.carried_by])]


def _fed_by_hands(rig: Rig, socket: Socket) -> bool:
    """Whether hands or a leading box play into this MIDI input: then it stands at the left barline."""
    if socket.kind != "midi" or socket.direction != "in":
        return False
    far = rig.far_end(socket.uid)
    return socket.duty.endswith("clock from") or (far is not None and column_of(far[0].shape) == "hands")


def _card(look: _Look, box: Box, role: str, chosen: list[Socket], x: float, y: float, w: float) -> BoxDrawing:
    rows = {"left": 0, "right": 0}
    hanging = 0
    compact = role == "boxes" and _is_compact(box, chosen, w)
    top = COMPACT_TOP if compact else HEADER
    drawn: list[SocketDrawing] = []
    for run in _runs_of(look, box, role, chosen):
        item = run[0]
        side = _side(box, role, item)
        at_x = {"right": x + w, "left": x, "bottom": x + INDENT / 2 + 56 * hanging}[side]
        row = rows["left"] if side != "right" else rows["right"]
        if side == "bottom":
            hanging += 1
        else:
            rows[side] += 1
        drawn.append(_socket(look, box, role, run, (at_x, y + top + row * PITCH + PITCH / 2, side), (x, w)))
    # The last row of the left side is for what hangs below it.
    rows["left"] += hanging > 0
    if role == "sends":
        # What hands play in stands below what goes out.
        shift = rows["right"] * PITCH
        drawn = [replace(item, y=item.y + shift) if item.side == "left" else item for item in drawn]
        rows = {"left": rows["left"] + rows["right"], "right": 0}
    many = max(2 if compact else 0, *rows.values())
    height = top + many * PITCH + (COMPACT_TOP if compact else 6 if many else 14)
    if compact and max(rows.values()) == 1:
        drawn = [replace(item, y=item.y + PITCH / 2) for item in drawn]
    # A thru hangs on the lower edge, from where the chain steps down.
    drawn = [replace(item, y=y + height) if item.side == "bottom" else item for item in drawn]
    own = role == "boxes" or is_interface(box.shape) or role == "hands"
    note = {"sends": "sends", "receives": "receives"}.get(role, box.note) if own else "by USB or network"
    shape = SHAPES.get(box.shape)
    return BoxDrawing(
        uid=box.uid,
        role=role,
        title=short(
            box.name, (MAX_TITLE if w > NARROW_W else 11) if role == "boxes" else 13 if role == "hands" else 17
        ),
        full_title=box.name,
        note=note,
        colour=box.colour,
        icon=box.icon or (shape.icon if shape else ""),
        picture=box.picture,
        x=x,
        y=y,
        w=w,
        h=height,
        strong=box.uid in look.selection.sockets or any(item.strong for item in drawn),
        compact=compact,
        sockets=tuple(drawn),
    )


def _is_compact(box: Box, chosen: list[Socket], w: float) -> bool:
    """Whether name and note go between the labels: short ones only, and nothing to show beside the name."""
    if w <= NARROW_W or box.picture or box.icon or not chosen:
        return False
    labels: dict[str, int] = {"left": 0, "right": 0, "bottom": 0}
    for socket in chosen:
        side = _side(box, "boxes", socket)
        labels[side] = max(labels[side], len(_label(socket)))
    room = w - 34 - LETTER * (max(labels["left"], labels["bottom"]) + labels["right"])
    return max(7.4 * len(box.name), 5.6 * len(box.note)) <= room


def _runs_of(look: _Look, box: Box, role: str, chosen: list[Socket]) -> list[list[Socket]]:
    """The rows of a card: free sockets of an interface that follow each other stand in one."""
    rows: list[list[Socket]] = []
    for socket in chosen:
        last = rows[-1] if rows else []
        if last and role in ("sends", "receives") and _goes_with(look, last[-1], socket):
            last.append(socket)
        else:
            rows.append([socket])
    return [row for run in rows for row in ([run] if len(run) >= LEAST_RUN else [[one] for one in run])]


def _goes_with(look: _Look, one: Socket, other: Socket) -> bool:
    for uid in (one.uid, other.uid):
        if look.rig.cable_at(uid) or uid in look.opened or uid in look.loose or uid in look.tags:
            return False
    return len(runs([_label(one), _label(other)])) == 1


def _label(socket: Socket) -> str:
    """What stands beside a socket on its own card: the printed label where the owner's name only repeats it."""
    return socket.label if socket.port_name.endswith(socket.label) else socket.name


def _socket(
    look: _Look, box: Box, role: str, run: list[Socket], at: tuple[float, float, str], card: tuple[float, float]
) -> SocketDrawing:
    (x, y, side), (card_x, w) = at, card
    item = run[0]
    cable = look.rig.cable_at(item.uid)
    link = _link_of(look.rig, item.uid) if item.carried_by else None
    state = _state(look, item, cable or link)
    label = runs([_label(socket) for socket in run])[0]
    tag = "no cable" if state == LOOSE and item.direction == "in" else look.tags.get(item.uid, "")
    return SocketDrawing(
        uid=item.uid,
        label=label,
        x=x,
        y=y,
        side=side,
        ink=_ink(look.rig, box, role, item),
        state=state,
        strong=item.uid in look.selection.sockets,
        tag=short(tag, max(5, ROW_LETTERS - len(label))),
        spoken=_spoken(look.rig, box, item) if len(run) == 1 else f"{box.name} {label}, all free",
        hit_x=(x - w / 2 + 8) if side == "right" else (card_x - 8 if side == "left" else x - 8),
        hit_w=w / 2 if side != "bottom" else 56,
        cable=cable.uid if cable else "",
        run=len(run),
    )


def _side(box: Box, role: str, socket: Socket) -> str:
    if role == "hands":
        return "right"
    if role == "sends":
        return "left" if host_direction(box, socket) == "in" and socket.kind == "midi" else "right"
    if role == "receives":
        return "left"
    if socket.thru_of or (socket.kind == "cv" and socket.direction == "out"):
        return "bottom"
    return "right" if socket.direction == "out" else "left"


def _ink(rig: Rig, box: Box, role: str, socket: Socket) -> str:
    if role == "hands" or socket.kind in (*LINKS, "cv"):
        return "text"
    if role == "sends":
        return "text" if _side(box, role, socket) == "left" else "out"
    if role == "receives":
        return "back"
    if socket.kind == "midi":
        return "out"
    far = rig.far_end(socket.uid)
    homeward = far is not None and not is_interface(far[0].shape)
    return "back" if socket.direction == "out" or homeward else "out"


def _state(look: _Look, socket: Socket, cable: Cable | None) -> str:
    if socket.uid in look.loose:
        return LOOSE
    if cable is None:
        return FREE
    return USED if socket.uid in look.used else IDLE


def _spoken(rig: Rig, box: Box, socket: Socket) -> str:
    name = f"{box.name} {socket.name}"
    if socket.carried_by:
        return f"{name}, by {socket.carried_by}"
    cable = rig.cable_at(socket.uid)
    if cable is None:
        return f"{name}, free"
    other = cable.target if cable.source == socket.uid else cable.source
    return f"{name}, cabled to {rig.socket_text(other)}"


def _tags(plan: Plan) -> dict[str, str]:
    """What stands beside a socket of the host: whose sound is expected there, or what listens to it outside."""
    rig = plan.rig
    tags: dict[str, str] = {}
    for one in (*plan.instruments, *plan.loops):
        box = rig.box(one.box)
        sides = ("L", "R") if len(one.returns) == 2 else ("",)
        for uid, side in zip(one.returns, sides, strict=False):
            tags.setdefault(uid, short(f"{box.name if box else one.name} {side}".strip(), 15))
    for box in rig.boxes:
        if column_of(box.shape) == "outside":
            for socket in box.sockets:
                far = rig.far_end(socket.uid)
                if far:
                    tags[far[1].uid] = short(f"{box.name} {socket.label}", 13)
    return tags


# --- cables --------------------------------------------------------------------------------------


def _cables(rig: Rig, cards: list[BoxDrawing], ends: dict, selection: _Selection) -> Iterable[CableDrawing]:
    drawn = [c for c in rig.cables if c.source in ends and c.target in ends]
    gaps = _lane_of(drawn, ends)
    for cable in rig.cables:
        source, target = rig.find(cable.source), rig.find(cable.target)
        if source is None or target is None:
            continue
        noted = "".join(f", {word}" for word in (cable.colour, cable.label) if word)
        spoken = f"Cable from {rig.socket_text(cable.source)} to {rig.socket_text(cable.target)}{noted}"
        strong = cable.uid in selection.cables
        kind = source[1].kind
        if kind in LINKS:
            leads = upstream(rig, cable.source)
            at_host = leads is not None and leads.box.shape != "host"
            paths = _device_paths(cards, ends, cable, source[0]) if at_host else _link_paths(cards, source[0])
            for path in paths:
                yield CableDrawing(uid=cable.uid, path=path, kind=kind, ink="text", strong=strong, spoken=spoken)
        elif cable.source in ends and cable.target in ends:
            from_host = is_interface(source[0].shape)
            points = _points(ends[cable.source], ends[cable.target], gaps.get(cable.uid))
            yield CableDrawing(
                uid=cable.uid,
                path=rounded(points),
                colour=cable.colour,
                sleeves=(_along(points[0], points[1]), _along(points[-1], points[-2])) if cable.colour else (),
                kind="send" if kind == "audio" and from_host else kind,
                ink=_cable_ink(source, target, from_host),
                strong=strong,
                spoken=spoken,
            )


def _along(end: tuple[float, float], onward: tuple[float, float]) -> tuple[float, float]:
    """A point SLEEVE from an end of a cable, on its first straight."""
    (x, y), (to_x, to_y) = end, onward
    if abs(to_x - x) >= abs(to_y - y):
        return x + (SLEEVE if to_x > x else -SLEEVE), y
    return x, y + (SLEEVE if to_y > y else -SLEEVE)


def _cable_ink(source: tuple[Box, Socket], target: tuple[Box, Socket], from_host: bool) -> str:
    if source[1].kind == "cv" or column_of(source[0].shape) == "hands":
        return "text"
    homeward = source[1].kind == "audio" or is_interface(target[0].shape)
    return "back" if homeward and not from_host else "out"


def _lane_of(cables: list[Cable], ends: dict) -> dict[str, float]:
    """The upright lane of each cable between two columns."""
    outward, homeward = [], []
    for cable in cables:
        (start, one), (end, other) = ends[cable.source], ends[cable.target]
        span = Span(cable.uid, start.y, end.y)
        if one.role == "sends" and other.role == "boxes":
            outward.append(span)
        elif one.role == "boxes" and other.role == "receives" and start.side == "right":
            homeward.append(span)
    return lanes(outward, OUT_X + OUT_W, BOX_X) | lanes(homeward, BOX_X + BOX_W + INDENT * DEEPEST, BACK_X)


def _points(source: tuple, target: tuple, lane: float | None) -> list[tuple[float, float]]:
    (start, one), (end, other) = source, target
    gutter = BOX_X - 10
    if start.side == "bottom":
        if end.x > start.x and _next_below(one, other):
            return [(start.x, start.y), (start.x, end.y), (end.x, end.y)]
        under = start.y + GAP / 2
        return [(start.x, start.y), (start.x, under), (gutter, under), (gutter, end.y), (end.x, end.y)]
    if lane is not None:
        return [(start.x, start.y), (lane, start.y), (lane, end.y), (end.x, end.y)]
    if one.role == "hands" and other.role == "sends":
        return [(start.x, start.y), (174, start.y), (174, end.y), (end.x, end.y)]
    if one.role == other.role and end.x > start.x:
        middle = (start.x + end.x) / 2
        return [(start.x, start.y), (middle, start.y), (middle, end.y), (end.x, end.y)]
    # From one box into another of its column, over the top of the second.
    over, side = other.y - GAP / 2, max(start.x, BOX_X + BOX_W + INDENT * DEEPEST) + 6
    into = end.x - 12 if end.side == "left" else end.x + 12
    return [(start.x, start.y), (side, start.y), (side, over), (into, over), (into, end.y), (end.x, end.y)]


def _next_below(card: BoxDrawing, other: BoxDrawing) -> bool:
    return abs(other.y - (card.y + card.h + GAP)) < 1


def _link_paths(cards: list[BoxDrawing], box: Box) -> Iterable[str]:
    """A box's USB or network cable: from its card to the barline, on both sides where it stands on both; from there to
    the box itself where it stands among the boxes."""
    mine = [card for card in cards if card.uid == box.uid]
    body = next((card for card in mine if card.role == "boxes"), None)
    for card in mine:
        y = card.y + HEADER / 2
        if card.role == "hands":
            yield f"M{card.x + card.w} {y}H{BAR_LEFT}"
        elif card.role == "sends":
            yield f"M{BAR_LEFT} {y}H{card.x}"
        elif card.role == "receives":
            yield f"M{card.x + card.w} {y}H{BAR_RIGHT}"
    if body is None:
        return
    other = next((card for card in mine if card is not body), None)
    at = next((item for item in body.sockets if item.ink == "text" and item.side == "left"), None)
    y = at.y if at else body.y + HEADER / 2
    if other is None:
        yield f"M{body.x} {y}h-16"
    elif other.role == "sends":
        start_y, lane = other.y + HEADER / 2, BOX_X - 22
        yield rounded([(other.x + other.w, start_y), (lane, start_y), (lane, y), (body.x, y)])
    else:
        end_y, lane = other.y + HEADER / 2, BACK_X - 10
        yield rounded([(body.x + body.w, body.y + 16), (lane, body.y + 16), (lane, end_y), (other.x, end_y)])


def _device_paths(cards: list[BoxDrawing], ends: dict, cable: Cable, device: Box) -> Iterable[str]:
    """A device's cable to a USB host: down the gutter to it where it hangs below, otherwise a stub at the device."""
    start, end = ends.get(cable.target), ends.get(cable.source)
    if start and end and start[1].role == end[1].role == "boxes":
        (host, card), (dot, _) = start, end
        lane = card.x - 8 - 5 * (sum(item.y < host.y for item in card.sockets) % 4)
        yield rounded([(host.x, host.y), (lane, host.y), (lane, dot.y), (dot.x, dot.y)])
        return
    for card in (one for one in cards if one.uid == device.uid):
        yield f"M{card.x + card.w} {card.y + HEADER / 2}h14" if card.role == "hands" else f"M{card.x} {card.y + 16}h-14"


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
        if (
            rig.cable_at(socket.uid)
            or socket.kind in LINKS
            or not socket.pluggable
            or column_of(box.shape) == "outside"
        ):
            continue
        if not is_interface(box.shape):
            free["Boxes"].append(f"{box.name} {socket.name}")
        else:
            free["Sends" if socket.direction == "out" else "Returns"].append(rig.socket_text(socket.uid))
    return {title: runs(names) for title, names in free.items()}
