"""A part that is recorded: its notes are frozen, its live return is silent, and its box is free for the next one."""

from collections.abc import Iterable

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.standing import Stretch
from hypotaxis.core.units import counted
from hypotaxis.records.journal import Edit, change_session
from hypotaxis.records.models import Track
from hypotaxis.records.plan import notes_of
from hypotaxis.steps.session.services.recording import standing_of


def commit(track: Track, plan: Plan) -> str:
    """Let a track's takes stand for it; what is free then, in words. Raises CannotSchedule where nothing stands."""
    rows = [track, *track.voices.filter(away=False)]
    sounds = [sound for row in rows if (sound := standing_of(track.session, str(row.uid)))]
    if not sounds:
        raise CannotSchedule(f"No placed take stands for {track.name} yet, so nothing would be heard of it any more.")
    _keep(track, f"Commit {track.name}", on=True)
    left = uncovered(track, [one for sound in sounds for one in sound.stretches])
    return " ".join(filter(None, (f"{track.name} is committed.", _free(track, plan), left)))


def take_back(track: Track) -> str:
    """Let a track's notes be sent and changed again; what was done, in words."""
    _keep(track, f"Take {track.name} back", on=False)
    return f"{track.name} is open again: its notes are sent, and can be changed."


def _keep(track: Track, title: str, *, on: bool) -> None:
    # Single voices are recorded in the place of their track, and with it.
    rows = [track, *track.voices.filter(away=False)]
    edits = [Edit("track", str(row.uid), {"committed": on} | ({"armed": False} if on else {})) for row in rows]
    change_session(track.session, title, edits)


def _free(track: Track, plan: Plan) -> str:
    instrument = plan.instrument(track.instrument_uid)
    if instrument is None:
        return ""
    seat = instrument.seat(track.part_uid)
    others = track.session.tracks.playing().filter(instrument_uid=track.instrument_uid, part_uid=track.part_uid)
    left = [row.name for row in others.exclude(uid=track.uid) if len(notes_of(row))]
    if left:
        return f"{instrument.name} is still played by {', '.join(left)}."
    return (
        f"{instrument.name}, channel {seat.channel}, is free for the next part: add a track for it, with another sound."
    )


def uncovered(track: Track, stretches: Iterable[Stretch]) -> str:
    """Bars in which it has notes and no take, in words; "" where it has none."""
    tempo = track.session.tempo_map
    bars = {tempo.position(int(tick)).bar for tick in notes_of(track)["tick"]}
    held = {bar for one in stretches for bar in range(one.first_bar, one.last_bar + 1)}
    left = sorted(bars - held)
    return f"{counted(len(left), 'bar')} with notes have no take, the first is bar {left[0]}." if left else ""
