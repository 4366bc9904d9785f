"""What is done to the notes of one track: straightened, brought back as they were played, freed of doubled notes."""

from dataclasses import replace

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.session.arrange import Part, Piece
from hypotaxis.core.session.changing import NoteChange, changed
from hypotaxis.core.session.doubled_notes import Doubled, doubled_notes, without_doubled
from hypotaxis.core.session.score import Score, ScorePart, called_by
from hypotaxis.core.session.straighten import Straightening, straightened
from hypotaxis.core.units import counted
from hypotaxis.records.models import Track
from hypotaxis.records.plan import controls_of, notes_of, part_of
from hypotaxis.steps.session.services.arranging import arrange, piece_of


def straighten(track: Track, how: Straightening) -> str:
    """Move a track's notes towards a division, always from how they were played; what was done, in words."""
    piece = piece_of(track.session)
    part = piece.parts[str(track.uid)]
    played = part.notes if part.played is None else part.played
    moved = straightened(played, piece.tempo, how)
    _lay(track, piece, f"Straighten {track.name}", replace(part, notes=moved, played=played))
    swing = f", swing {how.swing:g} %" if how.swing != 50 else ""
    return f"{counted(len(moved), 'note')} of {track.name} straightened to {how.division}, {how.strength:.0%}{swing}."


def change(track: Track, how: NoteChange) -> str:
    """Change the notes of some bars together; what was done, in words. Raises BadBars."""
    piece = piece_of(track.session)
    part = piece.parts[str(track.uid)]
    notes, count = changed(part.notes, piece.tempo, how)
    _lay(track, piece, f"{'Remove' if how.remove else 'Change'} notes of {track.name}", part.with_notes(notes))
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
    piece = piece_of(track.session)
    part = piece.parts[str(track.uid)]
    if part.played is None:
        raise CannotSchedule(
            f"{track.name} stands as it was played, or was changed otherwise since it was straightened."
        )
    _lay(track, piece, f"{track.name} as played", part.with_notes(part.played))
    return f"{track.name} stands as it was played."


def doubled_in(track: Track) -> Doubled:
    """What stands twice in a track's own notes."""
    return doubled_notes(part_of(track).notes, track.session.tempo_map)


def undouble(track: Track) -> str:
    """Take out what stands twice; what was done, in words. Raises CannotSchedule where nothing does."""
    found = doubled_in(track)
    if not found.count:
        raise CannotSchedule(f"No note of {track.name} stands twice.")
    piece = piece_of(track.session)
    part = piece.parts[str(track.uid)]
    _lay(track, piece, f"Doubled notes of {track.name}", part.with_notes(without_doubled(part.notes, found)))
    return f"{counted(found.count, 'doubled note')} of {track.name} removed."


def _lay(track: Track, piece: Piece, title: str, part: Part) -> None:
    arrange(track.session, title, replace(piece, parts={**piece.parts, str(track.uid): part}))
