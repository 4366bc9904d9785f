"""Templates that ship with the program: plain patterns of a bar, by the names that voices have nearly everywhere.

The rhythms are common practice: a backbeat with eighths, the same in triplets, quarters with off-beat hats.
"""

from collections.abc import Sequence

from hypotaxis.core.grid.values import Grid, Pattern, Row, Step
from hypotaxis.core.session.templates import GRID, GridTemplate, Template

KICK, SNARE, HAT, OPEN_HAT = 36, 38, 42, 46
_NAMES = ((KICK, "kick"), (SNARE, "snare"), (HAT, "closed hi-hat"), (OPEN_HAT, "open hi-hat"))


def _row(note: int, places: Sequence[int], *, a_quarter: int = 4, soft: Sequence[int] = ()) -> Row:
    steps = tuple(Step(place, 70 if place in soft else 100) for place in sorted({*places, *soft}))
    return Row(note, a_quarter, 0, steps)


def _bar(*rows: Row) -> GridTemplate:
    return GridTemplate(Grid((Pattern("A", rows),), ("A",)), _NAMES)


STARTERS: dict[str, dict[str, Template]] = {
    GRID: {
        "Backbeat in eighths": _bar(
            _row(KICK, (0, 8)), _row(SNARE, (4, 12)), _row(HAT, (0, 4, 8, 12), soft=(2, 6, 10, 14))
        ),
        "Backbeat in triplets": _bar(
            _row(KICK, (0, 6), a_quarter=3),
            _row(SNARE, (3, 9), a_quarter=3),
            _row(HAT, (0, 3, 6, 9), a_quarter=3, soft=(2, 5, 8, 11)),
        ),
        "Kick on the quarters": _bar(
            _row(KICK, (0, 4, 8, 12)), _row(SNARE, (4, 12), soft=()), _row(OPEN_HAT, (2, 6, 10, 14))
        ),
    }
}
