"""A track's bars as the handover shows them: where notes are written, how loud what stands is, what is missing."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from hypotaxis.core.drawing.paths import number
from hypotaxis.core.session.readiness import TrackState, runs
from hypotaxis.core.units import FLOOR_DB

WIDTH, HEIGHT, NOTES_H = 304.0, 26.0, 6.0
SOUND_TOP = 10.0
LOWEST_DB, LEAST_H = -42.0, 1.5
MOST_TICKS = 5


@dataclass(frozen=True)
class Box:
    """A rectangle."""

    x: float
    y: float
    w: float
    h: float


@dataclass(frozen=True)
class Covered:
    """A row as shapes. sound: a path; clips: where clip marks stand, in x."""

    notes: tuple[Box, ...]
    sound: str
    ground: tuple[Box, ...]
    missing: tuple[Box, ...]
    empty: tuple[Box, ...]
    clips: tuple[float, ...]


def coverage(state: TrackState, levels: Mapping[int, float], last_bar: int) -> Covered:
    """The picture of a track of so many bars; levels: peak in dBFS by bar, of what stands."""
    pitch = WIDTH / max(last_bar, 1)

    def boxes(bars: Iterable[int], y: float, h: float) -> tuple[Box, ...]:
        return tuple(
            Box(round((first - 1) * pitch, 2), y, round((last - first + 1) * pitch, 2), h)
            for first, last in runs(frozenset(bar for bar in bars if bar <= last_bar))
        )

    high = HEIGHT - SOUND_TOP
    covered = state.covered
    missing = state.written - covered
    return Covered(
        notes=boxes(state.written, 0.0, NOTES_H),
        sound="".join(_bar(bar, levels.get(bar, FLOOR_DB), pitch, high) for bar in sorted(covered) if bar <= last_bar),
        ground=boxes(covered, SOUND_TOP, high),
        missing=boxes(missing, SOUND_TOP, high),
        empty=boxes(frozenset(range(1, last_bar + 1)) - covered - missing, SOUND_TOP, high),
        clips=tuple(round((bar - 0.5) * pitch, 2) for bar in sorted(state.clipped) if bar <= last_bar),
    )


def _bar(bar: int, level_db: float, pitch: float, high: float) -> str:
    """A bar's level as a rectangle of a path, on a scale from LOWEST_DB to full scale."""
    tall = max(LEAST_H, high * min(1.0, max(0.0, 1 - level_db / LOWEST_DB)))
    gap = min(1.0, pitch * 0.2)
    left, top = number((bar - 1) * pitch + gap / 2), number(HEIGHT - tall)
    return f"M{left} {top}h{number(pitch - gap)}V{number(HEIGHT)}h-{number(pitch - gap)}z"


def bar_ticks(last_bar: int) -> tuple[tuple[int, float], ...]:
    """Bars that are named below, with their x: the first, the last, and some between."""
    step = max(1, -(-last_bar // (MOST_TICKS - 1)))
    step = step if step < 4 else -(-step // 4) * 4
    named = [bar for bar in range(1, last_bar, step) if last_bar - bar >= step / 2] + [last_bar]
    return tuple((bar, round((bar - 1) * WIDTH / max(last_bar, 1), 2)) for bar in dict.fromkeys(named))
