"""A session's takes heard together: what stands of each track, at its level and side, in step to the sample.

Nothing is held in memory but the stretch that is asked for, so an hour of many takes costs no more than a minute.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from hypotaxis.core.errors import SoundLost
from hypotaxis.core.mixing.desk import ARRIVED, BEATS, NOTES, OFF, PLACED, Fader, Heard, Strip, heard, mixed, sides
from hypotaxis.core.mixing.joined import Joined
from hypotaxis.core.playing.count_in import Beat, ClickTrack, beats
from hypotaxis.core.session.listening import InputMeter
from hypotaxis.core.session.schedule import LEAD_IN_S, TAIL_S
from hypotaxis.core.units import counted
from hypotaxis.records.models import Session, Track
from hypotaxis.records.plan import last_bar_of, notes_of, tracks_of
from hypotaxis.records.standing import KnownTake, known_takes
from hypotaxis.records.track_sound import TrackSound, tracks_sound

HOLD_S = 3.0
"""How long a meter shows a peak."""
BLOCK = 65_536


@dataclass(frozen=True, eq=False)
class MixedTrack:
    """A track at the desk. sound: what there is to hear of it, None = nothing; why: the reason, in words."""

    row: Track
    sound: TrackSound | None
    why: str = ""

    @property
    def key(self) -> str:
        """Its uid."""
        return str(self.row.uid)


@dataclass(frozen=True)
class Metered:
    """Levels in dBFS, one a step: of a track by its key, or of the sum. held: the highest of the last HOLD_S."""

    levels: tuple[float, ...]
    held: tuple[float, ...]


class SessionMix:
    """What is heard of a session. how: one of desk.AS; click: one of desk.CLICKS; without: tracks (uids) that are left
    out, since they are recorded; counted: beats of a count-in, in s of the session."""

    def __init__(
        self,
        session: Session,
        *,
        rate: int,
        how: str = PLACED,
        click: str = OFF,
        click_db: float = -12.0,
        counted: Sequence[Beat] = (),
        without: Sequence[str] = (),
    ) -> None:
        self.session, self.rate, self.how, self.tempo = session, rate, how, session.tempo_map
        self.mixing = session.mixing
        self._click, self._click_db, self._without = click, click_db, frozenset(without)
        self._counted = list(counted)

    @cached_property
    def tracks(self) -> list[MixedTrack]:
        """Every track, in order."""
        rows = tracks_of(self.session)
        sounds = tracks_sound(self.session, rows, only_placed=self.how == PLACED, arrived=self.how == ARRIVED)
        known = known_takes(self.session)
        found = [self._track(row, known.get(row.uid, ()), sounds.get(row.uid)) for row in rows]
        dry = {one.row.fed_by_id for one in found if one.sound and one.row.holds_dry}
        voiced = {one.row.voice_of_id for one in found if one.sound or one.key in self._without}
        instead = dict.fromkeys(dry, "an effect's return holds it, too") | dict.fromkeys(
            voiced, "its single voices are heard instead"
        )
        return [MixedTrack(one.row, None, instead[one.row.uid]) if one.row.uid in instead else one for one in found]

    def _track(self, row: Track, takes: Sequence[KnownTake], sound: TrackSound | None) -> MixedTrack:
        if str(row.uid) in self._without:
            return MixedTrack(row, None, "it is being recorded")
        if not takes:
            return MixedTrack(row, None, "no take yet")
        if sound is None:
            placed = [take for take in takes if take.placed or self.how != PLACED]
            if all(take.lost for take in placed):
                lost = all(take.lost for take in takes)
                return MixedTrack(row, None, "the sound of its takes is lost" if lost else "no take of it is placed")
            return MixedTrack(row, None, "none of its takes stands")
        if sound.rate != self.rate:
            return MixedTrack(row, None, f"it was recorded at {sound.rate} Hz, and the rig runs at {self.rate}")
        return MixedTrack(row, sound)

    @cached_property
    def faders(self) -> dict[str, Fader]:
        """Of the tracks that are heard."""
        strips = [Strip(one.key, one.row.fader, one.row.group) for one in self.tracks if one.sound]
        return heard(strips, self.mixing.groups)

    @cached_property
    def sounds(self) -> dict[str, Heard]:
        """What is summed, by the key of its track; "" for the click."""
        faders = self.faders
        found = {}
        for one in self.tracks:
            if one.key in faders:
                whole = Joined(one.sound.pieces(), self.rate)
                found[one.key] = Heard(_while_it_is_there(whole), whole.channels, faders[one.key])
        if clicks := [*self._counted, *self._clicks()]:
            track = ClickTrack(clicks, rate=self.rate, level_db=self._click_db)
            found[""] = Heard(lambda first, last: track(first, last - first)[:, None], 1, Fader())
        return found

    def _clicks(self) -> list[Beat]:
        if self._click == BEATS:
            return beats(self.tempo, first_bar=1, last_bar=last_bar_of(self.session), count_in=0, first_s=0.0)
        if self._click == NOTES:
            ticks = [notes_of(one.row)["tick"] for one in self.tracks if one.key in self.faders]
            struck = np.unique(np.concatenate([np.zeros(0, int), *ticks]))
            return [Beat(float(at) / 1e6, True) for at in self.tempo.us_at(struck)]
        return []

    @cached_property
    def span(self) -> tuple[int, int]:
        """Session positions between which there may be anything: from the lead-in to what rings on."""
        end = float(self.tempo.samples_at(self.tempo.bar_tick(last_bar_of(self.session) + 1), self.rate))
        ends = [one.sound.span[1] for one in self.tracks if one.sound]
        return -round(LEAD_IN_S * self.rate), max([round(end + TAIL_S * self.rate), *ends])

    def read(self, first: int, last: int) -> np.ndarray:
        """The sum between two session positions, shape (frames, 2)."""
        return mixed(self.sounds.values(), first, last)

    def levels(self, first: int, last: int, step_s: float) -> dict[str, Metered]:
        """The peaks of each track, and under "" of the sum, from one session position to another, a value a step."""
        step = max(1, round(step_s * self.rate))
        early = first - round(HOLD_S * self.rate)
        total = np.zeros((last - early, 2))
        found = {}
        for key, one in self.sounds.items():
            frames = one.read(early, last)
            mine = np.stack(
                [gain * frames[:, side] for gain, side in zip(sides(one.fader, one.channels), (0, -1), strict=True)], 1
            )
            total += mine
            if key:
                found[key] = self._metered(mine, step, first - early)
        return found | {"": self._metered(total, step, first - early)}

    def _metered(self, sound: np.ndarray, step: int, since: int) -> Metered:
        meter = InputMeter("", hold_frames=round(HOLD_S * self.rate))
        levels, held = [], []
        for start in range(since % step, len(sound) - step + 1, step):
            meter.feed(np.abs(sound[start : start + step]).max(axis=1))
            if start >= since:
                levels.append(meter.level_db)
                held.append(meter.held_db)
        return Metered(tuple(levels), tuple(held))

    @property
    def left_out(self) -> list[str]:
        """What is not heard, and why, in words: the tracks that have takes or notes."""
        return [f"{one.row.name}: {one.why}" for one in self.tracks if one.why]

    @property
    def told(self) -> str:
        """What is heard, in words."""
        return f"{counted(len(self.faders), 'track')} heard"


def _while_it_is_there(whole: Joined):
    """Silence from where a file turns out to be damaged: the others go on."""

    def read(first: int, last: int) -> np.ndarray:
        try:
            return whole.read(first, last)
        except SoundLost:
            return np.zeros((last - first, whole.channels))

    return read
