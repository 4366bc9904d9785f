"""What the page of a track's takes shows, one below the other, and what is done there."""

from dataclasses import dataclass
from functools import cached_property

from hypotaxis.core.errors import BadBars
from hypotaxis.core.midi.programs import program_in_force, wire_told
from hypotaxis.core.mixing.desk import Fader, check_fader
from hypotaxis.core.mixing.figures import Figures
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.standing import Stretch, choose
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.units import signed, stored_level_text
from hypotaxis.records import audio
from hypotaxis.records.asked import LISTED
from hypotaxis.records.journal import Edit, change_session
from hypotaxis.records.models import Take, Track
from hypotaxis.records.plan import last_bar_of
from hypotaxis.records.standing import known_takes, stretches_of
from hypotaxis.records.track_sound import TrackSound
from hypotaxis.steps.session.services.picture import Picture, TakeView

CLIPS_SHOWN = 8


@dataclass(frozen=True)
class Span:
    """Some bars in per cent of the strip's width."""

    x: float
    w: float


@dataclass(frozen=True)
class Clip:
    """Where a take clips: its bar in words, and the tick that leads there."""

    told: str
    tick: int


@dataclass(frozen=True)
class TakeRow:
    """A take in its row. key: the digit that lets it stand."""

    view: TakeView
    key: int
    path: str
    stands: list[Span]
    figures: Figures | None
    clips: list[Clip]
    called: str

    @property
    def peak(self) -> str:
        return stored_level_text(self.figures.peak_db) if self.figures else "–"

    @property
    def loud(self) -> str:
        return stored_level_text(self.figures.lufs) if self.figures else "–"

    @property
    def floor(self) -> str:
        return stored_level_text(self.figures.floor_db) if self.figures else "–"

    @property
    def missed(self) -> str:
        found = self.view.row.measured
        return str(found.missed) if found else "–"


@dataclass(frozen=True)
class Bracket:
    """A stretch of what stands, with its take; seam: how it begins, in words."""

    span: Span
    number: int
    first_bar: int
    last_bar: int
    seam: str
    played: int
    """The bar in which its first one was played."""

    @property
    def told(self) -> str:
        """Whose bars stand there."""
        if self.played == self.first_bar:
            return f"take {self.number}"
        return f"take {self.number}, its bars {self.played}–{self.played + self.last_bar - self.first_bar}"


class TakesPage:
    """The takes of one track by its main return: the newest and what stands, or every one."""

    def __init__(self, track: Track, plan: Plan, *, every: bool = False) -> None:
        self.track, self.plan = track, plan
        known = known_takes(track.session).get(track.uid, ())
        stands = {one.uid for one in stretches_of(track, known, there=True)}
        mine = [one.uid for place, one in enumerate(known) if every or place < LISTED or one.uid in stands]
        self.not_shown = len(known) - len(mine)
        self.picture = Picture(track.session, plan, tick=0, span_ms=45.0, offset_ms=-5.0, listed=0, more=mine)
        self.takes = sorted(self.picture.these(mine), key=lambda take: take.number)
        self.sound = TrackSound(track, self.takes)
        (self.shown,) = self.picture.tracks(only=(track.uid,))
        self.may_go = [one.uid for one in known if one.uid not in {one.uid for one in self.sound.stretches}]
        """Uids of its takes that do not stand anywhere."""

    def span_of(self, first_bar: int, last_bar: int) -> Span:
        """Where some bars stand."""
        tempo, whole = self.picture.tempo, self.picture.whole
        left, right = (
            float(tempo.samples_at(tempo.bar_tick(bar), self.picture.rate)) / whole.last * 100
            for bar in (first_bar, last_bar + 1)
        )
        return Span(round(left, 3), round(max(0.0, min(100.0, right) - left), 3))

    @cached_property
    def rows(self) -> list[TakeRow]:
        """Every take, the oldest first."""
        views = {take.uid: self.picture.take_view(take, None) for take in self.takes}
        return [self._row(take, views[take.uid], key) for key, take in enumerate(self.takes, start=1)]

    def _row(self, take: Take, view: TakeView, key: int) -> TakeRow:
        mine = [one for one in self.sound.stretches if one.uid == str(take.uid)]
        # Framed where it was played, also what stands elsewhere.
        stands = [self.span_of(one.first_bar - one.moved, one.last_bar - one.moved) for one in mine]
        whole = Stretch(str(take.uid), *take.bars)
        figures = None if view.lost else audio.figures_kept(take.file) or self.sound.figures(take)
        clips = self._clips(take, figures) if figures else []
        return TakeRow(view, key, self.picture.strip_of(take, whole), stands, figures, clips, _called(take))

    def _clips(self, take: Take, figures: Figures) -> list[Clip]:
        found: dict[int, Clip] = {}
        tempo = take.run.tempo_map
        for frame in figures.clips:
            tick = max(0, tempo.tick_at_us((take.start + frame) * 1e6 / take.sample_rate))
            at = tempo.position(tick)
            found.setdefault(at.bar, Clip(str(at), tick))
        return list(found.values())[:CLIPS_SHOWN]

    @cached_property
    def brackets(self) -> list[Bracket]:
        """What stands, by bars."""
        joints = {joint.bar: joint for joint in self.sound.joints()}
        numbers = {str(take.uid): take.number for take in self.takes}
        return [
            Bracket(
                self.span_of(one.first_bar, one.last_bar),
                numbers[one.uid],
                one.first_bar,
                one.last_bar,
                _seam_told(joints.get(one.first_bar)),
                one.first_bar - one.moved,
            )
            for one in self.sound.stretches
        ]

    def take(self, uid: str) -> Take | None:
        """One of its takes."""
        return self.sound.takes.get(uid)


def _seam_told(joint) -> str:
    if joint is None:
        return ""
    beside = f"{abs(joint.offset_ms):.0f} ms {'before' if joint.offset_ms < 0 else 'behind'} bar {joint.bar}"
    where = f"on bar {joint.bar}" if abs(joint.offset_ms) < 0.5 else beside
    if joint.seam.clean:
        return f"crosses {where}, over no onset"
    return f"crosses {where}, the quietest place: no place within a beat is without an onset"


def _called(take: Take) -> str:
    """The sound that was called up on the box before it, in numbers; "" where none was."""
    rows = [(call[0] & 0xF0, *call[1:], 0)[:3] for call in take.part.calls] if take.part else []
    found, _ = program_in_force(rows)
    return wire_told(found.program, found.msb, found.lsb) if found else ""


def let_stand(track: Track, take: Take, first_bar: int, last_bar: int) -> str:
    """Let a take stand for some bars; what was done, in words. Raises BadBars where it does not reach them."""
    low, high = take.bars_left
    if last_bar < first_bar or first_bar < low or last_bar > high:
        raise BadBars(f"Take {take.number} has bars {low} to {high}: it can stand for some of these.")
    chosen = choose(track.choices, str(take.uid), first_bar, last_bar)
    _keep(track, f"Take {take.number} stands in bars {first_bar}–{last_bar} of {track.name}", chosen)
    return f"Take {take.number} stands in bars {first_bar} to {last_bar}."


def lay_along(track: Track, take: Take, first_bar: int, last_bar: int, at_bar: int, times: int) -> str:
    """Let some bars of a take stand again from another bar on, so many times; what was done, in words. Raises BadBars
    where they do not fit: another meter or tempo there, or beyond the end."""
    low, high = take.bars_left
    if last_bar < first_bar or first_bar < low or last_bar > high:
        raise BadBars(f"Take {take.number} has bars {low} to {high}: some of these can be laid along.")
    bars, end = last_bar - first_bar + 1, last_bar_of(track.session)
    tempo, chosen = track.session.tempo_map, track.choices
    for number in range(times):
        moved = at_bar + number * bars - first_bar
        if at_bar < 1 or last_bar + moved > end:
            raise BadBars(
                f"{times} times {bars} bars from bar {at_bar} on end behind bar {end}, the last of this session."
            )
        if any(_lasts(tempo, bar) != _lasts(tempo, bar + moved) for bar in range(first_bar, last_bar + 1)):
            raise BadBars(
                f"From bar {first_bar + moved} on meter or tempo are others than where take {take.number} was played."
            )
        chosen = choose(chosen, str(take.uid), first_bar + moved, last_bar + moved, moved)
    _keep(track, f"Take {take.number} laid along {track.name} from bar {at_bar}", chosen)
    return (
        f"Bars {first_bar} to {last_bar} of take {take.number} stand from bar {at_bar} to {at_bar + times * bars - 1}."
    )


def _lasts(tempo: TempoMap, bar: int) -> tuple[int, float]:
    """Beats of a bar, and how long it lasts in µs."""
    begins, ends = tempo.us_at([tempo.bar_tick(bar), tempo.bar_tick(bar + 1)])
    return tempo.beats_in_bar(bar), round(float(ends - begins), 3)


def set_take(take: Take, *, gain_db: float, inverted: bool, first_bar: int, last_bar: int) -> str:
    """Let a take be heard louder or softer, turned, and trimmed to some bars; the take itself stays. What was done, in
    words. Raises BadBars, BadLevel."""
    check_fader(Fader(gain_db))
    low, high = take.bars
    if not low <= first_bar <= last_bar <= high:
        raise BadBars(
            f"Take {take.number} has bars {low} to {high}, so it cannot be trimmed to {first_bar} to {last_bar}."
        )
    take.gain_db, take.inverted = round(gain_db, 1), inverted
    take.trimmed = [] if (first_bar, last_bar) == (low, high) else [first_bar, last_bar]
    take.save(update_fields=["gain_db", "inverted", "trimmed"])
    turned = ", polarity turned" if inverted else ""
    return f"Take {take.number}: gain {signed(take.gain_db)} dB, bars {first_bar} to {last_bar}{turned}."


def as_newest(track: Track) -> str:
    """Let the newest good takes stand again, whatever was chosen; what was done, in words."""
    _keep(track, f"The newest takes of {track.name} stand", ())
    return f"The newest good takes of {track.name} stand."


def _keep(track: Track, title: str, chosen: tuple[Stretch, ...]) -> None:
    rows = [[one.uid, one.first_bar, one.last_bar, one.moved] for one in chosen]
    change_session(track.session, title, [Edit("track", str(track.uid), {"chosen": rows})])
