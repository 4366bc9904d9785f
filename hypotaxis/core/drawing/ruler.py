"""Who sits on each of the sixteen channels behind a send socket?"""

from dataclasses import dataclass

from hypotaxis.core.plan import Plan

CELL = 74


@dataclass(frozen=True)
class ChannelCell:
    """One channel: the names that listen there, and whether the instrument in question is among them."""

    channel: int
    x: int
    names: tuple[str, ...]
    mine: bool

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
    cells = []
    for channel in range(1, 17):
        sitting = [i for i in plan.instruments if send and i.send == send and i.channel == channel]
        cells.append(
            ChannelCell(
                channel,
                (channel - 1) * CELL,
                tuple(i.name for i in sitting),
                any(i.uid == instrument_uid for i in sitting),
            )
        )
    return cells


def next_free_channel(plan: Plan, send: str) -> int:
    """The lowest channel of a send socket that nobody uses; 1 when all are taken."""
    return next((cell.channel for cell in channel_cells(plan, send) if not cell.names), 1)
