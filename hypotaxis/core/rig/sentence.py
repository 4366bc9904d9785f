"""A trip written as a sentence.

The sentence is a list of pieces, each with the ink it is set in: "text", "out", "back" or "alarm".
"""

from dataclasses import dataclass

from hypotaxis.core.plan import Instrument
from hypotaxis.core.rig.trips import returns_text, trip_of
from hypotaxis.core.rig.values import Rig


@dataclass(frozen=True)
class Piece:
    """A stretch of the sentence in one ink."""

    text: str
    ink: str = "text"


def trip_sentence(rig: Rig, instrument: Instrument) -> tuple[Piece, ...]:
    """The way out and back in plain words; where it stops, the sentence says so in the alarm ink."""
    return (*_outward(rig, instrument), *_homeward(rig, instrument))


def plain(pieces: tuple[Piece, ...]) -> str:
    """The sentence without its inks."""
    return "".join(piece.text for piece in pieces)


def _outward(rig: Rig, instrument: Instrument) -> list[Piece]:
    trip = trip_of(rig, instrument)
    box = rig.box(instrument.box)
    name = box.name if box else instrument.name
    if not rig.find(instrument.send):
        return [Piece(f"No send socket is chosen, so no note reaches {name}", "alarm"), Piece("; ")]
    pieces = [Piece("Notes leave by "), Piece(rig.socket_text(instrument.send), "out")]
    if not trip.reaches:
        return [*pieces, Piece(f", but no cable leads from there to {name}", "alarm"), Piece("; ")]
    for number, hop in enumerate(trip.outward):
        if hop.by_thru:
            pieces += [Piece(", go straight on by "), Piece(rig.socket_text(hop.cable.source), "out")]
            pieces += [Piece(" into "), Piece(rig.socket_text(hop.cable.target), "out")]
        else:
            pieces += [Piece(", enter " if number == 0 else " into ")]
            pieces += [Piece(rig.socket_text(hop.cable.target), "out")]
    return [*pieces, Piece("; ")]


def _homeward(rig: Rig, instrument: Instrument) -> list[Piece]:
    trip = trip_of(rig, instrument)
    if not instrument.returns:
        return [Piece("no return is chosen for its sound.", "alarm")]
    home = returns_text(rig, instrument.returns)
    if len(trip.homeward) < len(instrument.returns):
        return [
            Piece("its sound is expected on "),
            Piece(home, "back"),
            Piece(", but no cable brings it there.", "alarm"),
        ]
    leaves = " and ".join(rig.socket_text(cable.source) for cable in trip.homeward)
    return [
        Piece("the sound leaves by "),
        Piece(leaves, "back"),
        Piece(" and comes home on "),
        Piece(home, "back"),
        Piece("."),
    ]
