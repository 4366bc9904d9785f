"""What stands for a track, bar by bar? The one rule.

What the person chose for some bars stands there, as far as that take reaches. Elsewhere the newest good take stands as
far as it reaches; where it does not, an older one stands on. A take that is doubtful or could not be placed stands
only where no good one does; a silent one never.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise


@dataclass(frozen=True)
class Offered:
    """A take as the rule sees it."""

    uid: str
    number: int
    first_bar: int
    last_bar: int
    good: bool
    """It is measured or placed, and not doubtful unless the person took it as it is."""
    silent: bool = False


@dataclass(frozen=True)
class Stretch:
    """Bars for which one take stands, both included. moved: by how many bars it stands later than it was played, as a
    chorus does that is laid along the song."""

    uid: str
    first_bar: int
    last_bar: int
    moved: int = 0


def standing(offered: Iterable[Offered], chosen: Sequence[Stretch] = ()) -> tuple[Stretch, ...]:
    """The stretches of a track in the order of its bars; bars that no take reaches are left out. chosen: by the person,
    a later one over an earlier one; what names a take that is not offered is as if it were not there.

    >>> old, new = Offered("old", 1, 1, 8, True), Offered("new", 2, 1, 1, True)
    >>> [(one.uid, one.first_bar, one.last_bar) for one in standing([old, new])]
    [('new', 1, 1), ('old', 2, 8)]
    >>> [(one.uid, one.first_bar, one.last_bar) for one in standing([old, new], [Stretch("old", 1, 4)])]
    [('old', 1, 8)]
    """
    offered = list(offered)
    reach = {one.uid: (one.first_bar, one.last_bar) for one in offered}
    chosen = [
        replace(
            one,
            first_bar=max(one.first_bar, reach[one.uid][0] + one.moved),
            last_bar=min(one.last_bar, reach[one.uid][1] + one.moved),
        )
        for one in reversed(chosen)
        if one.uid in reach
    ]
    ranked = sorted((one for one in offered if not one.silent), key=lambda one: (not one.good, -one.number))
    edges = sorted({edge for one in (*ranked, *chosen) for edge in (one.first_bar, one.last_bar + 1)})
    found: list[Stretch] = []
    for first, after in pairwise(edges):
        here = next((one for one in (*chosen, *ranked) if one.first_bar <= first <= one.last_bar), None)
        if here is None:
            continue
        moved = here.moved if isinstance(here, Stretch) else 0
        before = found[-1] if found else None
        if before and (before.uid, before.moved, before.last_bar) == (here.uid, moved, first - 1):
            found[-1] = replace(before, last_bar=after - 1)
        else:
            found.append(Stretch(here.uid, first, after - 1, moved))
    return tuple(found)


def choose(chosen: Sequence[Stretch], uid: str, first_bar: int, last_bar: int, moved: int = 0) -> tuple[Stretch, ...]:
    """The choices with one more; what it covers of the earlier ones is left out.

    >>> [(one.uid, one.first_bar, one.last_bar) for one in choose([Stretch("a", 1, 8)], "b", 3, 4)]
    [('a', 1, 2), ('a', 5, 8), ('b', 3, 4)]
    """
    kept = []
    for one in chosen:
        kept.append(replace(one, last_bar=min(one.last_bar, first_bar - 1)))
        kept.append(replace(one, first_bar=max(one.first_bar, last_bar + 1)))
    return (*(one for one in kept if one.first_bar <= one.last_bar), Stretch(uid, first_bar, last_bar, moved))
