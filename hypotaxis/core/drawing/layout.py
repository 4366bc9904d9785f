"""In which order do the boxes stand in their column, so that few cables cross and little moves?

The order starts from the one that is kept. Where two neighbours change places and fewer cables cross, they do, until
nothing gains any more; so something new moves only what it has to. A box that its owner has put somewhere is never
passed. Boxes that hang below another (by thru or voltage), or stand beside it on its way home, go with it.
"""

from bisect import bisect_left
from collections import defaultdict
from functools import lru_cache

from hypotaxis.core.kept import kept_with_it
from hypotaxis.core.rig.links import is_usb_host
from hypotaxis.core.rig.shapes import column_of, is_interface
from hypotaxis.core.rig.values import Box, Rig

MOST_PASSES = 400
KEPT = 16
"""Orders that were found."""
Ends = tuple[tuple[int, ...], tuple[int, ...]]
"""Places of the host's outs that feed a group, and of its ins that it feeds."""


def column_order(rig: Rig, shape: str) -> list[Box]:
    """The boxes of the column in which this shape stands, as they are seen from the top."""
    return arranged(rig)[column_of(shape)]


@kept_with_it
def arranged(rig: Rig) -> dict[str, list[Box]]:
    """Every column's boxes from the top; what the sheet draws and what moving counts by."""
    columns: dict[str, list[Box]] = defaultdict(list)
    for box in sorted(rig.boxes, key=lambda box: (box.order, box.name)):
        columns[column_of(box.shape)].append(box)
    columns["boxes"] = _untangled(rig, columns["boxes"])
    return columns


def hangs_on(rig: Rig) -> dict[str, str]:
    """Boxes that go with another one, by uid: those fed by its thru or voltage, the devices of a USB host, and those
    that its sound goes through on the way home. The one that feeds first counts; nothing goes with itself, however it
    is cabled."""
    found: dict[str, str] = {}
    for cable in rig.cables:
        one, other = rig.find(cable.source), rig.find(cable.target)
        devices = bool(other) and is_usb_host(*other)
        one, other = (other, one) if devices else (one, other)
        if not one or not other or {column_of(one[0].shape), column_of(other[0].shape)} != {"boxes"}:
            continue
        downward = bool(one[1].thru_of) or one[1].kind == "cv"
        homeward = one[1].kind == "audio" and bool(rig.onward(cable.target))
        if (downward or homeward or devices) and not _leads_to(found, one[0].uid, other[0].uid):
            found.setdefault(other[0].uid, one[0].uid)
    return found


def beside(rig: Rig) -> dict[str, str]:
    """Boxes that stand beside the one whose sound they pass on, by uid: one in and one out each, nothing else."""
    return {
        uid: feeder
        for uid, feeder in hangs_on(rig).items()
        if _is_narrow(rig.box(uid)) and _feeds_alone(rig, feeder, uid) and feeder not in hangs_on(rig)
    }


def _is_narrow(box: Box) -> bool:
    audio = [socket for socket in box.sockets if socket.kind == "audio"]
    return len(box.sockets) == len(audio) == 2 and {socket.direction for socket in audio} == {"in", "out"}


def _feeds_alone(rig: Rig, feeder: str, uid: str) -> bool:
    """Whether all that leaves the feeder to the right goes into this box."""
    outs = [s for s in rig.box(feeder).sockets if s.direction == "out" and not s.thru_of and s.kind != "cv"]
    ends = [rig.far_end(socket.uid) for socket in outs]
    return len(outs) == 1 and all(end is not None and end[0].uid == uid for end in ends)


def _leads_to(found: dict[str, str], uid: str, goal: str) -> bool:
    while uid != goal and uid in found:
        uid = found[uid]
    return uid == goal


def _untangled(rig: Rig, boxes: list[Box]) -> list[Box]:
    groups = _groups(rig, boxes)
    ranks = _ranks(rig)
    ends = tuple(_ends(rig, group, ranks) for group in groups)
    fixed = tuple(any(box.by_hand for box in group) for group in groups)
    return [box for index in _order(ends, fixed) for box in groups[index]]


@lru_cache(KEPT)
def _order(ends: tuple[Ends, ...], fixed: tuple[bool, ...]) -> tuple[int, ...]:
    """In which order groups stand whose cables go to these places; kept, since most changes plug nothing."""
    order = list(range(len(ends)))
    cost: dict[tuple[int, int], int] = {}

    def crossings(upper: int, lower: int) -> int:
        if (upper, lower) not in cost:
            cost[upper, lower] = sum(_crossing(a, b) for a, b in zip(ends[upper], ends[lower], strict=True))
        return cost[upper, lower]

    for _ in range(MOST_PASSES):
        changed = False
        for place in range(len(order) - 1):
            upper, lower = order[place], order[place + 1]
            if fixed[upper] or fixed[lower] or crossings(upper, lower) <= crossings(lower, upper):
                continue
            order[place], order[place + 1] = lower, upper
            changed = True
        if not changed:
            break
    return tuple(order)


def _groups(rig: Rig, boxes: list[Box]) -> list[list[Box]]:
    """Boxes that keep together, each group from the top, in the order of their first ones."""
    on = hangs_on(rig)
    hanging: dict[str, list[Box]] = defaultdict(list)
    for box in boxes:
        hanging[on.get(box.uid, "")].append(box)

    def with_all_below(box: Box) -> list[Box]:
        return [box, *(lower for child in hanging[box.uid] for lower in with_all_below(child))]

    return [with_all_below(box) for box in hanging[""]]


def _ranks(rig: Rig) -> dict[str, int]:
    """Places of the host's own sockets, outs and ins in one count."""
    interfaces = sorted((box for box in rig.boxes if is_interface(box.shape)), key=lambda box: (box.order, box.name))
    return {socket.uid: rank for rank, socket in enumerate(s for box in interfaces for s in box.sockets)}


def _ends(rig: Rig, group: list[Box], ranks: dict[str, int]) -> Ends:
    """(places of the host's outs that feed the group, places of its ins that the group feeds), sorted."""
    left, right = [], []
    for box in group:
        for socket in box.sockets:
            far = rig.far_end(socket.uid)
            if far and far[1].uid in ranks:
                (right if socket.direction == "out" else left).append(ranks[far[1].uid])
    return tuple(sorted(left)), tuple(sorted(right))


def _crossing(upper: tuple[int, ...], lower: tuple[int, ...]) -> int:
    """How many cables of an upper group cross those of a lower one, between them and a column beside; both sorted."""
    return sum(bisect_left(lower, one) for one in upper)
