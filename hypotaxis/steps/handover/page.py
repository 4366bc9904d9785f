"""What the handover's page shows: which tracks are ready, what goes in, how large that is."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from uuid import UUID

import numpy as np
from django.utils import timezone
from django.utils.formats import date_format

from hypotaxis.core.drawing.coverage import HEIGHT, WIDTH, Covered, bar_ticks, coverage
from hypotaxis.core.drawing.peaks import columns_of
from hypotaxis.core.errors import SoundLost
from hypotaxis.core.formats.plain import from_json
from hypotaxis.core.formats.sound import FLAC
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.handover import (
    AUDIO,
    FILLED,
    NAMES,
    NOTES,
    SESSION,
    SHEET,
    STANDING,
    TABLE,
    TAKES,
    TIMELINE,
    Wish,
)
from hypotaxis.core.session.readiness import Readiness, TrackState, bars_told, readiness
from hypotaxis.core.units import FLOOR_DB, counted, factor_to_db, signed
from hypotaxis.records import audio
from hypotaxis.records.models import Job, Session, Track
from hypotaxis.records.patch_lists import lists_of
from hypotaxis.records.plan import last_bar_of, notes_of
from hypotaxis.records.stamps import kept_while
from hypotaxis.records.standing import KnownTake, known_takes
from hypotaxis.records.track_sound import TrackSound
from hypotaxis.steps.handover import archive
from hypotaxis.steps.handover.archive import Contents, Made


@dataclass(frozen=True, eq=False)
class TrackRow:
    """A track as the page lists it. placed: by how many ms what stands was moved, in words."""

    track: Track
    tab: str
    placed: str
    ready: Readiness
    picture: Covered
    spoken: str
    """The picture in words."""

    @property
    def key(self) -> str:
        return str(self.track.uid)


KEPT = 256
"""Peaks of takes, some hundred numbers each."""


@dataclass(frozen=True)
class Item:
    """Something that may go in. size: in MB, in words."""

    key: str
    name: str
    told: str
    size: str
    chosen: bool


class HandoverPage:
    """Of a session."""

    width, height = WIDTH, HEIGHT

    def __init__(self, session: Session, plan: Plan, wish: Wish) -> None:
        self.session, self.plan, self.wish = session, plan, wish
        self.last_bar = last_bar_of(session)

    @cached_property
    def contents(self) -> Contents:
        """What the wish comes to."""
        return archive.contents(self.session, self.plan, self.wish)

    @cached_property
    def rows(self) -> list[TrackRow]:
        """The tracks that have notes or takes."""
        tracks, takes = self.contents.tracks, known_takes(self.session)
        placed = {uid for uid, mine in takes.items() if any(take.placed for take in mine)}
        voiced = {one.voice_of_id for one in tracks if one.uid in placed}
        rows = [self._row(one, takes.get(one.uid, ()), one.uid in voiced) for one in tracks]
        return [row for row in rows if row is not None]

    @property
    def sounds(self) -> Mapping[UUID, TrackSound]:
        """What stands of each track."""
        return self.contents.stands

    @cached_property
    def _measuring(self) -> frozenset[UUID]:
        """The tracks (uids) that have takes which are being measured."""
        waiting = self.session.takes.kept().waiting().filter(beside=False, placement=None)
        waiting = waiting.filter(run__measuring__state__in=Job.UNFINISHED).values_list("track_id", flat=True)
        return kept_while(("takes", "work"), ("waits", str(self.session.uid)), lambda: frozenset(waiting.all()))

    def _row(self, track: Track, mine: Sequence[KnownTake], voiced: bool) -> TrackRow | None:
        state, sound = self._state(track, mine)
        if not state.written and not mine:
            return None
        instrument = self.plan.instrument(track.instrument_uid) or self.plan.loop(track.loop_uid)
        if voiced:
            ready = Readiness(told=("its single voices are handed over",))
        else:
            ready = readiness(state)
        stands = [sound.takes[one.uid] for one in sound.stretches] if sound else []
        levels = self._levels(sound) if sound else {}
        moved = [signed(take.placement * 1000 / take.sample_rate, 1) for take in stands]
        told = moved[0] + (" …" if len(set(moved)) > 1 else "") if moved else ""
        picture = coverage(state, levels, self.last_bar)
        missing = f", {bars_told(state.missing)} missing" if state.missing else ""
        spoken = f"{track.name}: takes stand for {len(state.covered)} of {self.last_bar} bars{missing}"
        return TrackRow(track, instrument.colour if instrument else "", told, ready, picture, spoken)

    def _state(self, track: Track, mine: Sequence[KnownTake]) -> tuple[TrackState, TrackSound | None]:
        sound = self.sounds.get(track.uid)
        stretches = sound.stretches if sound else ()
        stands = [sound.takes[one.uid] for one in stretches]
        state = TrackState(
            written=self._written(track),
            stretches=stretches,
            takes=len(mine),
            unplaced=sum(not take.placed and not take.offered.silent for take in mine),
            measuring=track.uid in self._measuring,
            clipped=frozenset(self._clipped(sound)) if sound else frozenset(),
            doubts=tuple(doubt.what for take in stands if take.doubtful for doubt in take.doubted),
            lost="" if stands else next((take.lost for take in mine if take.placed and take.lost), ""),
            borrowed=next((take.borrowed for take in stands if take.borrowed), ""),
            apart=any(take.run.apart for take in stands),
        )
        return state, sound

    @cached_property
    def _lines(self) -> np.ndarray:
        """The ticks of the bar lines, the last one behind the session."""
        tempo = self.session.tempo_map
        return np.array([tempo.bar_tick(bar) for bar in range(1, self.last_bar + 2)])

    def _written(self, track: Track) -> frozenset[int]:
        if track.loop_uid:
            sound = self.sounds.get(track.fed_by_id)
            return frozenset(
                bar for one in (sound.stretches if sound else ()) for bar in range(one.first_bar, one.last_bar + 1)
            )
        bars = np.unique(np.searchsorted(self._lines, notes_of(track)["tick"], side="right"))
        return frozenset(int(bar) for bar in bars if bar <= self.last_bar)

    def _clipped(self, sound: TrackSound):
        """The bars of what stands in which it clips."""
        tempo = self.session.tempo_map
        for one in sound.stretches:
            take = sound.takes[one.uid]
            found = audio.figures_kept(take.file) if take.clipped else None
            for frame in found.clips if found else ():
                tick = tempo.tick_at_us(max(0, (take.start + frame) * 1e6 / take.sample_rate))
                bar = tempo.position(tick).bar + one.moved
                if one.first_bar <= bar <= one.last_bar:
                    yield bar

    def _levels(self, sound: TrackSound) -> dict[int, float]:
        """The peak of what stands in each bar, dBFS."""
        found: dict[int, float] = {}
        for one in sound.stretches:
            take = sound.takes[one.uid]
            bars = range(one.first_bar, one.last_bar + 1)
            edges = tuple(sound.bar_at(bar - one.moved) - take.start for bar in (*bars, bars[-1] + 1))
            try:
                peaks = _peaks_between(take.sound_file[0], edges)
            except SoundLost:
                continue
            for bar, peak in zip(bars, peaks, strict=True):
                found[bar] = max(FLOOR_DB, factor_to_db(peak * abs(take.factor)))
        return found

    @property
    def told(self) -> str:
        """How many tracks are ready, in words."""
        ready = sum(row.ready.is_ready for row in self.rows)
        return f"{ready} of {counted(len(self.rows), 'track')} ready"

    @property
    def to_mend(self) -> int:
        """How many are not."""
        return sum(not row.ready.is_ready for row in self.rows)

    @property
    def ticks(self) -> tuple[tuple[int, float], ...]:
        """Bars that are named below the rows."""
        return bar_ticks(self.last_bar)

    @cached_property
    def items(self) -> list[Item]:
        """What may go in."""
        sizes, chosen = self.contents.sizes, self.wish.items
        return [Item(key, name, told, _mb(sizes[key]), key in chosen) for key, name, told in self._items()]

    def _items(self) -> Iterator[tuple[str, str, str]]:
        """(key, name, what it is) of each."""
        wish, lists = self.wish, lists_of(self.plan)
        as_flac = " as FLAC" if wish.packed else ""
        files = counted(len(self.contents.sounds), "file")
        rate = f"{wish.rate} Hz" if wish.rate else "at its rate"
        sounds = {STANDING: "What stands of each track", TAKES: "Every placed take"}.get(wish.sounds, "Each group")
        parts = counted(sum(track.is_written for track in self.contents.tracks), "part")
        maps = counted(sum(len(one.note_maps) for one in lists), "note map")
        yield AUDIO, sounds, f"{files}, {wish.form}, {rate}, with their time reference"
        yield FILLED, "The same, filled from the beginning", "for hosts that read no time reference"
        also = ", and naming the files above" if AUDIO in wish.items and wish.form != FLAC else ""
        yield TIMELINE, "The same on a time line", f"AAF, at their places to the sample: 24 bit inside{also}"
        yield TABLE, "What begins where", "a table of the files and their places"
        yield NOTES, "Notes", f"tempo, sections, program changes with their gap; {parts} alone, also without sounds"
        yield NAMES, "Names", f"{counted(len(lists), 'patch list')}, {maps}"
        yield SHEET, "The sheet of settings", "PDF, A4, with the picture of the rig"
        yield (
            SESSION,
            "The session, to open again",
            f"here or on another desk; all takes{as_flac}, also those that do not stand",
        )

    @property
    def whole(self) -> str:
        """What all that is chosen comes to, in MB."""
        return _mb(self.contents.size)

    @property
    def free(self) -> str:
        """Room on the disk, in GB."""
        return f"{audio.free_bytes() / 1e9:.0f}"

    @cached_property
    def job(self) -> Job | None:
        """The newest archive that was asked for."""
        return archive.newest(self.session)

    @cached_property
    def made(self) -> Made | None:
        """It, where it is there."""
        return archive.came_of(self.job) if self.job else None

    @property
    def made_mb(self) -> str:
        return _mb(self.made.size) if self.made else ""

    @property
    def made_told(self) -> str:
        """When it was made, and whether of what is chosen now, in words."""
        at = date_format(timezone.localtime(self.job.made), "j M H:i")
        same = from_json(Wish, self.job.request) == self.wish
        return f"made {at}" if same else f"made {at}, of another choice"


def _mb(size: float) -> str:
    """Bytes in MB, of little the least that is told."""
    return f"{max(size / 1e6, 0.1 if size else 0):,.1f}"


@lru_cache(KEPT)
def _peaks_between(file: str, edges: tuple[float, ...]) -> tuple[float, ...]:
    """The peaks of a take's sound from each edge to the next; a file is named by its content. Raises SoundLost."""
    low, high = columns_of(audio.peaks(file), np.array(edges))
    return tuple(np.maximum(np.abs(low), np.abs(high)).tolist())
