"""Inside a box: what goes from which of its inputs to which of its outputs, as a matrix and as lines."""

from dataclasses import dataclass

from hypotaxis.core.drawing.paths import number
from hypotaxis.core.rig.links import devices_on, is_usb_host
from hypotaxis.core.rig.plug import routable
from hypotaxis.core.rig.values import LINKS, Box, Rig, Route, Socket

PITCH = 28
LEFT, RIGHT, WIDTH = 118, 262, 380
TOP = 16


@dataclass(frozen=True)
class End:
    """A socket at one side of the lines; far: what is plugged in there."""

    socket: Socket
    y: float
    far: str


@dataclass(frozen=True)
class Line:
    """A route or a hardware thru (route None) as a line."""

    path: str
    route: Route | None
    chosen: bool
    told: str


@dataclass(frozen=True)
class Cell:
    """One crossing of the matrix."""

    source: Socket
    target: Socket
    route: Route | None
    thru: bool
    """The hardware joins them."""
    possible: bool
    """Whether a route can lie here."""
    told: str


@dataclass(frozen=True)
class InsideDrawing:
    """Inside drawing."""

    ins: tuple[End, ...]
    outs: tuple[End, ...]
    lines: tuple[Line, ...]
    rows: tuple[tuple[Socket, tuple[Cell, ...]], ...]
    """For each input its cells, in the order of `outs`."""
    height: float
    width: float = WIDTH


def draw_inside(rig: Rig, box: Box, chosen: str = "") -> InsideDrawing:
    """The routes of a box. chosen: uid of the route drawn strong."""
    ins = _ends(rig, box, "in")
    outs = _ends(rig, box, "out")
    places = {end.socket.uid: end.y for end in ins + outs}
    by_ends = {(route.source, route.target): route for route in box.routes}
    lines = [
        Line(_curve(places[route.source], places[route.target]), route, route.uid == chosen, told(box, route))
        for route in box.routes
        if route.source in places and route.target in places
    ]
    labelled = {socket.label: socket for socket in box.sockets}
    for end in outs:
        source = labelled.get(end.socket.thru_of)
        if source and source.uid in places:
            words = f"{source.label} to {end.socket.label}: thru in hardware"
            lines.append(Line(_curve(places[source.uid], end.y), None, False, words))
    rows = tuple((one.socket, tuple(_cell(box, one.socket, other.socket, by_ends) for other in outs)) for one in ins)
    return InsideDrawing(ins, outs, tuple(lines), rows, TOP + PITCH * max(len(ins), len(outs), 1))


def told(box: Box, route: Route) -> str:
    """A route in words."""
    one, other = box.at(route.source), box.at(route.target)
    words = f"{one.label} to {other.label}"
    if other.kind == "audio":
        return words + (f", {route.gain_db:+g} dB" if route.gain_db else "")
    if route.channels:
        words += f", channels {', '.join(map(str, route.channels))} only"
    if route.remap:
        words += f", {', '.join(f'{a} as {b}' for a, b in route.remap)}"
    return words + ("" if route.clock else ", no clock")


def _ends(rig: Rig, box: Box, direction: str) -> tuple[End, ...]:
    mine = [
        socket
        for socket in box.sockets
        if (socket.direction == direction and socket.kind not in LINKS) or is_usb_host(box, socket)
    ]
    return tuple(End(socket, TOP + PITCH * row + PITCH / 2, _far(rig, box, socket)) for row, socket in enumerate(mine))


def _far(rig: Rig, box: Box, socket: Socket) -> str:
    """What is plugged in at a socket, in words."""
    if socket.carried_by:
        return f"by {socket.carried_by}"
    if is_usb_host(box, socket):
        return ", ".join(device.name for device, _ in devices_on(rig, socket.uid)) or "free"
    far = rig.far_end(socket.uid)
    return rig.socket_text(far[1].uid) if far else "free"


def _curve(start_y: float, end_y: float) -> str:
    middle = (LEFT + RIGHT) / 2
    ends = f"{middle} {number(start_y)} {middle} {number(end_y)} {RIGHT} {number(end_y)}"
    return f"M{LEFT} {number(start_y)}C{ends}"


def _cell(box: Box, source: Socket, target: Socket, by_ends: dict[tuple[str, str], Route]) -> Cell:
    route = by_ends.get((source.uid, target.uid))
    thru = bool(target.thru_of) and target.thru_of == source.label
    possible = routable(source, target)
    words = told(box, route) if route else f"{source.label} to {target.label}: {'thru' if thru else 'not joined'}"
    return Cell(source, target, route, thru, possible, words)
