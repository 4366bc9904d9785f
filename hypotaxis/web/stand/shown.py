"""What does the stand view show now? One answer for everyone who asks, worked out from rows alone: no studio is opened
and no rig is loaded for it.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from typing import Any

from django.db.models import Count, Max, Q
from django.utils import timezone

from hypotaxis.core.drawing.levels import level_x
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.linecheck.checked import Checked
from hypotaxis.core.session.count import beat_at, coming_beats
from hypotaxis.core.session.listening import Shown
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.units import CLOCKS_A_QUARTER, clock_text, counted, stored_db, stored_level_text
from hypotaxis.records.data_version import data_version
from hypotaxis.records.jobs import sounding
from hypotaxis.records.line_checks import KIND as CHECK
from hypotaxis.records.models import Change, Instrument, Job, Pass, Patch, Rig, Session, Take, Track
from hypotaxis.records.plan import last_bar_of, load_plan
from hypotaxis.steps.rig.checking import LineCheck
from hypotaxis.steps.session.services import judging, moving_on, planning, recording
from hypotaxis.steps.session.services.coming import led_now
from hypotaxis.steps.session.services.planning import PlanState
from hypotaxis.web import worker_watch
from hypotaxis.web.stand.chosen import sound_of_stand, stand_row, stand_session

METER_W = 100.0
AIM_DB = -12.0
"""The mark on the meters: headroom that a pass should leave (common practice)."""
ROWS = 2
"""Armed tracks that are shown, the loudest or clipped ones first."""
AHEAD_S = 1.5
"""So far ahead beats are told, so that a late answer stops no count."""
STALE_S = 1.0
"""What is known of where a run is may be so old to be counted on from."""
NAMES = {
    "pass": "Recording",
    "pass plan": "Between two passes",
    CHECK: "Line check",
    "try-out": "Playing",
    "sounding": "Sounding",
    "playing in": "Playing in",
    "playing freely": "Playing freely",
    "part loop": "Looping",
    moving_on.KIND: "Ending the pass",
}


@dataclass(frozen=True)
class Button:
    """A button's two lines, and whether it does anything now."""

    name: str
    told: str = ""
    on: bool = True


@dataclass(frozen=True)
class Armed:
    """An armed track. colour: its owner's; now, held: of METER_W; wrong: its clip, in words."""

    name: str
    colour: str
    now: float
    held: float
    value: str
    wrong: str = ""


@dataclass(frozen=True)
class Coming:
    """A beat that falls in so many ms."""

    in_ms: float
    bar: str
    beat: int
    beats: int


@dataclass(frozen=True)
class Verdict:
    """What was said last. of: about what; wrong: it asks for something."""

    of: str = ""
    told: str = ""
    wrong: bool = False


@dataclass(frozen=True, kw_only=True)
class Place:
    """Where it is, or would begin, and what is recorded there."""

    bar_of: str
    bar: str
    beat: int = 0
    """0 = none."""
    beats: int
    coming: tuple[Coming, ...] = ()
    time: str
    time_of: str
    bars: str
    armed_of: str
    armed: tuple[Armed, ...]


@dataclass(frozen=True, kw_only=True)
class Buttons:
    """What can be pressed. main_act: what the main one does."""

    main: Button
    main_act: str
    repeat: Button
    accept: Button
    sound: Button
    check: Button
    arm: Button


@dataclass(frozen=True, kw_only=True)
class StandShown:
    """All of it."""

    doing: str
    """"recording", "playing" or "", which decides the ink of the first line."""
    title: str
    sub: str
    piece: str = ""
    """The session and its pace."""
    count: Place
    verdict: Verdict
    buttons: Buttons
    session: str = ""
    sound_key: str = ""
    """What is chosen, as the lists know it."""
    tracks: tuple[str, ...] = ()
    """Uids of those that are armed."""
    trouble: str = ""
    """Why nothing can be done, as long as that lasts."""

    @property
    def plain(self) -> dict[str, Any]:
        """As the page reads it: one level of names."""
        whole = to_json(self)
        return whole | whole.pop("count") | whole.pop("buttons")


_idle: tuple[object, StandShown] | None = None
"""What was shown last while nothing went on, and for which version of the data."""


def shown() -> StandShown:
    """What everyone sees now. While nothing goes on and nothing has changed, what was worked out before."""
    global _idle
    version, before = data_version(), _idle
    if before is None or version is None or before[0] != version:
        going = list(Job.objects.filter(kind__in=sounding(), state__in=Job.UNFINISHED).order_by("made"))
        before = version, _worked_out(going)
        _idle = None if going else before
    return replace(before[1], trouble=worker_watch.trouble())


def _worked_out(going: Sequence[Job]) -> StandShown:
    row = stand_row()
    session = stand_session(row)
    now = next((job for job in going if job.kind in NAMES), going[0] if going else None)
    if session is None:
        return _without_session(going)
    return _Stand(session, going, now, sound_of_stand(row, session)).shown()


class _Stand:
    """The state of one session's stand, worked out once."""

    def __init__(self, session: Session, going: Sequence[Job], now: Job | None, sound) -> None:
        self.session, self.going, self.now, self.chosen = session, going, now, sound
        passes = session.passes.select_related("job", "measuring", "planned__plan__job")
        self.latest: Pass | None = passes.last()
        self.run = self.latest if self.latest and not self.latest.job.finished else None
        self.plan: PlanState = planning.plan_state(session)
        self.tracks = list(session.tracks.shown().filter(armed=True, committed=False))
        self.tempo: TempoMap = session.tempo_map
        self.colours = dict(Instrument.objects.filter(rig=session.rig).values_list("uid", "colour"))

    @cached_property
    def next_place(self) -> int:
        """The pass of the plan that is recorded next, from 1; 0 where none waits."""
        return self.plan.states.index(planning.WAITS) + 1 if self.plan.row and self.plan.waits else 0

    @cached_property
    def next_tracks(self) -> list[Track]:
        """What is recorded next: in that pass, otherwise what is armed."""
        if not self.next_place:
            return self.tracks
        column = self.plan.columns[self.next_place - 1]
        return list(Track.objects.filter(uid__in=column.tracks))

    def shown(self) -> StandShown:
        check = next((job for job in self.going if job.kind == CHECK), None)
        doing = "" if self.now is None else "recording" if self.run else "playing"
        return StandShown(
            doing=doing,
            title=self._title(),
            sub=self._sub(),
            piece=f"{self.session.name}, {self.tempo.told} BPM",
            count=self._pass_count() if self.run else self._check_count(check) if check else self._idle_count(),
            verdict=self._verdict(),
            buttons=self._buttons(),
            session=str(self.session.uid),
            sound_key=self.chosen.key if self.chosen else "",
            tracks=tuple(str(track.uid) for track in self.tracks),
        )

    # --- what happens

    def _title(self) -> str:
        if self.now is None:
            return "Ready"
        return self._pass_word() if self.run else NAMES.get(self.now.kind, self.now.kind.capitalize())

    def _sub(self) -> str:
        if self.now is None:
            return f"for {self._next_told}" if self._next_told else "nothing armed"
        if self.run and self.run.planned_id and self.plan.now:
            return f"pass {self.plan.now} of {len(self.plan.states)}"
        if self.run:
            return f"pass {self.run.number}"
        if self.now.kind == "try-out":
            return Instrument.objects.filter(uid=self.now.about).values_list("name", flat=True).first() or ""
        return ""

    def _pass_word(self) -> str:
        job, setup = self.run.job, self.run.frozen
        if job.state == Job.WAITING:
            return "Waits for the studio"
        if job.progress >= 1:
            return "Kept"
        if setup.led_by and not job.result:
            return f"Waits for {setup.led_by.name}"
        if not job.progress and setup.begins != "at once":
            return "Waits for your first note"
        return "Counted in" if self._at_us() < self._first_us() and setup.count_in else "Recording"

    @property
    def _next_told(self) -> str:
        if self.next_place:
            return f"pass {self.next_place} of {len(self.plan.states)}"
        return counted(len(self.tracks), "track") if self.tracks else ""

    # --- where it is

    def _pass_count(self) -> Place:
        at_us, run = self._at_us(), self.run
        bars, setup = run.tempo_map, run.frozen
        beat, last = beat_at(bars, at_us, run.first_bar), run.last_bar
        counts = not run.fast and run.job.state == Job.RUNNING and run.job.progress and not setup.led_by
        until_us = min(at_us + AHEAD_S * 1e6, self._round_ends_us())
        coming = coming_beats(bars, at_us, until_us, run.first_bar) if counts else ()
        left = run.job.remaining_s
        left = max(0.0, run.seconds * (1 - run.job.progress)) if left is None else left
        there = int(beat.bar) if beat.bar.isdigit() else run.first_bar
        of = f"bar, of {last}" if run.first_bar == 1 else f"bar, from {run.first_bar} to {last}"
        return Place(
            bar_of="bar" if setup.open_end else of,
            bar=beat.bar,
            beat=beat.beat if run.job.progress else 0,
            beats=beat.beats,
            coming=tuple(Coming(round(one.in_ms), one.beat.bar, one.beat.beat, one.beat.beats) for one in coming),
            time=clock_text(run.seconds * run.job.progress if setup.open_end else left)[:-2],
            time_of="so far, until you stop" if setup.open_end else "left",
            bars="" if setup.open_end else counted(max(0, last - there), "bar"),
            armed_of="Recorded, peak in dBFS",
            armed=self._levels(),
        )

    def _at_us(self) -> float:
        """Where the run is now: where it was said to be, and as much further as has passed since."""
        run, job, setup = self.run, self.run.job, self.run.frozen
        if setup.led_by:
            clock = led_now(job).clock
            return self._first_us() if clock is None else float(run.tempo_map.us_at(self._led_tick(clock)))
        frame = job.progress * setup.frames
        if job.reported and job.state == Job.RUNNING and job.progress and not run.fast:
            frame += min(STALE_S, max(0.0, (timezone.now() - job.reported).total_seconds())) * setup.rate
        return setup.us_at(frame)

    def _led_tick(self, clock: int) -> int:
        return clock * self.run.tempo_map.ticks_per_quarter // CLOCKS_A_QUARTER

    def _first_us(self) -> float:
        return float(self.run.tempo_map.us_at(self.run.tempo_map.bar_tick(self.run.first_bar)))

    def _round_ends_us(self) -> float:
        return float(self.run.tempo_map.us_at(self.run.tempo_map.bar_tick(self.run.last_bar + 1)))

    def _levels(self) -> tuple[Armed, ...]:
        meters, setup = self.run.shown, self.run.frozen
        rows = []
        for part in setup.parts:
            places = sorted({place for back in part.returns for place in back.columns})
            mine = [meters[place] for place in places if place < len(meters)]
            rows.append(self._armed(part.track_name, part.instrument, mine))
        return _foremost(rows)

    def _armed(self, name: str, instrument: str, meters: Sequence[Shown]) -> Armed:
        level = max((one.level for one in meters), default=stored_db(float("-inf")))
        peak = max((one.peak for one in meters), default=stored_db(float("-inf")))
        clipped = min((one.clipped_at for one in meters if one.clipped_at >= 0), default=None)
        wrong = "" if clipped is None else f"clipped, bar {self._bar_of(clipped)}"
        return Armed(name, self._colour(instrument), *_bars(level, peak), stored_level_text(peak), wrong)

    def _bar_of(self, frame: int) -> int:
        tempo = self.run.tempo_map
        return tempo.position(tempo.tick_at_us(max(0.0, self.run.frozen.us_at(frame)))).bar

    def _colour(self, instrument: str) -> str:
        return next((colour for uid, colour in self.colours.items() if str(uid) == instrument), "")

    def _check_count(self, job: Job) -> Place:
        checked = from_json(Checked, job.result) if job.result else Checked()
        left = "–" if job.remaining_s is None else clock_text(job.remaining_s)[:-2]
        asked = "other channels asked" if checked.probing else ""
        heard = {"bar_of": "lines heard", "bar": str(len(checked.lines)), "bars": asked}
        return replace(self._idle_count(), **heard, time=left, time_of="left")

    def _idle_count(self) -> Place:
        first, last = self._bars()
        begins, ends = (float(self.tempo.us_at(self.tempo.bar_tick(bar))) for bar in (first, last + 1))
        whole = first == 1 and last == last_bar_of(self.session)
        return Place(
            bar_of=f"bar, of {last}" if whole else f"bar, from {first} to {last}",
            bar=str(first),
            beats=self.tempo.beats_in_bar(first),
            time=clock_text((ends - begins) / 1e6)[:-2],
            time_of="for the pass",
            bars=counted(last - first + 1, "bar"),
            armed_of="Armed, peak of the last take in dBFS",
            armed=self._armed_rows(),
        )

    def _bars(self) -> tuple[int, int]:
        last = last_bar_of(self.session)
        if self.next_place:
            return self.plan.row.first_bar, min(last, self.plan.row.last_bar)
        typed = recording.settings_of(self.session, last, asked={})
        first, until = (_whole(typed[name], usual) for name, usual in (("first_bar", 1), ("last_bar", last)))
        return (first, until) if 1 <= first <= until <= last else (1, last)

    def _armed_rows(self) -> tuple[Armed, ...]:
        rows = self.next_tracks
        takes = Take.objects.filter(track__in=rows, kept=True, beside=False).order_by("number")
        peaks = {take.track_id: take for take in takes.only("track_id", "peak_db", "clipped")}
        found = []
        for track in rows:
            take = peaks.get(track.uid)
            peak = stored_db(float("-inf")) if take is None or take.peak_db is None else take.peak_db
            wrong = "clipped" if take and take.clipped else ""
            value = stored_level_text(peak) if take else "–"
            found.append(Armed(track.name, self._colour(track.instrument_uid), 0.0, _bars(peak, peak)[1], value, wrong))
        return _foremost(found)

    # --- what was said last

    def _verdict(self) -> Verdict:
        checks = Job.objects.filter(kind=CHECK, about=str(self.session.rig_id), state=Job.DONE)
        check = checks.order_by("-made").first()
        if check and (self.latest is None or check.made > self.latest.job.made):
            changes = Change.objects.filter(rig=self.session.rig_id)
            stands = changes.aggregate(last=Max("pk"), undone=Count("pk", filter=Q(undone=True)))
            return _checked(str(self.session.rig_id), str(check.uid), *stands.values())
        return self._pass_verdict() if self.latest else Verdict("", "No pass has been recorded yet.")

    def _pass_verdict(self) -> Verdict:
        run = self.latest
        if self.run:
            before = self.session.passes.filter(number__lt=run.number).select_related("job", "measuring").last()
            if before is None:
                return Verdict("", "The first pass of this session.")
            run = before
        takes = list(run.takes.kept().filter(beside=False).select_related("track", "run__session"))
        names = ", ".join(dict.fromkeys(take.track.name for take in takes))
        of = f"Pass {run.number}{f', {names}' if names else ''}"
        move = moving_on.waiting_move(run)
        if move and move.state == Job.FAILED:
            return Verdict(of, move.message, True)
        if move and not move.finished:
            repeats = move.request["move"] == moving_on.REPEAT
            return Verdict(of, "Repeated as soon as it has ended." if repeats else "It stands once it is measured.")
        if run.job.state in (Job.FAILED, Job.INTERRUPTED):
            return Verdict(of, f"{run.job.message} Repeat it?", True)
        if not takes:
            return Verdict(of, "Nothing was kept of it. Repeat it?", True)
        if run.measuring and not run.measuring.finished:
            return Verdict(of, "Being measured.")
        if run.accepted:
            return Verdict(of, "It stands.")
        return _of_takes(of, takes)

    # --- what can be pressed

    def _buttons(self) -> Buttons:
        busy, run, latest = self.now is not None, self.run, self.latest
        again = f"pass {latest.number}" if latest else "a pass"
        leaves = bool(run and run.job.progress < 1)
        stands = f"{again} as it is"
        main, act = self._main()
        return Buttons(
            main=main,
            main_act=act,
            repeat=Button("Repeat", "from the top" if run else again, bool(latest) and (leaves or not busy)),
            accept=Button(
                "Accept",
                "ends it, lets it stand" if run else stands,
                bool(latest) and (leaves or not (busy or latest.accepted)),
            ),
            sound=self._sound(busy),
            check=Button("Line check", "when stopped" if busy else "plays every line", not busy),
            arm=Button("Choose", on=run is None),
        )

    def _main(self) -> tuple[Button, str]:
        if self.now is not None:
            return Button("Stop", "ends the pass" if self.run else "ends what plays"), "stop"
        names = ", ".join(track.name for track in self.next_tracks)
        if self.next_place:
            return Button("Record", f"pass {self.next_place}: {names}"), "record"
        return Button("Record", names or "choose a track first", bool(names)), "record"

    def _sound(self, busy: bool) -> Button:
        if self.chosen is None:
            return Button("No instrument", "define one on its page", False)
        patch = Patch.objects.filter(uid=self.chosen.patch).first() if self.chosen.patch else None
        name = patch.name if patch else "No sound named"
        told = f"{self.chosen.name}, {patch.number}" if patch else self.chosen.name
        alone = self.now is None or self.now.kind == "try-out"
        return Button(name, told, alone or not busy)


def _without_session(going: Sequence[Job]) -> StandShown:
    off = Button("No instrument", "", False)
    return StandShown(
        doing="playing" if going else "",
        title="No session",
        sub="",
        count=Place(bar_of="bar", bar="–", beats=4, time="–", time_of="", bars="", armed_of="", armed=()),
        verdict=Verdict("", "There is no session yet. Begin one, or import a file, on the Session step."),
        buttons=Buttons(
            main=Button("Stop", "ends what plays") if going else Button("Record", "a session is missing", False),
            main_act="stop" if going else "record",
            repeat=Button("Repeat", "", False),
            accept=Button("Accept", "", False),
            sound=off,
            check=Button("Line check", "plays every line", not going),
            arm=Button("Choose", on=False),
        ),
    )


def _bars(level: float, peak: float) -> tuple[float, float]:
    return level_x(level, METER_W), level_x(peak, METER_W)


def _foremost(rows: Sequence[Armed]) -> tuple[Armed, ...]:
    return tuple(sorted(rows, key=lambda one: (not one.wrong, -one.held))[:ROWS])


def _whole(text: object, usual: int) -> int:
    try:
        return int(str(text))
    except ValueError:
        return usual


def _of_takes(of: str, takes: Sequence[Take]) -> Verdict:
    """What the takes of a pass that is measured say, the worst first."""
    troubles = judging.troubles_of(takes)
    for take in takes:
        if trouble := troubles[take.uid]:
            return Verdict(of, f"{take.track.name}: {trouble.rstrip('.')}. Repeat it, or accept it?", True)
    heard = [take.measured for take in takes if take.measured]
    found, asked = (sum(getattr(one, name) for one in heard) for name in ("matched", "looked_for"))
    loose = " and ".join(dict.fromkeys(take.track.name for take in takes if take.placement is None))
    placed = f"{loose}: not placed. Repeat it, or place it on its page." if loose else "Placed."
    return Verdict(of, f"{placed} {found} of {asked} notes heard." if heard and not loose else placed)


@lru_cache(maxsize=4)
def _checked(rig: str, job: str, *_: int | None) -> Verdict:
    """What a line check that has ended says; the rest of what it is asked with says that the plan stands as it did."""
    row, owner = Job.objects.get(uid=job), Rig.objects.get(uid=rig)
    found = from_json(Checked, row.result) if row.result else Checked()
    of = f"Line check, {counted(len(found.lines), 'line')}"
    check = LineCheck(owner, load_plan(owner))
    wrong = [check.verdicts[key] for key in check.differing]
    if not wrong:
        return Verdict(of, "Every line came home as planned.")
    first, more = wrong[0], len(wrong) - 1
    cause = f" Likeliest: {first.causes[0].told}" if first.causes else ""
    others = f" {counted(more, 'other line')} too." if more else ""
    told = f"{first.told[:1].lower()}{first.told[1:].rstrip('.')}."
    return Verdict(of, f"{first.line.name}: {told}{cause}{others}", True)
