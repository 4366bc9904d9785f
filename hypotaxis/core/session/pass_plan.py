"""Which tracks are recorded in which pass, so that there are as few passes as can be?

Two tracks need a pass each where they come home on one input, or where their notes go to one port and channel and call
up different sounds there. Fewest passes is colouring the graph of these conflicts: exact by DSATUR with branch and
bound (Brélaz, New methods to color the vertices of a graph, 1979), which stops at once where as many passes as some
input has tracks are enough, as they nearly always are.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.rig.trips import returns_text
from hypotaxis.core.session.passes import ArmedTrack, check_pass
from hypotaxis.core.session.schedule import LEAD_IN_S, TAIL_S

MOST_STEPS = 50_000
"""Of the search; beyond them the best that was found is taken."""
MOST_SEARCHED = 200
"""Tracks; of more none is searched for, and what was found first is taken."""


@dataclass(frozen=True)
class Wanted:
    """A track that is to be recorded. uses: the inputs, and the outputs of an effect loop, that nobody else may use in
    the same pass; way, sound: where its notes go, and what is called up there; after: the track that must be recorded
    before it, since its sound is sent."""

    uid: str
    uses: frozenset[str]
    way: tuple[str, int] | None = None
    sound: tuple[bytes, ...] = ()
    after: str = ""

    def clashes(self, other: "Wanted") -> bool:
        """Whether the two need a pass each."""
        return (
            bool(self.uses & other.uses)
            or self.after == other.uid
            or other.after == self.uid
            or (self.way is not None and self.way == other.way and self.sound != other.sound)
        )


@dataclass(frozen=True)
class LeftOut:
    """A track that cannot be recorded, and why."""

    uid: str
    why: str


@dataclass(frozen=True)
class Planned:
    """Passes in their order, each the uids of its tracks; fewest: whether fewer are impossible."""

    passes: tuple[tuple[str, ...], ...]
    fewest: bool = True


def wanted_of(plan, tracks: Sequence[ArmedTrack]) -> tuple[list[Wanted], list[LeftOut]]:
    """What the tracks need, and those that cannot be recorded."""
    wanted, left = [], []
    for track in tracks:
        instrument = track.instrument
        if track.loop:
            if why := loop_trouble(plan, track):
                left.append(LeftOut(track.uid, why))
            else:
                wanted.append(Wanted(track.uid, frozenset((*track.inputs, *track.loop.sends)), after=track.source))
        elif instrument is None:
            left.append(LeftOut(track.uid, "It has no instrument."))
        elif plan.way_out(instrument.uid, track.part) is None:
            left.append(LeftOut(track.uid, f"{instrument.name} has no way out: its notes would go nowhere."))
        elif not track.returns:
            left.append(LeftOut(track.uid, f"{instrument.name} has no way home."))
        else:
            way = plan.way_out(instrument.uid, track.part)
            wanted.append(Wanted(track.uid, frozenset(track.inputs), way, track.calls))
    return wanted, left


def loop_trouble(plan, track: ArmedTrack) -> str:
    """Why a track of an effect loop cannot be recorded; "" where it can."""
    try:
        check_pass(plan, [track])
    except CannotSchedule as error:
        return str(error)
    return ""


def why_apart(plan, one: ArmedTrack, other: ArmedTrack) -> str:
    """Why two tracks cannot share a pass, in a sentence; "" where they can."""
    for sent, source in ((one, other), (other, one)):
        if sent.loop and sent.source == source.uid:
            return f"{sent.name} is sent the take of {source.name}, which must be there before."
    shared = tuple(uid for uid in one.inputs if uid in other.inputs)
    if shared:
        return f"{one.name} and {other.name} share {returns_text(plan.rig, shared)}."
    if one.instrument is None or other.instrument is None:
        return ""
    ends = [plan.way_out(track.instrument.uid, track.part) for track in (one, other)]
    if ends[0] and ends[0] == ends[1] and one.calls != other.calls:
        return f"{one.name} and {other.name} call up different sounds on one channel."
    return ""


def fewest_passes(wanted: Sequence[Wanted]) -> Planned:
    """The tracks in as few passes as can be, each in the earliest that is free in its order."""
    sent = [one for one in wanted if one.after]
    found = _fewest([one for one in wanted if not one.after])
    return _with_effects(found, wanted, sent) if sent else found


def _with_effects(found: Planned, wanted: Sequence[Wanted], sent: Sequence[Wanted]) -> Planned:
    """What effects are sent through comes in the first pass behind that of its source in which it fits. A source that
    is in none of the passes stands already."""
    known = {one.uid: one for one in wanted}
    passes = [list(uids) for uids in found.passes]
    waiting, deepest = list(sent), 0
    depth: dict[str, int] = {}
    while waiting:
        one = next((w for w in waiting if w.after not in {other.uid for other in waiting}), waiting[0])
        waiting.remove(one)
        depth[one.uid] = depth.get(one.after, 1 if one.after in known else 0) + 1
        deepest = max(deepest, depth[one.uid])
        behind = next((place + 1 for place, uids in enumerate(passes) if one.after in uids), 0)
        fits_in = (p for p in range(behind, len(passes)) if not any(known[uid].clashes(one) for uid in passes[p]))
        place = next(fits_in, len(passes))
        if place == len(passes):
            passes.append([])
        passes[place].append(one.uid)
    # No fewer than the notes alone need, than an input has tracks, or than one behind the other makes.
    uses = [use for one in wanted for use in one.uses]
    least = max(len(found.passes), deepest, max((uses.count(use) for use in set(uses)), default=0))
    return Planned(tuple(tuple(uids) for uids in passes), fewest=found.fewest and len(passes) == least)


def _fewest(wanted: Sequence[Wanted]) -> Planned:
    if not wanted:
        return Planned(())
    near = {one.uid: {o.uid for o in wanted if o.uid != one.uid and o.clashes(one)} for one in wanted}
    counts: dict[str, int] = {}
    for one in wanted:
        for use in one.uses:
            counts[use] = counts.get(use, 0) + 1
    least = max(counts.values(), default=1)
    best = _search(near, [one.uid for one in wanted], least)
    number = max(best.colours.values()) + 1
    passes = [tuple(one.uid for one in wanted if best.colours[one.uid] == colour) for colour in range(number)]
    # In the order of what comes first in each, so that the plan reads as the tracks do.
    order = {one.uid: place for place, one in enumerate(wanted)}
    passes.sort(key=lambda uids: order[uids[0]])
    return Planned(tuple(passes), fewest=best.proved)


@dataclass
class _Best:
    """The best colouring so far. proved: that fewer colours are impossible."""

    colours: dict[str, int]
    proved: bool


def _search(near: Mapping[str, set[str]], uids: list[str], least: int) -> _Best:
    best = _greedy(near, uids)
    count = max(best.values()) + 1
    if count <= least or len(uids) > MOST_SEARCHED:
        return _Best(best, proved=count <= least)
    found, steps, given_up = best, 0, False

    def colour(colours: dict[str, int], used: int) -> bool:
        """Go on from these; True to end the search."""
        nonlocal found, count, steps, given_up
        steps += 1
        if steps > MOST_STEPS:
            given_up = True
            return True
        if len(colours) == len(uids):
            found, count = dict(colours), used
            return count <= least
        uid = _most_saturated(near, uids, colours)
        taken = {colours[other] for other in near[uid] if other in colours}
        for one in range(min(used + 1, count - 1)):
            if one not in taken:
                colours[uid] = one
                if colour(colours, max(used, one + 1)):
                    return True
                del colours[uid]
        return False

    colour({}, 0)
    return _Best(found, proved=not given_up)


def _greedy(near: Mapping[str, set[str]], uids: list[str]) -> dict[str, int]:
    colours: dict[str, int] = {}
    while len(colours) < len(uids):
        uid = _most_saturated(near, uids, colours)
        taken = {colours[other] for other in near[uid] if other in colours}
        colours[uid] = next(one for one in range(len(uids)) if one not in taken)
    return colours


def _most_saturated(near: Mapping[str, set[str]], uids: list[str], colours: dict[str, int]) -> str:
    """The next to colour: with most colours around it, of these with most conflicts, of these the first."""
    free = (uid for uid in uids if uid not in colours)
    return max(
        free, key=lambda uid: (len({colours[o] for o in near[uid] if o in colours}), len(near[uid]), -uids.index(uid))
    )


def seconds_of(passes: int, song_s: float, gap_s: float) -> float:
    """How long so many passes of a song take in real time, with their lead-in, what rings on, and the gaps between."""
    return passes * (song_s + LEAD_IN_S + TAIL_S) + max(0, passes - 1) * gap_s


def too_early(wanted: Sequence[Wanted], passes: Sequence[Sequence[str]]) -> list[tuple[str, str]]:
    """(uid, uid of its source) of what would be recorded before that of which it is sent the sound."""
    place = {uid: number for number, uids in enumerate(passes) for uid in uids}
    return [(one.uid, one.after) for one in wanted if one.after in place and place.get(one.uid, 0) <= place[one.after]]


def fits(wanted: Sequence[Wanted], passes: Sequence[Sequence[str]]) -> list[tuple[int, str, str]]:
    """Where a plan made by hand asks for what cannot be: (pass from 0, uid, uid)."""
    known = {one.uid: one for one in wanted}
    found = []
    for number, uids in enumerate(passes):
        there = [known[uid] for uid in uids if uid in known]
        for place, one in enumerate(there):
            found += [(number, one.uid, two.uid) for two in there[place + 1 :] if one.clashes(two)]
    return found
