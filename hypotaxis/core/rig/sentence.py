"""A trip written as a sentence.

The sentence is a list of pieces, each with the ink it is set in: "text", "out", "back" or "alarm".
"""

from dataclasses import dataclass

from hypotaxis.core.plan import Instrument
from hypotaxis.core.rig.trips import Hop, Trip, returns_text, trip_of, way_home
from hypotaxis.core.rig.values import Cable, Rig


@dataclass(frozen=True)
class Piece:
    """A stretch of the sentence in one ink."""

    text: str
    ink: str = "text"


def trip_sentence(rig: Rig, instrument: Instrument) -> tuple[Piece, ...]:
    """The way out and back in plain words; where it stops, the sentence says so in the alarm ink."""
    trip = trip_of(rig, instrument)
    return (*_outward(rig, trip), *homeward(rig, instrument.returns, trip.homeward), *_further(rig, instrument))


def _further(rig: Rig, instrument: Instrument) -> list[Piece]:
    """The further ways home."""
    pieces = []
    for one in instrument.further:
        pieces += [Piece(f" {one.name} comes home on "), Piece(returns_text(rig, one.inputs), "back"), Piece(".")]
        if any(not way_home(rig, uid, instrument.box) for uid in one.inputs):
            pieces[-1] = Piece(", but no cable brings it there.", "alarm")
    return pieces


def plain(pieces: tuple[Piece, ...]) -> str:
    """The sentence without its inks."""
    return "".join(piece.text for piece in pieces)


def _outward(rig: Rig, trip: Trip) -> list[Piece]:
    instrument = trip.instrument
    box = rig.box(instrument.box)
    name = box.name if box else instrument.name
    if not rig.find(instrument.send):
        return [Piece(f"No send socket is chosen, so no note reaches {name}", "alarm"), Piece("; ")]
    pieces = [Piece("Notes leave by "), Piece(rig.socket_text(instrument.send), "out")]
    if trip.held_back:
        return [
            *pieces,
            Piece(f", but a router on the way to {name} holds channel {instrument.channel} back", "alarm"),
            Piece("; "),
        ]
    if not trip.reaches:
        return [*pieces, Piece(f", but no cable leads from there to {name}", "alarm"), Piece("; ")]
    if not trip.outward:
        pieces.append(Piece(f", straight into {name}"))
    for number, hop in enumerate(trip.outward):
        pieces += _hop(rig, hop, first=number == 0)
    if trip.arrives_on != instrument.channel:
        pieces += [Piece(f", where they arrive on channel {trip.arrives_on}")]
    return [*pieces, Piece("; ")]


def _hop(rig: Rig, hop: Hop, *, first: bool) -> list[Piece]:
    goal = Piece(rig.socket_text(hop.target), "out")
    if first and not hop.route and not hop.by_thru:
        return [Piece(", enter "), goal]
    leaves = Piece(rig.socket_text(hop.source), "out")
    source, target = rig.find(hop.source), rig.find(hop.target)
    if source and source[1].kind == "cv":
        return [Piece(", are turned into voltage at "), leaves, Piece(" for "), goal]
    word = ", go straight on by " if hop.by_thru else ", are passed on by "
    return [Piece(word), leaves, Piece(" into " if target else " to "), goal]


def homeward(rig: Rig, returns: tuple[str, ...], ways: tuple[tuple[Cable, ...], ...]) -> list[Piece]:
    """The way home in plain words. ways: the cables to each return that is reached."""
    if not returns:
        return [Piece("no return is chosen for its sound.", "alarm")]
    home = returns_text(rig, returns)
    if len(ways) < len(returns):
        return [
            Piece("its sound is expected on "),
            Piece(home, "back"),
            Piece(", but no cable brings it there.", "alarm"),
        ]
    leaves = " and ".join(rig.socket_text(way[0].source) for way in ways)
    pieces = [Piece("the sound leaves by "), Piece(leaves, "back")]
    between = _between(rig, ways)
    if between:
        pieces += [Piece(", goes through "), Piece(between, "back")]
    return [*pieces, Piece(" and comes home on "), Piece(home, "back"), Piece(".")]


def _between(rig: Rig, ways: tuple[tuple[Cable, ...], ...]) -> str:
    """Names of the boxes on the way home, each once."""
    names = [rig.find(cable.target)[0].name for way in ways for cable in way[:-1] if rig.find(cable.target)]
    return " and ".join(dict.fromkeys(names))
