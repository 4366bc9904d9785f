"""Which takes stand for the tracks of a session, asked without reading the takes themselves.

A session may hold hundreds of takes with thousands of hits each. The rule of what stands (core.session.standing) asks
little of each; only what stands, or is shown, is read whole then.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from uuid import UUID

from django.db.models import Q
from django.db.models.fields.json import KT

from hypotaxis.core.session.standing import Offered, Stretch, standing
from hypotaxis.core.session.takes import start_of
from hypotaxis.records import audio
from hypotaxis.records.models import Pass, Session, Take, Track
from hypotaxis.records.models.session import bars_held, good, silent, whether
from hypotaxis.records.stamps import kept_while, rows_while


@dataclass(frozen=True)
class KnownTake:
    """A kept take, as far as the rule asks, and where its sound is."""

    track: UUID
    """Of its track."""
    run: UUID
    """Of its pass."""
    offered: Offered
    """As the rule of what stands sees it."""
    placement: int | None
    """Shift in samples; None while it stands where it arrived."""
    beside: bool
    """It came by another return than its track's own, so it never stands."""
    return_name: str
    """Of the further return it came by, "" of the main one."""
    file: str
    """Of the sound that stands, as are the frames."""
    frames: int
    """How long that is."""
    channels: int
    """1 or 2."""
    rate: int
    """Frames a second."""
    start: int
    """Session position of its first frame as it stands, in samples of its rate."""

    @property
    def uid(self) -> str:
        return self.offered.uid

    @property
    def placed(self) -> bool:
        return self.placement is not None

    @property
    def lost(self) -> str:
        """What is wrong with the file of its sound, in words; "" where it is there."""
        return audio.what_is_lost(self.file, frames=self.frames, channels=self.channels)


@dataclass(frozen=True)
class _Known:
    """The takes of a session that are not put away, the newest first; own: by its own return, of each track."""

    every: tuple[KnownTake, ...]
    own: Mapping[UUID, tuple[KnownTake, ...]]


def known_takes(session: Session) -> Mapping[UUID, tuple[KnownTake, ...]]:
    """The takes of each track (uid) by its own return, that are not put away, the newest first."""
    return _known(session).own


def placed_takes(session: Session, tracks: Iterable[Track]) -> list[KnownTake]:
    """The placed takes of these tracks by all returns, in the order of the tracks, the newest first."""
    places = {track.uid: place for place, track in enumerate(tracks)}
    placed = (take for take in every_take(session) if take.placed and take.track in places)
    return sorted(placed, key=lambda take: places[take.track])


def every_take(session: Session) -> tuple[KnownTake, ...]:
    """The takes by all returns of all tracks, those that are put away left out, the newest first."""
    return _known(session).every


def _known(session: Session) -> _Known:
    return kept_while(("takes",), ("known takes", str(session.uid)), lambda: _read(session))


def _read(session: Session) -> _Known:
    found, own = [], defaultdict(list)
    plain = ("track_id", "run_id", "uid", "number", "round", "trimmed", "placement", "peak_db", "accepted")
    back = ("beside", "return_name")
    sound = ("file", "frames", "channels", "sample_rate", "first_sample", "fitted", "fitted_frames")
    doubted, measured = whether(~Q(doubts=[])), whether(measurement__isnull=False)
    rows = session.takes.kept().filter(track__away=False).annotate(doubted=doubted, told=measured)
    rows = list(rows.values_list(*plain, *back, *sound, "doubted", "told", named=True))
    runs = _bars_of({one.run_id for one in rows}, session)
    for one in rows:
        if one.run_id not in runs:
            # Thrown away meanwhile.
            continue
        placed = one.placement is not None
        bars = tuple(one.trimmed) or bars_held(*runs[one.run_id], one.round)
        stands = good(measured=bool(one.told), placed=placed, doubted=bool(one.doubted), accepted=one.accepted)
        fits = one.fitted and placed
        take = KnownTake(
            track=one.track_id,
            run=one.run_id,
            offered=Offered(str(one.uid), one.number, *bars, good=stands, silent=silent(one.peak_db)),
            placement=one.placement,
            beside=one.beside,
            return_name=one.return_name,
            file=one.fitted if fits else one.file,
            frames=one.fitted_frames if fits else one.frames,
            channels=one.channels,
            rate=one.sample_rate,
            start=start_of(one.first_sample, one.placement),
        )
        found.append(take)
        if not one.beside:
            own[one.track_id].append(take)
    return _Known(tuple(found), {track: tuple(takes) for track, takes in own.items()})


def _bars_of(uids: Iterable[UUID], session: Session) -> dict[UUID, tuple[tuple[int, int], int]]:
    """Of passes: their bars, and how many were run in to them."""
    found = {}
    for run in Pass.objects.filter(uid__in=uids).defer("setup", "meters", "moved").annotate(before=KT("setup__run_in")):
        _of_session(run, session)
        found[run.uid] = (run.bars, int(run.before or 0))
    return found


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


def whole_takes(session: Session, uids: Iterable[str], tracks: Iterable[Track] = ()) -> dict[str, Take]:
    """These takes with all that they belong to, but for their hits, by uid, the newest first. Those of one pass and one
    track have it in common. tracks: those of theirs that have been read already."""
    wanted, known, found = set(uids), {track.uid: track for track in tracks}, {}
    if not wanted:
        return found

    def read() -> tuple[list[Take], dict[UUID, Pass]]:
        rows = list(session.takes.filter(uid__in=wanted).figures())
        return rows, Pass.objects.in_bulk({row.run_id for row in rows})

    rows, runs = rows_while(("takes",), ("whole takes", str(session.uid), frozenset(wanted)), read)
    known |= Track.objects.in_bulk({row.track_id for row in rows} - set(known))
    for row in rows:
        if row.run_id in runs and row.track_id in known:
            row.session, row.track, row.run = session, known[row.track_id], runs[row.run_id]
            row.track.session = session
            _of_session(row.run, session)
            found[str(row.uid)] = row
    return found
