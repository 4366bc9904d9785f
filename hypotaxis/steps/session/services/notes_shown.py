"""The notes of a session's tracks as its pages draw them, worked out once as long as the tracks stay as they are."""

from collections.abc import Mapping
from functools import cached_property
from uuid import UUID

import numpy as np

from hypotaxis.core.drawing.strips import Span, bars_path, note_boxes
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.playable import Unplayable
from hypotaxis.core.session.score import NOTE
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.records.models import Session
from hypotaxis.records.plan import last_bar_of, notes_of, session_anew, tracks_of
from hypotaxis.records.stamps import kept_while, kept_with
from hypotaxis.steps.session.services.checking import amiss_in
from hypotaxis.steps.session.services.outlines import STRIP_W

NOTES_H = 32
NONE = np.zeros(0, NOTE)
Edges = tuple[np.ndarray, np.ndarray, np.ndarray]
"""Where notes begin and end, in samples, and their pitches."""


class NotesShown:
    """The notes of tracks (core.session.score.NOTE), by uid, none of one that is not known; shared between requests, so
    nobody may change them."""

    def __init__(self, of: Mapping[UUID, np.ndarray], tempo: TempoMap, rate: int, whole: Span) -> None:
        """whole: the strip along which they are drawn."""
        self._of, self._tempo, self._rate, self._whole = of, tempo, rate, whole
        self._edges: dict[UUID, Edges] = {}
        self._paths: dict[UUID, str] = {}

    @cached_property
    def onsets(self) -> np.ndarray:
        """Ticks at which one or more of them begin."""
        return np.unique(np.concatenate([one["tick"] for one in self._of.values()] or [np.zeros(0, int)]))

    def of(self, track: UUID) -> np.ndarray:
        """Those of a track."""
        return self._of.get(track, NONE)

    def edges(self, track: UUID) -> Edges:
        """Where those of a track begin and end."""
        if track not in self._edges:
            notes = self.of(track)
            begun, over = notes["tick"], notes["tick"] + notes["duration"]
            starts, ends = (self._tempo.samples_at(ticks, self._rate) for ticks in (begun, over))
            self._edges[track] = starts, ends, notes["note"]
        return self._edges[track]

    def path(self, track: UUID) -> str:
        """A track's notes, drawn."""
        if track not in self._paths:
            self._paths[track] = self.drawn(track)
        return self._paths[track]

    def drawn(self, track: UUID, only: np.ndarray | None = None) -> str:
        """Some of a track's notes; only: which of them, None = all."""
        return bars_path(note_boxes(*self.edges(track), self._whole, NOTES_H, only))


def notes_shown(session: Session, rate: int) -> NotesShown:
    """The notes of a session's tracks, those that are not put away, along the whole of it."""
    return kept_while(("takes",), ("notes shown", str(session.uid), rate), lambda: _read(session.uid, rate))


def _read(session: UUID, rate: int) -> NotesShown:
    found = session_anew(session)
    if found is None:
        return NotesShown({}, TempoMap(), rate, Span(0.0, 1.0, STRIP_W))
    return NotesShown(
        {one.uid: notes_of(one) for one in tracks_of(found)}, found.tempo_map, rate, whole_of(found, rate)
    )


def whole_of(session: Session, rate: int) -> Span:
    """A session from its first bar to the end of its last, as wide as a strip."""
    tempo = session.tempo_map
    return Span(0.0, float(tempo.samples_at(tempo.bar_tick(last_bar_of(session) + 1), rate)), STRIP_W)


def amiss_shown(session: Session, plan: Plan) -> Mapping[UUID, list[Unplayable]]:
    """What the boxes of a session's tracks cannot play of them, by the track's uid. plan: that of its rig."""
    return kept_with(plan, ("takes", "names"), _amiss, session.uid)


def _amiss(plan: Plan, session: UUID) -> Mapping[UUID, list[Unplayable]]:
    found = session_anew(session)
    return {one.uid: amiss_in(one, plan, notes_of(one)) for one in tracks_of(found)} if found else {}
