"""Which takes stand for the tracks of a session, asked without reading the takes themselves.

A session may hold hundreds of takes with thousands of hits each. The rule of what stands (core.session.standing) asks
little of each; only what stands, or is shown, is read whole then.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from uuid import UUID

from django.db.models import BooleanField, Case, QuerySet, When
from django.db.models.fields.json import KT

from hypotaxis.core.session.standing import Offered, Stretch, standing
from hypotaxis.records import audio
from hypotaxis.records.models import Pass, Session, Take, Track
from hypotaxis.records.models.session import bars_held, good, silent
from hypotaxis.records.stamps import kept_while


@dataclass(frozen=True)
class KnownTake:
    """A kept take by its track's own return, as far as the rule asks, and where its sound is."""

    offered: Offered
    placed: bool
    file: str
    frames: int
    channels: int

    @property
    def uid(self) -> str:
        return self.offered.uid

    @property
    def lost(self) -> str:
        """What is wrong with the file of its sound, in words; "" where it is there."""
        return audio.what_is_lost(self.file, frames=self.frames, channels=self.channels)


def known_takes(session: Session) -> Mapping[UUID, tuple[KnownTake, ...]]:
    """The takes of each track (uid) by its own return, that are not put away, the newest first."""
    return kept_while(("takes",), ("known takes", str(session.uid)), lambda: _read(session))


def _read(session: Session) -> Mapping[UUID, tuple[KnownTake, ...]]:
    runs = {}
    every = Pass.objects.filter(uid__in=session.takes.values("run")).defer("setup", "meters", "moved")
    for run in every.annotate(before=KT("setup__run_in")):
        _of_session(run, session)
        runs[run.uid] = (run.bars, int(run.before or 0))
    found: dict[UUID, list[KnownTake]] = defaultdict(list)
    plain = ("track_id", "run_id", "uid", "number", "round", "trimmed", "placement", "peak_db", "accepted")
    sound = ("file", "frames", "channels", "fitted", "fitted_frames")
    doubted = Case(When(doubts=[], then=False), default=True, output_field=BooleanField())
    measured = Case(When(measurement__isnull=True, then=False), default=True, output_field=BooleanField())
    rows = session.takes.kept().filter(beside=False, track__away=False).annotate(doubted=doubted, told=measured)
    for track, run, uid, number, time, trimmed, placement, peak_db, accepted, *rest, doubtful, told in rows.values_list(
        *plain, *sound, "doubted", "told"
    ):
        file, frames, channels, fitted, fitted_frames = rest
        placed = placement is not None
        bars = tuple(trimmed) or bars_held(*runs[run], time)
        stands = good(measured=bool(told), placed=placed, doubted=bool(doubtful), accepted=accepted)
        offered = Offered(str(uid), number, *bars, good=stands, silent=silent(peak_db))
        if fitted and placed:
            file, frames = fitted, fitted_frames
        found[track].append(KnownTake(offered, placed, file, frames, channels))
    return {track: tuple(takes) for track, takes in found.items()}


def _of_session(run: Pass, session: Session) -> None:
    """Let a pass of this session know it as it is here; takes may come from a pass of another."""
    if run.session_id == session.uid:
        run.session = session


def stretches_of(track: Track, takes: Iterable[KnownTake], *, there: bool = False) -> tuple[Stretch, ...]:
    """What stands of a track, of these takes. there: of those only whose sound is there."""
    takes = {one.uid: one for one in takes}
    while True:
        found = standing((one.offered for one in takes.values()), track.choices)
        lost = {one.uid for one in found if takes[one.uid].lost} if there else ()
        if not lost:
            return found
        takes = {uid: one for uid, one in takes.items() if uid not in lost}


def whole_takes(session: Session, uids: Iterable[str]) -> dict[str, Take]:
    """These takes read whole, but for their hits, by uid, the newest first."""
    return read_whole(session, session.takes.filter(uid__in=set(uids)))


def read_whole(session: Session, takes: QuerySet) -> dict[str, Take]:
    """Takes of a session with all that they belong to, but for their hits, by uid. Those of one pass and one track have
    it in common."""
    found = {}
    for row in takes.figures().prefetch_related("run", "track"):
        row.session = row.track.session = session
        _of_session(row.run, session)
        found[str(row.uid)] = row
    return found
