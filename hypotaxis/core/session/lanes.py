"""Which row of which sequencer drives each sound of a drum machine, and which sounds are left without one?

A step sequencer has a fixed number of lanes, and a lane drives one sound: eight lanes cannot drive eleven sounds, so
two sequencers are used side by side, or sounds go without.
"""

from dataclasses import dataclass

from hypotaxis.core.plan import Instrument, Plan, Voice
from hypotaxis.core.rig.values import Box


@dataclass(frozen=True)
class Lane:
    """A voice and what drives it. box, number: the sequencer and its row, counted from 1; "" and 0 = none is left."""

    voice: Voice
    box: str
    number: int


def sequencers_of(plan: Plan, instrument: Instrument) -> tuple[Box, ...]:
    """The boxes with lanes that play an instrument: those on its standing lines, otherwise its own box."""
    players = []
    for port, _ in instrument.standing:
        found = plan.rig.far_end(port) or plan.rig.find(port)
        if found and found[0].setup.lanes and found[0] not in players:
            players.append(found[0])
    own = plan.rig.box(instrument.box)
    return tuple(players) or ((own,) if own and own.setup.lanes else ())


def lanes_of(plan: Plan, instrument: Instrument) -> tuple[Lane, ...]:
    """The lane of each voice, in their order; empty where no sequencer with a limit plays the instrument."""
    rows = [(box.name, row + 1) for box in sequencers_of(plan, instrument) for row in range(box.setup.lanes)]
    if not rows:
        return ()
    rows += [("", 0)] * max(0, len(instrument.voices) - len(rows))
    return tuple(Lane(voice, *row) for voice, row in zip(instrument.voices, rows, strict=False))
