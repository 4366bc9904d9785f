"""What is done to the patterns of one track; each is a step of the journal."""

from collections.abc import Callable
from dataclasses import replace

from django.db import transaction

from hypotaxis.core.errors import BadBars
from hypotaxis.core.formats.gridcsv import read_grid_table, write_grid_table
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.grid.borrowing import borrowed
from hypotaxis.core.grid.growing import grown
from hypotaxis.core.grid.values import Grid, Pattern
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.units import counted
from hypotaxis.records.journal import Edit, change_session
from hypotaxis.records.models import Track
from hypotaxis.records.patch_lists import voices_of
from hypotaxis.records.plan import last_bar_of
from hypotaxis.steps.session.services.arranging import arrange, piece_of
from hypotaxis.steps.session.services.playing_in import fine

FINE_MS = 0.2
"""Swing and shifts want ticks that are no longer than this."""


def grid_of(track: Track) -> Grid:
    """The patterns of a track; of one that has none yet an empty one, laid along all its bars where the track has no
    notes that it would double."""
    if track.grid:
        return from_json(Grid, track.grid)
    return Grid(order=() if track.notes else ("A",) * last_bar_of(track.session))


def names_of(instrument: Instrument | None) -> dict[int, str]:
    """The names of an instrument's voices by note, in their order."""
    return {voice.note: voice.name for voice in voices_of(instrument)} if instrument else {}


@transaction.atomic
def change_grid(track: Track, title: str, change: Callable[[Grid], Grid]) -> Grid:
    """Change the patterns of a track. The session's ticks are made fine enough for swing and shifts first. Raises
    BadBars."""
    after = change(grid_of(track))
    first, track.grid = not track.grid, to_json(after)
    if first:
        piece = piece_of(track.session)
        finer = fine(piece, FINE_MS)
        if finer is not piece:
            part = replace(finer.parts[str(track.uid)], grid=after)
            arrange(track.session, title, replace(finer, parts={**finer.parts, str(track.uid): part}))
            return after
    change_session(track.session, title, [Edit("track", str(track.uid), {"grid": track.grid})])
    return after


def switch(track: Track, *, on: bool) -> str:
    """Let the patterns sound, or not; what was done, in words."""
    change_grid(track, f"Patterns of {track.name} {'on' if on else 'off'}", lambda grid: replace(grid, on=on))
    return f"The patterns of {track.name} are {'on' if on else 'off; their steps are kept'}."


def grow(track: Track, name: str, notes: list[int], *, density: float, syncopation: float, seed: int) -> str:
    """Grow the rows of these voices in a pattern anew; what was done, in words. Raises BadBars."""
    meter = track.session.tempo_map.meters[0]

    def change(grid: Grid) -> Grid:
        pattern = grid.pattern(name)
        for note in notes:
            how = {"density": density, "syncopation": syncopation, "seed": seed}
            pattern = pattern.with_row(grown(note, **how, beats=meter[1], unit=meter[2]))
        return grid.with_pattern(pattern)

    change_grid(track, f"Grow pattern {name}", change)
    return f"{counted(len(notes), 'row')} of pattern {name} grown from seed {seed}. The same values grow the same."


def borrow(track: Track, plan: Plan, other: Track, theirs: str) -> str:
    """Take over a pattern of another track by the names of its voices; what was done, in words. Raises BadBars."""
    names = [names_of(plan.instrument(row.instrument_uid)) for row in (other, track)]
    grid = grid_of(track)
    found = borrowed(grid_of(other).pattern(theirs), *names, name=grid.free_letter)
    if not found.pattern.rows:
        told = f"None of its voices has a namesake on {track.name}: {', '.join(found.lost)}." if found.lost else ""
        raise BadBars(f"Pattern {theirs} of {other.name} brings nothing. {told}".strip())
    change_grid(track, f"Borrow pattern {theirs} of {other.name}", lambda one: one.with_pattern(found.pattern))
    lost = f" Without a voice here, so left out: {', '.join(found.lost)}." if found.lost else ""
    return f"Pattern {found.pattern.name} is {theirs} of {other.name}.{lost}"


def table_of(track: Track, plan: Plan) -> str:
    """The patterns as a table."""
    return write_grid_table(grid_of(track), names_of(plan.instrument(track.instrument_uid)))


def take_table(track: Track, data: bytes) -> str:
    """The patterns of a table in the place of those there are; what was done, in words. Raises UnreadableFile."""
    grid = read_grid_table(data)
    change_grid(track, f"Patterns of {track.name} from a table", lambda _: grid)
    return f"{counted(len(grid.patterns), 'pattern')} read; those there were come back by undo."


def patterns_of_others(track: Track) -> list[tuple[Track, Pattern]]:
    """What could be borrowed: (track, pattern) of the rig's other tracks."""
    rows = Track.objects.filter(session__rig=track.session.rig, away=False, grid__isnull=False).exclude(uid=track.uid)
    return [(row, one) for row in rows.select_related("session") for one in grid_of(row).patterns if one.rows]
