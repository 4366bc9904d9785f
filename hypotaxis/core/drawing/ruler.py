"""Who sits on each of the sixteen channels behind a send socket, along the whole chain that hangs on it?"""

from collections.abc import Iterable
from dataclasses import dataclass

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.listening import seated
from hypotaxis.core.rig.trips import heard_from, runs

CELL = 74


@dataclass(frozen=True)
class ChannelCell:
    """One channel. names: the instruments that listen there, then boxes that answer there without one (set to the
    channel, or to omni); mine: whether the instrument in question is among them; taken: whether an instrument is."""

    channel: int
    x: int
    names: tuple[str, ...]
    mine: bool
    taken: bool

    @property
    def state(self) -> str:
        """free, mine, other or shared."""
        if len(self.names) > 1:
            return "shared"
        if not self.names:
            return "free"
        return "mine" if self.mine else "other"


def channel_cells(plan: Plan, send: str, instrument_uid: str = "") -> list[ChannelCell]:
    """The sixteen cells of a send socket; without a socket all of them are free."""
    reached = heard_from(plan.rig, send) if send else ()
    cells = []
    for channel in range(1, 17):
        sitting = seated(plan).get((send, channel), ()) if send else ()
        named = {one.box for one, _ in sitting}
        names = [f"{one.name}: {seat.name}" if seat.name else one.name for one, seat in sitting]
        for one in reached:
            box, arrives = plan.rig.box(one.box), one.channels[channel - 1]
            if arrives and box.uid not in named and (box.setup.omni or arrives in box.setup.receives):
                named.add(box.uid)
                names.append(f"{box.name}, omni" if box.setup.omni else box.name)
        mine = any(one.uid == instrument_uid for one, _ in sitting)
        cells.append(ChannelCell(channel, (channel - 1) * CELL, tuple(names), mine, bool(sitting)))
    return cells


def channels_text(channels: Iterable[int]) -> str:
    """Channels as they are written, neighbours drawn together.

    >>> channels_text([10, 1, 2, 3])
    '1–3, 10'
    """
    names = runs(f"channel {channel}" for channel in sorted(set(channels)))
    return ", ".join(name.removeprefix("channel ") for name in names)


def layer_told(cells: list[ChannelCell]) -> str:
    """What it means that others answer on the instrument's own channel; empty when nobody does."""
    mine = next((cell for cell in cells if cell.mine), None)
    if mine is None or len(mine.names) < 2:
        return ""
    return (
        f"{' and '.join(mine.names)} answer on channel {mine.channel} together. Each hears the other's program "
        "changes: "
        "set the sounds of a layer on the boxes."
    )


def next_free_channel(plan: Plan, send: str) -> int:
    """The lowest channel of a send socket on which no instrument is; 1 when all are taken."""
    return next((cell.channel for cell in channel_cells(plan, send) if not cell.taken), 1)
