"""What the page of the takes heard together shows, and what is set there."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

from hypotaxis.core.drawing.levels import level_x
from hypotaxis.core.errors import BadLevel
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.mixing.desk import BEATS, CLICKS, PLACED, Fader, Mixing, check_fader
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.beside import outputs_of
from hypotaxis.core.timing.budget import way_out_of
from hypotaxis.core.units import clock_text
from hypotaxis.records.journal import Edit, change_session
from hypotaxis.records.models import Session, Track
from hypotaxis.records.session_mix import SessionMix
from hypotaxis.steps.session.services.bouncing import BounceWish, missing
from hypotaxis.steps.session.services.picture import Picture, TrackView

METER_W = 92
STEP_S = 0.05
LONGEST_S = 20.0
"""Of levels that are answered at once."""
LONGEST_GROUP = 40


@dataclass(frozen=True)
class MixRow:
    """A track at the desk. sounding: whether anything of it is heard now."""

    view: TrackView
    fader: Fader
    why: str
    sounding: bool

    @property
    def told(self) -> str:
        """What is heard of it, or why nothing is."""
        if self.why or not self.sounding:
            return self.why or "muted"
        return f"take {self.view.shown.number}" if self.view.shown else ""


class MixPage:
    """The takes of a session heard together. how: one of desk.AS; click: one of desk.CLICKS."""

    def __init__(self, session: Session, plan: Plan, *, how: str = PLACED, click: str = BEATS) -> None:
        self.session, self.plan, self.how = session, plan, how
        self.click = click if click in CLICKS else BEATS
        self.mixing: Mixing = session.mixing

    @cached_property
    def mix(self) -> SessionMix:
        """What is heard."""
        how = {"how": self.how, "click": self.click, "click_db": self.mixing.click_db}
        return SessionMix(self.session, rate=self.plan.rig.sample_rate, **how)

    @cached_property
    def picture(self) -> Picture:
        """As the session draws it."""
        return Picture(self.session, self.plan, tick=0, span_ms=45.0, offset_ms=-5.0)

    @cached_property
    def rows(self) -> list[MixRow]:
        """Every track."""
        views = {str(view.row.uid): view for view in self.picture.tracks()}
        heard = self.mix.faders
        return [MixRow(views[one.key], one.row.fader, one.why, one.key in heard) for one in self.mix.tracks]

    @property
    def groups(self) -> list[tuple[str, Fader]]:
        """The groups that tracks are in, by name."""
        names = dict.fromkeys(row.view.row.group for row in self.rows if row.view.row.group)
        return [(name, self.mixing.of_group(name)) for name in names]

    @property
    def zero_s(self) -> float:
        """Where the session's zero is in the stream."""
        return -self.mix.span[0] / self.mix.rate

    @property
    def whole_s(self) -> float:
        """How long the strips are."""
        return self.picture.whole.last / self.mix.rate

    @cached_property
    def beats(self) -> list[list]:
        """(seconds of the stream, "bar.beat") of every beat."""
        tempo, found = self.picture.tempo, []
        for bar in range(1, self.picture.last_bar + 1):
            begins, ends, count = tempo.bar_tick(bar), tempo.bar_tick(bar + 1), tempo.beats_in_bar(bar)
            ticks = [begins + (ends - begins) * beat // count for beat in range(count)]
            times = tempo.us_at(ticks) / 1e6 + self.zero_s
            found += [[round(float(at), 4), f"{bar}.{beat}"] for beat, at in enumerate(times, start=1)]
        return found

    def levels(self, from_s: float, seconds: float) -> dict:
        """The meters of a stretch of the stream, a value every STEP_S: pixels of the level and of the held peak."""
        rate = self.mix.rate
        first = self.mix.span[0] + round(max(0.0, from_s) * rate)
        found = self.mix.levels(first, first + round(min(LONGEST_S, max(STEP_S, seconds)) * rate), STEP_S)
        return {
            "from": from_s,
            "step": STEP_S,
            "meters": {
                key: [
                    [level_x(now, METER_W), level_x(held, METER_W)]
                    for now, held in zip(one.levels, one.held, strict=True)
                ]
                for key, one in found.items()
            },
        }

    # --- what is heard while a pass is recorded

    @property
    def outputs(self) -> list[tuple[str, str]]:
        """(uid, name) of what takes can play on."""
        return [(socket.uid, name) for socket, name in outputs_of(self.plan)]

    @property
    def reaches_told(self) -> str:
        """When what plays there reaches the ears, in a sentence; "" without outputs."""
        if not self.mixing.outputs:
            return ""
        legs = way_out_of(self.plan, self.mixing.outputs[0])
        out = sum(leg.ms for leg in legs)
        buffer = self.plan.rig.buffer * 1000 / self.plan.rig.sample_rate
        return (
            f"What plays from takes leaves the interface {out:.1f} ms behind its place. A live return heard by the "
            "interface's own monitoring is as late as its box alone; through the host it comes by a buffer and both "
            f"converters more, some {buffer + out:.1f} ms."
        )

    @cached_property
    def missing(self) -> list[str]:
        """The tracks whose live returns would be part of the mix."""
        wish = BounceWish(1, self.picture.last_bar)
        return [row.name for row in missing(self.session, self.plan, wish)]

    @property
    def lasts(self) -> str:
        """How long the session is."""
        return clock_text(self.whole_s)


# --- what is set


def set_track(session: Session, track: Track, change: Callable[[Fader], Fader]) -> None:
    """Let a track be heard otherwise, as a step of the journal. Raises BadLevel."""
    fader = check_fader(change(track.fader))
    change_session(session, f"Mix of {track.name}", [Edit("track", str(track.uid), {"mix": to_json(fader)})])


def set_group(session: Session, name: str, change: Callable[[Fader], Fader]) -> None:
    """The same of a group. Raises BadLevel."""
    mixing = session.mixing
    fader = check_fader(change(mixing.of_group(name)))
    keep(session, f"Mix of the group {name}", replace(mixing, groups={**mixing.groups, name: fader}))


def put_in_group(session: Session, track: Track, name: str) -> None:
    """Let a track be mixed in this group, "" = in none. Raises BadLevel."""
    name = name.strip()
    if len(name) > LONGEST_GROUP:
        raise BadLevel(f"A group's name has at most {LONGEST_GROUP} letters.")
    change_session(session, f"Group of {track.name}", [Edit("track", str(track.uid), {"group": name})])


def keep(session: Session, title: str, mixing: Mixing) -> None:
    """Store what the mix is set to, as a step of the journal."""
    change_session(session, title, [Edit("session", str(session.uid), {"mix": to_json(mixing)})])
