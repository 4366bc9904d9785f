"""May a cable join these two sockets?

Checked once, here: direction, kind, one cable a socket, no MIDI in a circle.
"""

from hypotaxis.core.errors import DoesNotFit, FeedbackLoop, SocketTaken
from hypotaxis.core.rig.values import Box, Cable, Rig, Socket

KIND_WORDS = {"midi": "MIDI", "audio": "audio", "usb": "USB"}


def order_ends(rig: Rig, one_uid: str, other_uid: str) -> tuple[str, str]:
    """The two socket uids as (source, target), whichever was named first.

    Raises DoesNotFit when they cannot be told apart into an out and an in of one kind, SocketTaken when one has
    its cable already, FeedbackLoop when MIDI would run in a circle.
    """
    source, target = _directed(rig, one_uid, other_uid)
    for uid in (source, target):
        cable = rig.cable_at(uid)
        if cable is not None:
            other = cable.target if uid == cable.source else cable.source
            raise SocketTaken(
                f"{rig.socket_text(uid)} already has a cable, to {rig.socket_text(other)}. "
                "A socket takes one cable: remove that one first, or choose a free socket."
            )
    loop = _midi_circle(rig, source, target)
    if loop:
        raise FeedbackLoop(
            f"This cable would send MIDI round in a circle: {' → '.join(loop)}. "
            "Notes would multiply into a roar. Choose another input."
        )
    return source, target


def fits(rig: Rig, one_uid: str, other_uid: str) -> bool:
    """Whether `order_ends` would accept the two sockets."""
    try:
        order_ends(rig, one_uid, other_uid)
    except DoesNotFit:
        return False
    return True


def pair_of(rig: Rig, source: str, target: str) -> tuple[str, str] | None:
    """The other sides of two stereo pairs as (source, target), left to left and right to right; None where one end has
    no other side, the sides differ, or a cable could not join them."""
    partners = []
    for uid in (source, target):
        found = rig.find(uid)
        partner = found[0].socket(found[1].stereo) if found and found[1].stereo else None
        if partner is None:
            return None
        partners.append((found[1].is_left, partner.uid))
    (out_left, out), (into_left, into) = partners
    return (out, into) if out_left == into_left and fits(rig, out, into) else None


def _directed(rig: Rig, one_uid: str, other_uid: str) -> tuple[str, str]:
    one, other = rig.find(one_uid), rig.find(other_uid)
    if one is None or other is None:
        raise DoesNotFit("One of the two sockets is gone. Choose both ends again.")
    (one_box, one_socket), (other_box, other_socket) = one, other
    if one_uid == other_uid:
        raise DoesNotFit("A cable needs two ends. Choose a second socket.")
    if one_socket.kind != other_socket.kind:
        raise DoesNotFit(
            f"{rig.socket_text(one_uid)} is {KIND_WORDS[one_socket.kind]} and {rig.socket_text(other_uid)} is "
            f"{KIND_WORDS[other_socket.kind]}. A cable joins two sockets of one kind."
        )
    if one_socket.kind == "usb":
        return _usb_ends(rig, (one_box, one_socket), (other_box, other_socket))
    if one_socket.direction == other_socket.direction:
        both = "outputs" if one_socket.direction == "out" else "inputs"
        raise DoesNotFit(
            f"{rig.socket_text(one_uid)} and {rig.socket_text(other_uid)} are both {both}. "
            "A cable goes from an output to an input."
        )
    if one_socket.direction == "out":
        return one_uid, other_uid
    return other_uid, one_uid


def _usb_ends(rig: Rig, one: tuple[Box, Socket], other: tuple[Box, Socket]) -> tuple[str, str]:
    hosts = [end for end in (one, other) if end[0].shape == "host"]
    if len(hosts) != 1:
        raise DoesNotFit("A USB cable goes from a box to the computer.")
    unit = other if hosts[0] is one else one
    return unit[1].uid, hosts[0][1].uid


def _midi_circle(rig: Rig, source: str, target: str) -> list[str]:
    """Names of the boxes round which MIDI would run if the cable were added; empty when it would not."""
    end = rig.find(source)
    here = rig.find(target)
    names: list[str] = []
    while here is not None and here[1].kind == "midi":
        box, socket = here
        names.append(box.name)
        onward = [out for out in box.sockets if out.thru_of == socket.label and out.direction == "out"]
        if end is not None and any(out.uid == end[1].uid for out in onward):
            return [*names, names[0]]
        cable: Cable | None = next(filter(None, (rig.cable_at(out.uid) for out in onward)), None)
        here = rig.find(cable.target) if cable else None
    return []
