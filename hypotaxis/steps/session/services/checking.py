"""What a track's box cannot play of its notes, asked before it plays."""

import numpy as np

from hypotaxis.core.plan import Plan
from hypotaxis.core.session.playable import Unplayable, unplayable
from hypotaxis.records.models import Session, Track
from hypotaxis.records.plan import controls_of, loop_of
from hypotaxis.steps.session.services.grids import names_of


def amiss_in(track: Track, plan: Plan, notes: np.ndarray) -> list[Unplayable]:
    """What is amiss with all notes that a track plays; nothing where it has no instrument."""
    instrument = plan.instrument(track.instrument_uid)
    if instrument is None:
        return []
    return unplayable(
        notes,
        track.session.tempo_map,
        plan,
        instrument,
        part=track.part_uid,
        voices=names_of(instrument),
        controls=controls_of(track),
        loop_ticks=_loop_ticks(track.session),
    )


def _loop_ticks(session: Session) -> int:
    loop, tempo = loop_of(session), session.tempo_map
    if not loop.bars:
        return 0
    return tempo.bar_tick(loop.first_bar + loop.bars) - tempo.bar_tick(loop.first_bar)
