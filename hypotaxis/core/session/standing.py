"""What stands for a track, bar by bar? The one rule.

The newest good take stands as far as it reaches; where it does not, an older one stands on. A take that is doubtful or
could not be placed stands only where no good one does; a silent one never.
"""

from collections.abc import Iterable
from dataclasses import dataclass
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
    """Bars for which one take stands, both included."""

    uid: str
    first_bar: int
    last_bar: int


def standing(offered: Iterable[Offered]) -> tuple[Stretch, ...]:
    """The stretches of a track in the order of its bars; bars that no take reaches are left out.

    >>> old, new = Offered("old", 1, 1, 8, True), Offered("new", 2, 1, 1, True)
    >>> [(one.uid, one.first_bar, one.last_bar) for one in standing([old, new])]
    [('new', 1, 1), ('old', 2, 8)]
    """
    ranked = sorted((one for one in offered if not one.silent), key=lambda one: (not one.good, -one.number))
    edges = sorted({edge for one in ranked for edge in (one.first_bar, one.last_bar + 1)})
    found: list[Stretch] = []
    for first, after in pairwise(edges):
        here = next((one for one in ranked if one.first_bar <= first <= one.last_bar), None)
        if here is None:
            continue
        if found and found[-1].uid == here.uid and found[-1].last_bar == first - 1:
            found[-1] = Stretch(here.uid, found[-1].first_bar, after - 1)
        else:
            found.append(Stretch(here.uid, first, after - 1))
    return tuple(found)
