"""May a cable join these two sockets, and what does it take?

Checked once, here: direction, kind, one cable a socket, no MIDI in a circle. Where connectors differ the cable needs
an adapter, which is named; where kinds differ it takes a box between, which is named too.
"""

from dataclasses import replace

from hypotaxis.core.errors import DoesNotFit, FeedbackLoop, SocketTaken
from hypotaxis.core.rig.links import entered, is_usb_host, takes_devices
from hypotaxis.core.rig.values import CONNECTORS, LINKS, Box, Cable, Rig, Socket

KIND_WORDS = {"midi": "MIDI", "audio": "audio", "cv": "control voltage", "usb": "USB", "network": "network"}
CABLE_KINDS = {
    "": "what the sockets ask for",
    "din": "MIDI DIN",
    "usb": "USB",
    "usb-active": "USB, active",
    "network": "network",
    "balanced": "balanced",
    "unbalanced": "unbalanced",
    "trs-stereo": "TRS stereo",
    "cv": "CV or gate",
}
_CONVERTERS = {
    frozenset(("midi", "cv")): "a MIDI-to-CV converter",
    frozenset(("midi", "usb")): "a MIDI interface, or a USB host for MIDI devices",
    frozenset(("audio", "usb")): "an audio interface",
    frozenset(("midi", "network")): "a network MIDI end",
    frozenset(("audio", "cv")): "a level converter or an envelope follower",
}
_PASSES = {
    "midi": ("midi", "cv", "usb"),
    "usb": ("midi", "usb"),
    "audio": ("audio",),
    "cv": ("cv", "midi"),
}
# Connectors that a plain cable joins as they are, though they are not the same.
_PLAIN = {
    frozenset(("ts", "trs")),
    frozenset(("ts", "combo")),
    frozenset(("trs", "combo")),
    frozenset(("xlr", "combo")),
    frozenset(("mini-ts", "mini-trs")),
}


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
    loop = midi_circle(rig, source, target)
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


def routable(source: Socket, target: Socket) -> bool:
    """Whether a box can pass on what enters one of its sockets by another: MIDI to MIDI, to voltages or to the devices
    it takes and back, audio to audio; a thru repeats its own input only."""
    return source.uid != target.uid and target.kind in _PASSES.get(source.kind, ()) and not target.thru_of


def fitting(rig: Rig, uid: str) -> frozenset[str]:
    """Uids of every free socket that a cable from this one could join."""
    here = rig.find(uid)
    if here is None or rig.cable_at(uid):
        return frozenset()
    kind = here[1].kind
    free = (s.uid for _, s in rig.each_socket() if s.kind == kind and s.uid != uid and not rig.cable_at(s.uid))
    return frozenset(other for other in free if fits(rig, uid, other))


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


def run_of(rig: Rig, source: str, target: str, count: int) -> list[tuple[str, str]]:
    """`count` cables side by side from these two sockets on, as (source, target): the sockets of the same kind and
    direction that follow on each box. It ends early where either box has no more, or one has its cable already."""
    rows = []
    for uid in (source, target):
        box, first = rig.find(uid)
        alike = [s for s in box.sockets if s.kind == first.kind and s.direction == first.direction and s.pluggable]
        rows.append([socket.uid for socket in alike[alike.index(first) :]])
    found = []
    for one, other in list(zip(*rows, strict=False))[:count]:
        if not fits(rig, one, other):
            break
        found.append((one, other))
    return found


def adapter_between(one: Socket, other: Socket) -> str:
    """What sits between two sockets whose connectors do not meet by a plain cable; empty when nothing does."""
    ends = frozenset((one.connector, other.connector))
    if len(ends) == 1 or "" in ends or ends in _PLAIN or one.kind in LINKS:
        return ""
    return f"{CONNECTORS[one.connector]} to {CONNECTORS[other.connector]}"


def kind_of_cable(rig: Rig, cable: Cable) -> str:
    """How a cable is made, a key of CABLE_KINDS: as noted, otherwise what its sockets ask for."""
    if cable.kind:
        return cable.kind
    source, target = rig.find(cable.source), rig.find(cable.target)
    if source is None or target is None:
        return ""
    kind = source[1].kind
    if kind != "audio":
        return {"midi": "din"}.get(kind, kind)
    if source[1].both_sides and target[1].both_sides:
        return "trs-stereo"
    return "balanced" if source[1].balanced and target[1].balanced else "unbalanced"


def _directed(rig: Rig, one_uid: str, other_uid: str) -> tuple[str, str]:
    one, other = rig.find(one_uid), rig.find(other_uid)
    if one is None or other is None:
        raise DoesNotFit("One of the two sockets is gone. Choose both ends again.")
    (one_box, one_socket), (other_box, other_socket) = one, other
    if one_uid == other_uid:
        raise DoesNotFit("A cable needs two ends. Choose a second socket.")
    for uid, socket in ((one_uid, one_socket), (other_uid, other_socket)):
        if not socket.pluggable:
            raise DoesNotFit(
                f"{rig.socket_text(uid)} is an end inside {socket.carried_by}: no cable goes in. "
                f"Cable {socket.carried_by} itself."
            )
    if one_socket.kind != other_socket.kind:
        between = _CONVERTERS.get(frozenset((one_socket.kind, other_socket.kind)))
        raise DoesNotFit(
            f"{rig.socket_text(one_uid)} is {KIND_WORDS[one_socket.kind]} and {rig.socket_text(other_uid)} is "
            f"{KIND_WORDS[other_socket.kind]}. A cable joins two sockets of one kind"
            + (f"; between these stands {between}." if between else ".")
        )
    if one_socket.kind == "usb":
        return _usb_ends(rig, (one_box, one_socket), (other_box, other_socket))
    if one_socket.kind == "network":
        return (other_uid, one_uid) if one_box.shape == "host" else (one_uid, other_uid)
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
    if takes_devices(*one) == takes_devices(*other) or one[0].uid == other[0].uid:
        raise DoesNotFit(
            "A USB cable goes from a box to the computer, to a hub, or to a USB host: one end that takes devices, "
            "one device."
        )
    device, goal = (other, one) if takes_devices(*one) else (one, other)
    return device[1].uid, goal[1].uid


def midi_circle(rig: Rig, source: str, target: str) -> list[str]:
    """Names of the boxes round which MIDI would run for ever if this cable were added; empty when it would not. Routes
    hold back what they filter: a circle through which nothing comes round again and again is none."""
    end = rig.find(source)
    here = rig.find(target)
    if end is None or here is None:
        return []
    if is_usb_host(*here):
        return _circle_by_link(rig, source, target)
    return _circle(rig, source, target) if end[1].kind == "midi" else []


def _circle_by_link(rig: Rig, link: str, goal: str) -> list[str]:
    """The circle that a device's link to a USB host closes: what leaves for the device comes back to leave again."""
    if not any(goal in (route.source, route.target) for route in rig.find(goal)[0].routes):
        return []
    if rig.cable_at(link) is None:
        rig = replace(rig, cables=(*rig.cables, Cable(uid=link, source=link, target=goal)))
    circles = (_circle(rig, goal, end) for _, end in entered(rig, goal))
    return next(filter(None, circles), [])


def _circle(rig: Rig, source: str, target: str) -> list[str]:
    queue = [(target, (rig.find(target)[0].name,), frozenset(range(1, 17)), True, 0)]
    seen: set[tuple] = set()
    while queue:
        uid, names, channels, clock, rounds = queue.pop(0)
        if (uid, channels, clock, rounds) in seen:
            continue
        seen.add((uid, channels, clock, rounds))
        for out, route in rig.onward(uid):
            passing = frozenset(filter(None, map(route.passes, channels))) if route else channels
            ticks = clock and (route is None or route.clock)
            if out.kind not in ("midi", "usb") or not (passing or ticks):
                continue
            if out.uid == source:
                # Clock passes or does not; channels may still die out, each round changing them, within sixteen rounds.
                if ticks or rounds > 16:
                    return [*names, names[0]]
                queue.append((target, names, passing, False, rounds + 1))
                continue
            for _, entry in entered(rig, out.uid):
                more = (rig.find(entry)[0].name,) if rounds == 0 else ()
                queue.append((entry, names + more, passing, ticks, rounds))
    return []
