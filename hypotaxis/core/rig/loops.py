"""The way of an effect loop: audio out of the host, through a box, and home again."""

from dataclasses import dataclass

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.plan import Loop
from hypotaxis.core.rig.sentence import Piece, homeward
from hypotaxis.core.rig.shapes import is_interface
from hypotaxis.core.rig.trips import host_audio, returns_text, way_home, ways_into
from hypotaxis.core.rig.values import Box, Cable, Rig


@dataclass(frozen=True)
class LoopTrip:
    """outward: for each send that reaches the box the cables to it; home: for each return at which the box arrives the
    cables from it. A shorter list than the sends or returns: it is broken there."""

    loop: Loop
    outward: tuple[tuple[Cable, ...], ...]
    home: tuple[tuple[Cable, ...], ...]

    @property
    def goes_out(self) -> bool:
        """Whether every send reaches the box."""
        return bool(self.outward) and len(self.outward) == len(self.loop.sends)

    @property
    def comes_home(self) -> bool:
        """Whether every return is cabled from the box."""
        return bool(self.home) and len(self.home) == len(self.loop.returns)

    @property
    def sockets(self) -> frozenset[str]:
        """Uids of every socket on the way, those of the definition included."""
        cables = [cable for way in (*self.outward, *self.home) for cable in way]
        ends = {end for cable in cables for end in (cable.source, cable.target)}
        return frozenset({*ends, *self.loop.sends, *self.loop.returns})


def loop_trip(rig: Rig, loop: Loop) -> LoopTrip:
    """The way of a loop as far as it is cabled. Without a box it is a cable straight from an output to an input."""
    if not loop.box:
        pairs = zip(loop.sends, loop.returns, strict=False)
        straight = tuple(way for send, uid in pairs for way in ways_into(rig, uid)[:1] if way[0].source == send)
        return LoopTrip(loop, straight, straight)
    out = tuple(way for send in loop.sends if (way := way_out(rig, send, loop.box)))
    home = tuple(way for uid in loop.returns if (way := way_home(rig, uid, loop.box)))
    return LoopTrip(loop, out, home)


def way_out(rig: Rig, send: str, box_uid: str) -> tuple[Cable, ...]:
    """The cables from an output of the host to a box, through what stands between; empty when it is not reached."""
    return _sent_into(rig, box_uid).get(send, ())


@kept_with_it
def _sent_into(rig: Rig, box_uid: str) -> dict[str, tuple[Cable, ...]]:
    """The sockets from which ways lead to a box's audio inputs, each with the first of them."""
    box = rig.box(box_uid)
    found: dict[str, tuple[Cable, ...]] = {}
    for socket in box.sockets if box else ():
        if socket.kind == "audio" and socket.direction == "in":
            for way in ways_into(rig, socket.uid):
                found.setdefault(way[0].source, way)
    return found


def takes_audio(box: Box) -> bool:
    """Whether a loop may go through a box: it takes audio in and gives audio out, and is not the host's own."""
    ways = {socket.direction for socket in box.sockets if socket.kind == "audio"}
    return ways >= {"in", "out"} and not is_interface(box.shape)


def sends_of(rig: Rig, box_uid: str) -> list[str]:
    """The host's outputs that reach a box, in their order."""
    sent = _sent_into(rig, box_uid)
    return [socket.uid for _, socket in host_audio(rig, "out") if socket.uid in sent]


def loop_sentence(rig: Rig, loop: Loop) -> tuple[Piece, ...]:
    """The way out and back in plain words."""
    trip, box = loop_trip(rig, loop), rig.box(loop.box)
    if not loop.box:
        return _straight(rig, trip)
    name = box.name if box else loop.name
    if not loop.sends:
        out = [Piece(f"No output is chosen, so nothing reaches {name}", "alarm")]
    elif not trip.goes_out:
        out = [
            Piece("Audio leaves by "),
            Piece(returns_text(rig, loop.sends), "out"),
            Piece(f", but no cable leads from there to {name}", "alarm"),
        ]
    else:
        enters = " and ".join(rig.socket_text(way[-1].target) for way in trip.outward)
        out = [
            Piece("Audio leaves by "),
            Piece(returns_text(rig, loop.sends), "out"),
            Piece(", enters "),
            Piece(enters, "out"),
        ]
    return (*out, Piece("; "), *homeward(rig, loop.returns, trip.home))


def _straight(rig: Rig, trip: LoopTrip) -> tuple[Piece, ...]:
    out, home = returns_text(rig, trip.loop.sends), returns_text(rig, trip.loop.returns)
    pieces = [Piece("Audio leaves by "), Piece(out, "out"), Piece(" and comes straight home on "), Piece(home, "back")]
    if trip.goes_out:
        return (*pieces, Piece("."))
    return (*pieces, Piece(", but no cable leads from the one to the other.", "alarm"))
