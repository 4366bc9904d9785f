"""Which inputs move in a pass though nothing was asked of them, and what does that say?

A box that is not armed and answers all the same is heard in the room, and often in the take: it listens on a channel
that is not its own, or a cable is in another socket than the plan says.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from hypotaxis.core.plan import Plan
from hypotaxis.core.rig.trips import heard_from, host_audio, ways_into
from hypotaxis.core.session.listening import AUDIBLE_DB
from hypotaxis.core.sync.following import clocked
from hypotaxis.core.timing.doubt import ABOVE_DB, LOWEST_DB
from hypotaxis.core.units import factor_to_db

WINDOW_S = 0.05
NEAR_S = (-0.02, 0.3)
"""Around a note: a rise that comes there comes with it."""
FEWEST_RISES, WITH_NOTES = 3, 0.7
"""Rises that are needed, and the share of them that must come with the notes."""


@dataclass(frozen=True)
class WatchedInput:
    """An input of a pass that is heard and not recorded."""

    input: str
    """Its system name."""
    name: str
    """As it is spoken of."""
    told: str
    """What it means when it moves with the notes."""
    tracks: tuple[str, ...] = ()
    """Uids of the tracks whose notes reach the box behind it; empty: it cannot be said whose."""


@dataclass(frozen=True)
class Sender:
    """A recorded part: its track's uid, and where its notes go (socket uid, channel 1–16)."""

    track: str
    send: str
    channel: int


def watched_inputs(
    plan: Plan, recorded: Sequence[str], boxes: Sequence[str], senders: Sequence[Sender]
) -> tuple[WatchedInput, ...]:
    """The other inputs of the interfaces that are recorded from; those that the armed boxes themselves come home by are
    theirs to move, and those of boxes that play by the clock they are sent move whatever is recorded. recorded: socket
    uids; boxes: uids of the armed instruments' boxes."""
    used = {plan.rig.find(uid)[0].uid for uid in recorded if plan.rig.find(uid)}
    returned = {uid for loop in plan.loops for uid in loop.returns}
    by_clock = {uid for uid in clocked(plan) if plan.rig.box(uid).following.plays}
    found = []
    for box, socket in host_audio(plan.rig, "in"):
        if not socket.system_name or box.uid not in used or socket.uid in recorded or socket.uid in returned:
            continue
        sources = {plan.rig.find(way[0].source)[0].uid for way in ways_into(plan.rig, socket.uid)}
        if sources & {*boxes, *by_clock}:
            continue
        told, tracks = _told(plan, socket.name, sources, senders)
        found.append(WatchedInput(socket.system_name, socket.name, told, tracks))
    return tuple(found)


def _told(plan: Plan, name: str, sources: set[str], senders: Sequence[Sender]) -> tuple[str, tuple[str, ...]]:
    for uid in sorted(sources):
        box = plan.rig.box(uid)
        reached = [one for one in senders if any(hop.box == uid for hop in heard_from(plan.rig, one.send))]
        if reached:
            channel = reached[0].channel
            return (
                f"{box.name} answered too, on {name}: what goes out on {plan.rig.socket_text(reached[0].send)} reaches "
                f"it, and it seems to listen on channel {channel}.",
                tuple(one.track for one in reached),
            )
        instrument = next(iter(plan.instruments_of(uid)), None)
        if instrument:
            return (
                f"{box.name} sounded too, on {name}, though nothing of this pass is sent to it: it plays by itself, or "
                "a cable is in another socket than the plan says.",
                (),
            )
    return f"{name} moved with the notes, and the plan knows nothing that should come home there.", ()


@dataclass
class Watcher:
    """The level of one input while a pass runs, in windows of WINDOW_S."""

    rate: int
    levels: list[float] = field(default_factory=list)
    _left: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.float32), repr=False)

    def feed(self, samples: np.ndarray) -> None:
        """Take in the next block, shape (frames,)."""
        size = round(WINDOW_S * self.rate)
        joined = np.concatenate([self._left, samples])
        whole = len(joined) // size * size
        if whole:
            self.levels += np.abs(joined[:whole]).reshape(-1, size).max(axis=1).tolist()
        self._left = joined[whole:].copy()

    def moved_with(self, moments: np.ndarray) -> bool:
        """Whether it rises by 12 dB and more with the notes. moments: of the notes, in samples from its first."""
        levels = np.maximum([factor_to_db(one) if one > 0 else LOWEST_DB for one in self.levels], LOWEST_DB)
        if len(levels) < 3 or len(moments) == 0:
            return False
        rises = 1 + np.flatnonzero((levels[1:] >= levels[:-1] + ABOVE_DB) & (levels[1:] > AUDIBLE_DB))
        if len(rises) < FEWEST_RISES:
            return False
        at = rises * WINDOW_S
        notes = np.sort(moments) / self.rate
        before = notes[np.clip(np.searchsorted(notes, at - NEAR_S[0] + WINDOW_S) - 1, 0, len(notes) - 1)]
        late = at - before
        near = (late >= NEAR_S[0] - WINDOW_S) & (late <= NEAR_S[1])
        return bool(near.mean() >= WITH_NOTES)
