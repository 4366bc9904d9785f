"""What is done to the notes of one track: straightened, brought back as they were played, freed of doubled notes."""

from dataclasses import replace

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.session.arrange import printed
from hypotaxis.core.session.changing import NoteChange, changed
from hypotaxis.core.session.doubled_notes import Doubled, doubled_notes, without_doubled
from hypotaxis.core.session.generators import Generator
from hypotaxis.core.session.score import Score, ScorePart, called_by
from hypotaxis.core.session.straighten import Straightening, straightened
from hypotaxis.core.units import counted
from hypotaxis.records.journal import Edit, change_session
from hypotaxis.records.models import Track
from hypotaxis.records.plan import controls_of, notes_of, part_of
from hypotaxis.steps.session.services.arranging import arrange_part

BY_PATTERNS = "Patterns that are on play what is written too. Switched off, their steps are kept."


def straighten(track: Track, how: Straightening) -> str:
    """Move a track's notes towards a division, always from how they were played; what was done, in words."""
    part = part_of(track)
    played = part.notes if part.played is None else part.played
    moved = straightened(played, track.session.tempo_map, how)
    arrange_part(track, f"Straighten {track.name}", replace(part, notes=moved, played=played))
    swing = f", swing {how.swing:g} %" if how.swing != 50 else ""
    return f"{counted(len(moved), 'note')} of {track.name} straightened to {how.division}, {how.strength:.0%}{swing}."


def print_notes(track: Track) -> str:
    """Turn what patterns and generator play into notes, and switch them off in the same move; what was done, in words.
    Raises CannotSchedule where nothing would be printed."""
    part = part_of(track)
    if not any(one and one.on for one in (part.grid, part.generator)):
        raise CannotSchedule(f"{track.name} has no pattern or generator that is on, so there is nothing to print.")
    after = printed(part, track.session.tempo_map, track.session.end_tick)
    if not len(after.notes):
        raise CannotSchedule("Nothing would be printed: no pattern is laid along the bars, or none has a step.")
    arrange_part(track, f"Print {track.name}", after)
    what = " and ".join(
        name for name, one in (("patterns", part.grid), ("generator", part.generator)) if one and one.on
    )
    return f"{counted(len(after.notes), 'note')} of {track.name} printed, and its {what} off. Undo brings both back."


def generate(track: Track, how: Generator) -> str:
    """Let a generator play from a track's notes; what was done, in words."""
    change_session(track.session, f"{how.kind.capitalize()} on {track.name}", [_generator(track, how)])
    return f"{track.name} plays its notes as {how.kind} now. They stay as they are until it is printed."


def stop_generating(track: Track) -> str:
    """Let a track play its notes as they are; what was done, in words."""
    part = part_of(track)
    if part.generator:
        change_session(
            track.session, f"{track.name} as written", [_generator(track, replace(part.generator, on=False))]
        )
    return f"{track.name} plays its notes as they are written."


def _patterns_off(track: Track) -> Edit:
    return Edit("track", str(track.uid), {"grid": to_json(replace(part_of(track).grid, on=False))})


def _generator(track: Track, how: Generator) -> Edit:
    return Edit("track", str(track.uid), {"generator": to_json(how)})


def change(track: Track, how: NoteChange) -> str:
    """Change the notes of some bars together; what was done, in words. Raises BadBars."""
    part = part_of(track)
    notes, count = changed(part.notes, track.session.tempo_map, how)
    arrange_part(track, f"{'Remove' if how.remove else 'Change'} notes of {track.name}", part.with_notes(notes))
    done = "removed" if how.remove else "changed"
    return f"{counted(count, 'note')} of {track.name} {done}, bars {how.first_bar} to {how.last_bar}."


def file_of(track: Track) -> bytes:
    """A track alone as a Standard MIDI File, with the session's tempo and meters."""
    session = track.session
    sound = track.sound
    part = ScorePart(track.name, track.file_channel, notes_of(track), controls_of(track))
    score = Score(session.tempo_map, (called_by(part, sound) if sound else part,), session.end_tick)
    return write_smf(score)


def as_played(track: Track) -> str:
    """Bring a track's notes back as they were played. Raises CannotSchedule where they were not straightened."""
    part = part_of(track)
    if part.played is None:
        raise CannotSchedule(
            f"{track.name} stands as it was played, or was changed otherwise since it was straightened."
        )
    arrange_part(track, f"{track.name} as played", part.with_notes(part.played))
    return f"{track.name} stands as it was played."


def doubled_in(track: Track) -> Doubled:
    """What stands twice in a track: among its own notes, otherwise by what plays beside them."""
    part, tempo = part_of(track), track.session.tempo_map
    found = doubled_notes(part.notes, tempo)
    if found.count or not (part.grid and part.grid.on):
        return found
    found = doubled_notes(notes_of(track), tempo)
    return replace(found, cause=BY_PATTERNS) if found.count else found


def undouble(track: Track) -> str:
    """Take out what stands twice; what was done, in words. Raises CannotSchedule where nothing does."""
    found = doubled_in(track)
    if not found.count:
        raise CannotSchedule(f"No note of {track.name} stands twice.")
    part = part_of(track)
    if found.cause == BY_PATTERNS:
        change_session(track.session, f"Patterns of {track.name} off", [_patterns_off(track)])
        return f"The patterns of {track.name} are off, so {counted(found.count, 'note sounds', 'notes sound')} once."
    arrange_part(track, f"Doubled notes of {track.name}", part.with_notes(without_doubled(part.notes, found)))
    return f"{counted(found.count, 'doubled note')} of {track.name} removed."
