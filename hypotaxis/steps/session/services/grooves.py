"""Where a groove may be taken from: the notes of another track, or a take as it was played."""

from dataclasses import replace

import numpy as np

from hypotaxis.core.errors import BadBars
from hypotaxis.core.session.groove import LEAST, groove_of
from hypotaxis.core.session.straighten import Straightening, division_ticks
from hypotaxis.core.timing.measurement import Hit
from hypotaxis.records.models import Take, Track
from hypotaxis.records.plan import notes_of

TRACK, TAKE = "track", "take"


def grooves_for(track: Track) -> list[tuple[str, str]]:
    """What a track may take its groove from, as choices of a form."""
    others = track.session.tracks.written().exclude(uid=track.uid)
    found = [(f"{TRACK}/{row.uid}", f"notes of {row.name}") for row in others]
    takes = track.session.takes.measured().select_related("track")
    return [*found, *((f"{TAKE}/{one.uid}", f"take {one.number} of {one.track.name}") for one in takes)]


def with_groove(track: Track, how: Straightening, chosen: str) -> Straightening:
    """The same after a groove, "" = none. Raises BadBars where too little is struck to measure one."""
    kind, _, uid = chosen.partition("/")
    if not kind:
        return how
    strokes = _struck(track.session.takes.get(uid=uid)) if kind == TAKE else _written(track.session.tracks.get(uid=uid))
    tempo = track.session.tempo_map
    found = groove_of(strokes, tempo, division=how.division, step=division_ticks(tempo, how.division))
    if found is None:
        raise BadBars(f"A groove is measured from {LEAST} notes at least; there are {len(strokes)}.")
    return replace(how, groove=found.shares)


def _written(track: Track) -> np.ndarray:
    return notes_of(track)["tick"]


def _struck(take: Take) -> np.ndarray:
    """The ticks at which a take was struck, its own lateness taken off."""
    late = take.measured.lateness_ms * take.sample_rate / 1000
    samples = np.array([hit.onset for hit in (Hit(*one) for one in take.hits) if hit.used]) + take.first_sample - late
    return take.session.tempo_map.ticks_at_us(samples / take.sample_rate * 1e6)
