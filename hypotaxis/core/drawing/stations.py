"""The stations of a trip in a row, each lit as far as the signal is known to have come: where the light stops is where
the fault is.

The host sees two things, what left and what arrived. A station between is lit when the sound came home by it, and open
otherwise; the way breaks where the plan has no cable, or at a return that stayed silent.
"""

from collections.abc import Collection
from dataclasses import dataclass

from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.trips import Trip, trip_of, way_home

LIT, OPEN, BROKEN = "reached", "not seen from here", "silent"
NO_CABLE, NONE_ARRIVES = "no cable leads on", "no cable arrives from the box"


@dataclass(frozen=True)
class Station:
    """One stop. ink: "out", "back" or "text" (the box, where the trip turns round); state: LIT, OPEN, BROKEN,
    NO_CABLE or NONE_ARRIVES."""

    name: str
    ink: str
    state: str
    short: str = ""
    """Its label alone, of a socket."""
    input: str = ""
    """Uid of the host's input, of a return."""

    @property
    def stops(self) -> bool:
        """Whether the light stops here."""
        return self.state in (BROKEN, NO_CABLE, NONE_ARRIVES)


def stations(
    plan: Plan, instrument: Instrument, *, left: bool, moved: Collection[str], ended: bool
) -> tuple[Station, ...]:
    """The stops of a try-out in order. left: messages left the host; moved: inputs (socket uids) whose level moved;
    ended: nothing more will come, so that what has not moved is silent."""
    trip = trip_of(plan.rig, instrument)
    home = any(uid in moved for uid in instrument.inputs)
    passed = LIT if home else OPEN
    out = passed if left else OPEN
    row = []
    if plan.rig.find(instrument.send):
        sent = plan.rig.find(instrument.send)[1]
        row.append(Station(plan.rig.socket_text(sent.uid), "out", LIT if left else OPEN, sent.name))
    row += [Station(name, "out", out) for name in _between(plan, [hop.target for hop in trip.outward[:-1]])]
    box = plan.rig.box(instrument.box)
    row.append(Station(box.name if box else instrument.name, "text", passed if trip.reaches else NO_CABLE))
    return (*row, *_homeward(plan, instrument, trip, moved, ended=ended))


def _homeward(plan: Plan, instrument: Instrument, trip: Trip, moved: Collection[str], *, ended: bool) -> list[Station]:
    stops = [cable.target for way in trip.homeward for cable in way[:-1]]
    home = any(uid in moved for uid in instrument.inputs)
    row = [Station(name, "back", LIT if home else OPEN) for name in _between(plan, stops)]
    for uid in instrument.inputs:
        if plan.rig.find(uid):
            cabled = way_home(plan.rig, uid, instrument.box)
            missing = BROKEN if ended and cabled else OPEN if cabled else NONE_ARRIVES
            label = plan.rig.find(uid)[1].name
            row.append(Station(plan.rig.socket_text(uid), "back", LIT if uid in moved else missing, label, uid))
    if not instrument.returns:
        row.append(Station("no return chosen", "back", NO_CABLE))
    return row


def _between(plan: Plan, sockets: list[str]) -> list[str]:
    """Names of the boxes that stand on the way, each once."""
    found = [plan.rig.find(uid) for uid in sockets]
    return list(dict.fromkeys(one[0].name for one in found if one))
