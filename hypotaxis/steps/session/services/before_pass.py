"""What can be known before a pass without playing a note: whether it could be recorded well, and what is in doubt."""

from collections.abc import Sequence
from dataclasses import dataclass

from hypotaxis.core.errors import CannotSchedule
from hypotaxis.core.findings.finding import WRONG
from hypotaxis.core.session.passes import ArmedTrack, check_pass
from hypotaxis.core.session.schedule import LEAD_IN_S, TAIL_S
from hypotaxis.core.units import clock_text, counted
from hypotaxis.records import audio
from hypotaxis.records.current import InUse
from hypotaxis.records.models import Track
from hypotaxis.steps.session.services import recording

BYTES_A_FRAME = 7
"""Of an input: as it grows (32 bit), and in its take (24 bit)."""


@dataclass(frozen=True)
class Ready:
    """What is known. amiss: what will go wrong; doubts: what may be, each a sentence; told: what it takes."""

    amiss: tuple[str, ...]
    doubts: tuple[str, ...]
    told: str


def ready_for(here: InUse, rows: Sequence[Track], *, first_bar: int, last_bar: int) -> Ready | None:
    """What is known of a pass of the armed tracks among these in these bars; None where none is armed."""
    armed = [recording.bare_track(row, here.plan) for row in rows if row.armed and not row.committed]
    if not armed:
        return None
    tempo = here.session.tempo_map
    first, last = (float(tempo.us_at(tempo.bar_tick(bar))) for bar in (first_bar, max(first_bar, last_bar) + 1))
    seconds = (last - first) / 1e6 + LEAD_IN_S + TAIL_S
    inputs = len({uid for track in armed for uid in track.inputs})
    needed = seconds * here.plan.rig.sample_rate * inputs * BYTES_A_FRAME
    amiss = [*_refused(here, armed), *_findings(here, armed), *_room(needed)]
    told = f"{counted(inputs, 'input')}, {clock_text(seconds)}, {needed / 1e6:,.0f} MB"
    return Ready(tuple(dict.fromkeys(amiss)), tuple(dict.fromkeys(_doubts(here, armed))), told)


def _refused(here: InUse, armed: Sequence[ArmedTrack]) -> list[str]:
    try:
        check_pass(here.plan, armed)
    except CannotSchedule as error:
        return [str(error)]
    return []


def _findings(here: InUse, armed: Sequence[ArmedTrack]) -> list[str]:
    about = {uid for track in armed if track.owner for uid in (track.owner.uid, track.owner.box)}
    return [one.title for one in here.findings if one.severity == WRONG and any(one.concerns(uid) for uid in about)]


def _room(needed: float) -> list[str]:
    free = audio.free_bytes()
    if needed < free:
        return []
    return [f"The disk has room for {free / 1e6:,.0f} MB, and this pass needs {needed / 1e6:,.0f}. Free some first."]


def _doubts(here: InUse, armed: Sequence[ArmedTrack]) -> list[str]:
    found = []
    for track in armed:
        known = here.latenesses.known.get(track.owner.uid) if track.owner else None
        if known and known.stale:
            found.append(f"The lateness of {track.owner.name} is stale: {', '.join(known.stale)}.")
        if track.loop and (known is None or known.lateness_ms is None):
            found.append(
                f"No lateness of {track.owner.name} is known, so its take will not be placed. Sound it on Timing."
            )
    return found
