"""Is a track ready to be handed over, and if not, what is to be mended first?

A track is ready when every bar in which its notes begin has a placed take that stands, nothing of what stands clips,
and its sound is there. What only wants to be known is told without being wrong.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from hypotaxis.core.session.standing import Stretch

RECORD, RETAKE, PLACE, LOOK = ACTS = ("record", "retake", "place", "look")
"""What mends it: record the missing bars, record bars again, place what is recorded, look at its takes."""


@dataclass(frozen=True)
class TrackState:
    """What is known of a track. Bars count from 1."""

    written: frozenset[int]
    """Bars in which notes of it begin; of an effect, those its source stands in."""
    stretches: tuple[Stretch, ...] = ()
    """What stands of its placed takes."""
    takes: int = 0
    """How many it has, placed or not."""
    unplaced: int = 0
    measuring: bool = False
    """Takes of it are being measured."""
    clipped: frozenset[int] = frozenset()
    """Bars of what stands in which it clips."""
    doubts: tuple[str, ...] = ()
    """What is doubtful of what stands, in sentences."""
    lost: str = ""
    """What is wrong with the file of what stands."""
    borrowed: str = ""
    """Whose lateness it stands by, where that is not its own."""
    apart: bool = False
    """What stands went by another tempo than the session."""

    @property
    def covered(self) -> frozenset[int]:
        """The bars for which something stands."""
        return frozenset(bar for one in self.stretches for bar in range(one.first_bar, one.last_bar + 1))

    @property
    def missing(self) -> tuple[tuple[int, int], ...]:
        """Written bars for which nothing stands, as (first, last)."""
        return runs(self.written - self.covered)


@dataclass(frozen=True)
class Trouble:
    """What keeps a track from being ready, and the act (one of ACTS) that mends it, with its bars."""

    told: str
    act: str
    bars: tuple[int, int] = (0, 0)

    @property
    def button(self) -> str:
        """What mends it, as a button says it."""
        bars = bars_told([self.bars])
        return {RECORD: f"Record {bars}", RETAKE: f"Retake {bars}", PLACE: "Place it", LOOK: "Its takes"}[self.act]


@dataclass(frozen=True)
class Readiness:
    """What is said of a track. trouble: in order of weight, none where it is ready; told: what is worth knowing."""

    trouble: tuple[Trouble, ...] = ()
    told: tuple[str, ...] = ()

    @property
    def is_ready(self) -> bool:
        return not self.trouble


def readiness(state: TrackState) -> Readiness:
    """What is to be said of a track."""
    if not state.written and not state.takes:
        return Readiness(told=("no notes, no takes",))
    return Readiness(tuple(_troubles(state)), tuple(_worth_knowing(state)))


def _troubles(state: TrackState) -> Iterable[Trouble]:
    whole = (min(state.written, default=1), max(state.written, default=1))
    if state.measuring:
        yield Trouble("its takes are being measured", LOOK)
        return
    if not state.stretches:
        if state.unplaced:
            yield Trouble(f"recorded, not placed ({state.unplaced})", PLACE)
        elif state.written:
            yield Trouble("no take yet", RECORD, whole)
        return
    if state.lost:
        yield Trouble(f"its sound is lost: {state.lost}", RETAKE, whole)
    if state.missing:
        yield Trouble(f"{bars_told(state.missing)} missing", RECORD, (state.missing[0][0], state.missing[-1][1]))
    if state.clipped:
        found = runs(state.clipped)
        yield Trouble(f"clipped in {bars_told(found)}", RETAKE, (found[0][0], found[-1][1]))
    if state.apart:
        yield Trouble("it went by another tempo than the session", LOOK)
    for doubt in state.doubts:
        yield Trouble(f"doubtful: {doubt}", LOOK)


def _worth_knowing(state: TrackState) -> Iterable[str]:
    if state.borrowed:
        yield f"stands by {state.borrowed}"
    silent = runs(frozenset(range(1, max(state.written, default=0))) - state.written)
    # A rest of a bar or two needs no word.
    for first, last in silent[:1]:
        if first == 1 and last > 2:
            yield f"no notes in {first}–{last}"
    if state.unplaced and state.stretches:
        yield f"{state.unplaced} more not placed"


def runs(bars: frozenset[int]) -> tuple[tuple[int, int], ...]:
    """Bars as runs of neighbours.

    >>> runs(frozenset({1, 2, 3, 7, 9, 10}))
    ((1, 3), (7, 7), (9, 10))
    """
    found: list[list[int]] = []
    for bar in sorted(bars):
        if found and bar == found[-1][1] + 1:
            found[-1][1] = bar
        else:
            found.append([bar, bar])
    return tuple((first, last) for first, last in found)


def bars_told(ranges: Sequence[tuple[int, int]]) -> str:
    """Bars in words; of many only the first ones.

    >>> bars_told([(1, 8), (41, 48)]), bars_told([(25, 25)])
    ('bars 1–8 and 41–48', 'bar 25')
    """
    told = [f"{first}–{last}" if last > first else f"{first}" for first, last in ranges[:3]]
    more = f" and {len(ranges) - 3} more places" if len(ranges) > 3 else ""
    joined = told[0] if len(told) == 1 else (", ".join(told) if more else f"{', '.join(told[:-1])} and {told[-1]}")
    one = len(ranges) == 1 and ranges[0][0] == ranges[0][1]
    return f"{'bar' if one else 'bars'} {joined}{more}"
