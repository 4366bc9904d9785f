"""Where does a USB or network link lead: up to the computer or a USB host, and down to the devices plugged in there?

Cables of links run from the device to what takes it. A box other than the computer that takes devices is a USB host:
its routes go to and from the socket that takes them, and what the devices send and hear does not reach the computer by
itself.
"""

from collections.abc import Iterator
from dataclasses import dataclass

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.rig.values import LINKS, Box, Cable, Rig, Socket


@dataclass(frozen=True)
class Upstream:
    """What takes a link in the end: the computer or a USB host, its socket, and how many hubs stand between."""

    box: Box
    socket: Socket
    hubs: int


def takes_devices(box: Box, socket: Socket) -> bool:
    """Whether USB devices are plugged in here: a socket of the computer, of a hub, or of a USB host."""
    return socket.connector == "usb-a" or box.shape == "host"


def is_usb_host(box: Box, socket: Socket) -> bool:
    """Whether this socket takes devices for the box itself: not for the computer, nor as a hub of it."""
    return socket.kind == "usb" and socket.connector == "usb-a" and box.shape not in ("host", "usb-hub")


@kept_with_it
def upstream(rig: Rig, link: str) -> Upstream | None:
    """What takes the link of a device (uid of its USB or network socket) in the end; None where it leads nowhere."""
    hubs, seen = 0, set()
    while link not in seen:
        seen.add(link)
        end = rig.far_end(link)
        if end is None:
            return None
        box, socket = end
        if box.shape == "host" or is_usb_host(box, socket):
            return Upstream(box, socket, hubs)
        upward = _upward(box)
        if box.shape != "usb-hub" or upward is None:
            return None
        hubs += 1
        link = upward.uid
    return None


def _upward(box: Box) -> Socket | None:
    return next((one for one in box.sockets if one.kind in LINKS and not takes_devices(box, one)), None)


def devices_on(rig: Rig, uid: str) -> Iterator[tuple[Box, Socket]]:
    """The devices plugged in at a socket that takes them, each with its own link; through hubs, too."""
    open_ends, seen = [uid], set()
    while open_ends:
        here = open_ends.pop(0)
        end = rig.far_end(here)
        if end is None or here in seen:
            continue
        seen.add(here)
        if end[0].shape == "usb-hub":
            open_ends += [one.uid for one in end[0].sockets if takes_devices(end[0], one)]
        else:
            yield end


def host_of(rig: Rig, box: Box, end: Socket) -> Upstream | None:
    """The USB host that an end inside a link is plugged into; None where that is the computer, or nothing."""
    link = box.socket(end.carried_by) if end.carried_by else None
    goal = upstream(rig, link.uid) if link else None
    return goal if goal and goal.box.shape != "host" else None


def entered(rig: Rig, leaves: str) -> list[tuple[Cable, str]]:
    """The sockets that what leaves by this one enters, each with the cable: the far end of a plain cable, the ends of
    devices behind a USB host's socket, or the USB host's socket for what a device there sends."""
    found = rig.find(leaves)
    if found is None:
        return []
    box, socket = found
    if socket.carried_by:
        goal = host_of(rig, box, socket) if socket.direction == "out" else None
        return [(rig.cable_at(box.socket(socket.carried_by).uid), goal.socket.uid)] if goal else []
    if is_usb_host(box, socket):
        return [
            (rig.cable_at(link.uid), end.uid)
            for device, link in devices_on(rig, leaves)
            for end in device.sockets
            if end.carried_by == link.label and end.kind == "midi" and end.direction == "in"
        ]
    cable = rig.cable_at(leaves)
    return [(cable, cable.target)] if cable and cable.source == leaves else []
