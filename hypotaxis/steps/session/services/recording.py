"""A pass: armed, recorded in real time by the worker, kept whatever happens.

While it runs, the frames of all its inputs grow in one raw file; takes are made from it at the end, after a cancel
and, when the program died, at the next start. What was armed is frozen in the pass at its start. Its takes are measured
and placed by work of its own, so that the next pass need not wait for it.
"""

import logging
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, closing, suppress
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from urllib.parse import parse_qsl, urlencode

import numpy as np
from django.db import transaction
from django.db.models import Max, Q
from django.utils import timezone

from hypotaxis.core.errors import CannotSchedule, DiskFull, NoAnswer, StudioTrouble
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.mixing.desk import COUNTED, OFF
from hypotaxis.core.mixing.joined import Joined
from hypotaxis.core.plan import Plan
from hypotaxis.core.playing.count_in import Beat, ClickTrack, beats
from hypotaxis.core.recall.again import routing_calls
from hypotaxis.core.session.beside import PlayedBeside
from hypotaxis.core.session.passes import (
    OPEN_S,
    ArmedTrack,
    PassSetup,
    RecordedPart,
    RecordedReturn,
    last_bar_within,
    leader_of,
    plan_pass,
    schedule_pass,
)
from hypotaxis.core.session.schedule import Round, Schedule
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.studio import AT_ONCE, WITH_A_NOTE, Passed, RunSetup, Sound, Written
from hypotaxis.core.units import clock_text
from hypotaxis.records import audio
from hypotaxis.records.jobs import Reporter, asked_before, begin, hand_over, running, wait_again, work
from hypotaxis.records.kept_rigs import keep_rig
from hypotaxis.records.lateness import clock_ms, known_ms
from hypotaxis.records.models import Job, Pass, PassPlan, Rig, Session, Take, Track
from hypotaxis.records.models.session import WAITING, whether
from hypotaxis.records.patch_lists import calls_with, programs_of
from hypotaxis.records.plan import controls_of, load_plan, notes_in_bars, notes_of
from hypotaxis.records.session_mix import SessionMix
from hypotaxis.records.stamps import kept_while, rows_while
from hypotaxis.records.studio import send_apart, studio_for
from hypotaxis.records.track_sound import TrackSound, tracks_sound
from hypotaxis.records.writing import WantedTake, WritingBeside, WrittenTake, write_takes
from hypotaxis.steps.session.services.coming import Coming, record_led
from hypotaxis.steps.session.services.placing import (
    is_sure_enough,
    measure_each,
    place,
    place_by_click,
    place_by_instrument,
    reference_take,
)

log = logging.getLogger(__name__)

PASS_DEFAULTS = {"times": 1, "run_in": 0, "count_in": 0, "led": "", "reference": "", "first_bar": "", "last_bar": ""}
PASS_SWITCHES = ("place", "until_stop", "fast")
"""What the form of the next pass holds."""
MOST_TYPED = 40
SHORTEST_S = 0.1
LONG_S = 60.0
"""From so long a pass on its takes are written while it runs: a process of its own is worth its start then."""
REFERENCE_DB = -6.0
"""How loud the click is that is recorded beside a pass."""
TO_THE_BAR, UNTIL_STOP = LED = ("led", "until stop")
"""How a pass may be led: to its last bar, or until the leader stops; "" = it begins at once."""


def keep_settings(session: Session, typed: Mapping[str, str]) -> None:
    """Keep what the form of the next pass holds, valid or not."""
    kept = {name: typed[name][:MOST_TYPED] for name in (*PASS_DEFAULTS, *PASS_SWITCHES) if name in typed}
    Session.objects.filter(uid=session.uid).update(pass_typed=urlencode(kept))


def settings_of(session: Session, last_bar: int, *, fast: bool = False, asked: Mapping[str, str]) -> dict:
    """What the next pass is offered with: as it was typed last for this session, otherwise all bars, placed. fast: as
    it is usual; asked: bars that an address asks for."""
    usual = "place=on&fast=on" if fast else "place=on"
    typed = dict(parse_qsl(session.pass_typed or usual, keep_blank_values=True))
    settings = {name: typed.get(name, "") for name in PASS_DEFAULTS if name in typed}
    bars = {"first_bar": 1, "last_bar": last_bar} | {name: value for name, value in settings.items() if value}
    bars |= {name: asked[name] for name in ("first_bar", "last_bar") if asked.get(name)}
    return PASS_DEFAULTS | bars | {name: typed.get(name) == "on" for name in PASS_SWITCHES}


def start_pass(
    session: Session,
    plan: Plan,
    *,
    first_bar: int,
    last_bar: int,
    fast: bool,
    place_takes: bool,
    times: int = 1,
    run_in: int = 0,
    led: str = "",
    count_in: int = 0,
    until_stop: bool = False,
    reference: str = "",
    token: str = "",
) -> Pass:
    """Check what is armed and hand the pass to the worker; raises CannotSchedule with the reason. times: of more than
    one the bars are played in a loop, 0: until it is stopped, and each time is a take. run_in: bars before, the first
    time; count_in: bars that are counted in; led: one of LED, or WITH_A_NOTE; until_stop: recorded on behind the last
    bar; reference: the effect loop (uid) by which a click is recorded beside; token: of the form; one that is sent
    twice makes one pass."""
    armed = armed_tracks(session.tracks.shown().filter(armed=True, committed=False), plan)
    bars = {"first_bar": first_bar, "last_bar": last_bar}
    by_leader = led in LED
    led_by = leader_of(plan, until_stop=led == UNTIL_STOP) if by_leader else None
    if by_leader and led_by is None:
        raise CannotSchedule("No box leads any more. Say on the Rig step who leads, or begin the pass at once.")
    known = {"lateness_ms": known_ms(plan), "clock_ms": clock_ms(plan)}
    if until_stop:
        bars["last_bar"] = last_bar_within(session.tempo_map, first_bar, OPEN_S)
    how = {"times": times, "run_in": run_in, "led_by": led_by, "mixing": session.mixing, "count_in": count_in}
    how |= {"begins": led if led == WITH_A_NOTE else AT_ONCE, "open_end": until_stop, "reference": reference}
    setup = plan_pass(plan, armed, session.tempo_map, **bars, **known, **how)
    return _queue(session, setup, **bars, fast=fast, place=place_takes, token=token)


def repeat_pass(old: Pass, *, token: str = "") -> Pass:
    """The same pass again, with the same tracks and settings. Raises CannotSchedule while another one is recorded."""
    bars = {"first_bar": old.first_bar, "last_bar": old.last_bar}
    return _queue(old.session, old.frozen, **bars, fast=old.fast, place=old.place, token=token)


@transaction.atomic
def accept_pass(run: Pass) -> str:
    """Let a pass stand: what is doubtful of it is taken as it is, and placed where that is known. What was done, in
    words."""
    run.accepted = True
    run.save(update_fields=["accepted"])
    for take in run.takes.kept():
        if take.doubtful:
            take.accepted = True
            take.save(update_fields=["accepted"])
        if take.placement is None and run.place and take.measurement:
            place(take)
    return f"Pass {run.number} stands."


def send_sounds(session: Session, plan: Plan, *, token: str = "") -> Job:
    """Ask the worker to call up the stored routings of routers and the sound of every track once more."""
    messages = [(one.port, one.message.hex()) for one in routing_calls(plan) if one.port]
    tracks = list(session.tracks.playing())
    sounds = programs_of(tracks)
    for track in tracks:
        instrument = plan.instrument(track.instrument_uid)
        found = plan.rig.find(instrument.send) if instrument else None
        if found:
            port = plan.rig.find(instrument.seat(track.part_uid).send) or found
            calls = calls_with(sounds[track.uid], track, instrument)
            messages += [(port[1].system_name, call.hex()) for call in calls]
    if not messages:
        raise CannotSchedule("No track has a sound to call up. Pick one on the Instruments step, or type a program.")
    with transaction.atomic():
        if before := asked_before(token):
            return before
        job = begin("sounds", about=str(session.uid), request={"messages": messages}, token=token)
    hand_over(job)
    return job


@work("sounds")
def call_up(job_uid: str) -> None:
    """The task: send bank and program of every track, a gap apart."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        plan = load_plan(Rig.objects.get(sessions=reporter.job.about))
        wanted = reporter.job.request["messages"]
        with studio_for(plan) as studio:
            send_apart(studio, [(port, bytes.fromhex(data)) for port, data in wanted], fast=False)


def _queue(session: Session, setup: PassSetup, *, token: str, **chosen) -> Pass:
    with transaction.atomic():
        if before := asked_before(token):
            return before.run
        if PassPlan.objects.filter(session__rig=session.rig, job__state__in=Job.UNFINISHED).exists():
            raise CannotSchedule("The pass plan is running. Stop it, or wait until it is done.")
        run = make_pass(session, setup, token=token, **chosen)
    hand_over(run.job)
    return run


def armed_tracks(rows: Iterable[Track], plan: Plan) -> list[ArmedTrack]:
    """Tracks as a pass sees them."""
    rows, found = list(rows), []
    sounds = programs_of(rows)
    for row in rows:
        track = bare_track(row, plan)
        calls = tuple(calls_with(sounds[row.uid], row, track.instrument)) if track.instrument else ()
        found.append(replace(track, calls=calls))
    return found


def bare_track(row: Track, plan: Plan) -> ArmedTrack:
    """The same without the messages that call up its sound, which cost a look at its patch: what is asked for where it
    goes and comes home."""
    if row.loop_uid:
        return ArmedTrack(str(row.uid), row.name, None, loop=plan.loop(row.loop_uid), source=str(row.fed_by_id or ""))
    instrument = plan.instrument(row.instrument_uid)
    return ArmedTrack(str(row.uid), row.name, instrument, row.part_uid, only=tuple(row.voice_notes))


def make_pass(session: Session, setup: PassSetup, *, token: str = "", **chosen) -> Pass:
    """The row of a pass with its work, which nobody has been told of yet. Raises CannotSchedule while another one is
    recorded."""
    with transaction.atomic():
        busy = Pass.objects.filter(session__rig=session.rig, job__state__in=Job.UNFINISHED).first()
        if busy:
            raise CannotSchedule(f"Pass {busy.number} is still running. Stop it, or wait until it is done.")
        number = (session.passes.aggregate(Max("number"))["number__max"] or 0) + 1
        job = begin("pass", about=str(session.uid), token=token)
        run = Pass(session=session, job=job, number=number, setup=to_json(setup), seconds=setup.seconds, **chosen)
        run.tempo = to_json(session.tempo_map)
        run.kept_rig = keep_rig(session.rig)
        _schedule(run, setup)
        run.save()
    return run


def _schedule(run: Pass, setup: PassSetup) -> Schedule:
    played = {str(track.uid): (notes_of(track), controls_of(track)) for track in run.session.tracks.all()}
    bars = {"first_bar": run.first_bar, "last_bar": run.last_bar}
    return schedule_pass(setup, played, run.session.tempo_map, **bars)


@work("pass")
def record(job_uid: str) -> None:
    """The task: run the pass; whatever came is kept as takes, however it ends."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        run = Pass.objects.select_related("session__rig").get(job_id=job_uid)
        with ExitStack() as stack:
            beside = _writing_beside(run)
            if beside:
                stack.callback(beside.end)
            try:
                _run(run, reporter)
            finally:
                keep_takes(run, beside)


def _writing_beside(run: Pass) -> WritingBeside | None:
    """What writes the takes of a long pass while it runs; None of one whose takes are soon made, and where it is not
    known before what they are."""
    setup = run.frozen
    if setup.led_by or setup.loops or setup.seconds < LONG_S:
        return None
    wanted = [one.wanted for one in _wanted_of(run, setup, 0, setup.every_round[0])]
    try:
        return WritingBeside(audio.partial_path(str(run.uid)), len(setup.inputs), setup.rate, wanted)
    except OSError:
        log.exception("no writer beside pass %s; its takes are made at its end", run.uid)
        return None


def _run(run: Pass, reporter: Reporter) -> None:
    plan = load_plan(run.session.rig)
    setup = run.frozen
    schedule = _schedule(run, setup)
    with studio_for(plan) as studio:
        if run.fast and not studio.hurries:
            raise StudioTrouble("Real hardware plays in real time only. Switch faster than real time off.")
        if studio.sample_rate != setup.rate:
            raise StudioTrouble(
                f"The studio runs at {studio.sample_rate} Hz, and this pass was planned at {setup.rate} Hz. Set the "
                "rig to the studio's rate, or the studio to the rig's, then record again."
            )
        Pass.objects.filter(uid=run.uid).update(started=timezone.now())
        inputs = (*setup.inputs, *(one.input for one in setup.watched))
        # Unbuffered: what a block brought is in the file before the next one is asked for.
        with audio.partial_path(str(run.uid)).open("wb", buffering=0) as stream:
            coming = Coming(run, setup, stream)
            if setup.led_by:
                record_led(coming, schedule, studio, inputs, reporter)
            else:
                reporter.whole_s = run.seconds
                sounds, passed = heard_beside(run, setup)
                outputs = tuple(sounds)
                how = {"frames": schedule.frames, "fast": run.fast, "passed": passed, "begins": setup.begins}
                asked = RunSetup(inputs=inputs, outputs=outputs, **how)
                with closing(studio.run(Written(schedule.messages, sounds), asked)) as blocks:
                    for block in blocks:
                        if not block.start:
                            # What waited for a first note begins now.
                            reporter.began = time.monotonic()
                        coming.take(block)
                        if reporter.due():
                            coming.tell()
                            reporter.report((block.start + len(block.samples)) / schedule.frames)
    coming.close(_moments(run, setup))


def record_now(session: Session, plan: Plan, rows: Sequence[Track], *, fast: bool, **chosen) -> Pass:
    """Record these tracks in a pass and measure its takes, inside other work; the row as it ended. chosen: first and
    last bar, and further fields of the row. Raises CannotSchedule."""
    bars = {name: chosen[name] for name in ("first_bar", "last_bar")}
    known = {"lateness_ms": known_ms(plan), "clock_ms": clock_ms(plan)}
    setup = plan_pass(plan, armed_tracks(rows, plan), session.tempo_map, **bars, **known)
    run = make_pass(session, setup, fast=fast, place=True, **chosen)
    record.call_local(str(run.job_id))
    run.refresh_from_db()
    if run.measuring_id:
        measure_takes.call_local(str(run.measuring_id))
    return run


def heard_beside(run: Pass, setup: PassSetup) -> tuple[dict[str, Sound], tuple[Passed, ...]]:
    """What outputs play while a pass is recorded, and the inputs that are heard on them."""
    sounds = {name: sound for part in setup.parts if part.sends for name, sound in _sent_through(run, setup, part)}
    if setup.reference:
        beats = beats_between(run.tempo_map, run.first_bar - setup.run_in, run.last_bar)
        track = ClickTrack(beats, rate=setup.rate, level_db=REFERENCE_DB)
        clicked = PlayedBeside(
            lambda first, last: np.repeat(track(first, last - first)[:, None], 2, 1), setup.every_round
        )
        sounds[setup.reference.output] = clicked.side(0)
    if setup.beside is None:
        return sounds, ()
    beside = setup.beside
    recorded = [part.track for part in setup.parts]
    every = recorded if beside.takes else [str(uid) for uid in run.session.tracks.values_list("uid", flat=True)]
    counted = counted_in(run.tempo_map, run.first_bar - setup.run_in, setup.count_in)
    click = OFF if beside.click == COUNTED else beside.click
    how = {"click": click, "click_db": beside.click_db, "counted": counted}
    mix = SessionMix(run.session, rate=setup.rate, **how, without=every)
    # A count-in is heard before the first time round, at its place before the bars.
    first, *later = setup.every_round
    whole = Round(0, first.start + first.frames, first.first_sample - first.start)
    played = PlayedBeside(mix.read, [whole, *later])
    return sounds | {name: played.side(column) for column, name in enumerate(beside.outputs)}, beside.through


def beats_between(tempo: TempoMap, first_bar: int, last_bar: int) -> list[Beat]:
    """The beats of these bars, in s of the session."""
    begins = float(tempo.us_at(tempo.bar_tick(first_bar))) / 1e6
    return beats(tempo, first_bar=first_bar, last_bar=last_bar, count_in=0, first_s=begins)


def counted_in(tempo: TempoMap, first_bar: int, bars: int) -> list[Beat]:
    """The beats that are counted in before a bar, in s of the session."""
    begins = float(tempo.us_at(tempo.bar_tick(first_bar))) / 1e6
    return beats(tempo, first_bar=first_bar, last_bar=first_bar - 1, count_in=bars, first_s=begins)


def _sent_through(run: Pass, setup: PassSetup, part: RecordedPart) -> Iterator[tuple[str, Sound]]:
    """What the sends of an effect loop play: what stands of the track it is fed by, as loud as it was recorded."""
    whole = standing_of(run.session, part.source)
    if whole is None:
        raise CannotSchedule(
            f"Nothing stands of the track that is sent to {part.track_name}. Record and place it first."
        )
    if whole.rate != setup.rate:
        raise CannotSchedule(
            f"What is sent to {part.track_name} was recorded at {whole.rate} Hz, and the rig runs at {setup.rate}."
        )
    sound = Joined(whole.pieces(), whole.rate)

    def read(first: int, last: int) -> np.ndarray:
        frames = sound.read(first, last)
        mono = frames.mean(axis=1, keepdims=True)
        return np.repeat(mono, 2, axis=1) if len(part.sends) == 1 or sound.channels == 1 else frames

    played = PlayedBeside(read, setup.every_round)
    return ((name, played.side(column)) for column, name in enumerate(part.sends))


def standing_of(session: Session, track: str) -> TrackSound | None:
    """What stands of a track (uid) among its placed takes; None where nothing does."""
    row = session.tracks.select_related("session__rig").filter(uid=track or None).first()
    if row is None:
        return None
    return tracks_sound(session, [row], only_placed=True).get(row.uid)


def _moments(run: Pass, setup: PassSetup) -> np.ndarray:
    """When the notes of a pass begin, in samples from its first frame."""
    armed = run.session.tracks.filter(uid__in=[part.track for part in setup.parts])
    ticks = [notes_in_bars(track, *run.bars)["tick"] for track in armed]
    every = np.unique(np.concatenate([np.zeros(0, int), *ticks]))
    first = run.rounds_of(0)[0]
    return run.tempo_map.samples_at(every, setup.rate) - (first.first_sample - first.start)


def keep_takes(run: Pass, beside: WritingBeside | None = None) -> None:
    """Make takes of what a pass has recorded so far, and ask for them to be measured. Safe to repeat. beside: what has
    been writing them meanwhile."""
    partial = audio.partial_path(str(run.uid))
    if partial.exists():
        setup = run.frozen
        _cut_open_end(run, setup, partial)
        frames = partial.stat().st_size // (4 * len(setup.inputs))
        if frames >= SHORTEST_S * setup.rate and (run.led or not setup.led_by):
            _make_takes(run, setup, partial, beside)
        audio.let_go(partial)
    if run.takes.waiting().exists():
        ask_to_measure(run)


def _cut_open_end(run: Pass, setup: PassSetup, partial: Path) -> None:
    """A pass without loop that went on until it was stopped ends with the bar that it reached."""
    if not setup.open_end or setup.loops or setup.led_by:
        return
    first = setup.every_round[0]
    came = partial.stat().st_size // (4 * len(setup.inputs))
    at = max(0, first.first_sample - first.start + came - 1) * 1e6 / setup.rate
    reached = run.tempo_map.position(run.tempo_map.tick_at_us(at)).bar
    run.last_bar = max(run.first_bar, min(run.last_bar, reached))
    run.save(update_fields=["last_bar"])


@dataclass(frozen=True)
class _ToMake:
    """A take that a pass makes: of which part by which return, in which time round."""

    part: RecordedPart
    back: RecordedReturn
    number: int
    wanted: WantedTake


def _wanted_of(run: Pass, setup: PassSetup, number: int, one: Round) -> list[_ToMake]:
    """What a time round makes that is not kept yet."""
    tracks = {str(uid) for uid in run.session.tracks.values_list("uid", flat=True)}
    kept = {(str(track), back) for track, back in run.takes.filter(round=number).values_list("track_id", "return_uid")}
    return [
        _ToMake(part, back, number, WantedTake(tuple(back.columns), one.start, one.frames, one.first_sample))
        for part in setup.parts
        for back in (*_reference_of(setup, part), *part.returns)
        if part.track in tracks and (part.track, back.uid) not in kept
    ]


def _make_takes(run: Pass, setup: PassSetup, partial: Path, beside: WritingBeside | None) -> None:
    """Takes of all that is not kept yet, one time round after the other, in one reading of what came."""
    width = len(setup.inputs)
    frames = partial.stat().st_size // (4 * width)
    written = beside.keep() if beside else {}
    for number, one in enumerate(run.rounds_of(frames)):
        if frames - one.start < SHORTEST_S * setup.rate:
            return
        here = _wanted_of(run, setup, number, one)
        if any(take.wanted not in written for take in here):
            wanted = [take.wanted for take in here]
            written |= zip(wanted, write_takes(partial, width, setup.rate, wanted), strict=True)
        for take in here:
            _keep_take(run, setup, take, written[take.wanted])


def _reference_of(setup: PassSetup, part: RecordedPart) -> Sequence[RecordedReturn]:
    """The click beside it, which is kept with the first track of the pass."""
    found = setup.reference
    if found is None or part is not setup.parts[0]:
        return ()
    return (RecordedReturn(found.loop, found.name, (found.column,), setup.names[found.column]),)


@transaction.atomic
def _keep_take(run: Pass, setup: PassSetup, take: _ToMake, written: WrittenTake) -> None:
    part, back = take.part, take.back
    if run.led:
        whole = run.led_run.whole
    else:
        whole = written.frames >= take.wanted.frames or (setup.open_end and not setup.loops)
    Take.objects.create(
        session=run.session,
        track_id=part.track,
        run=run,
        number=(run.session.takes.aggregate(Max("number"))["number__max"] or 0) + 1,
        instrument_uid=part.instrument,
        instrument_name=part.instrument_name,
        returns_text=back.returns_text,
        return_uid=back.uid,
        return_name=back.name,
        beside=back is not part.returns[-1],
        inverted=back.inverted,
        file=written.file,
        sample_rate=setup.rate,
        channels=len(back.columns),
        frames=written.frames,
        first_sample=take.wanted.first_sample,
        round=take.number,
        home_trim_db=part.home_trim_db,
        clipped=written.clips,
        peak_db=written.peak_db,
        complete=whole,
    )


def ask_to_measure(run: Pass) -> None:
    """Let the worker measure those takes of a pass that have no answer yet, and place them where the pass asks for it.
    Asked again while it is under way, nothing changes."""
    if run.measuring is None:
        with transaction.atomic():
            run.measuring = begin("measuring", about=str(run.uid))
            run.save(update_fields=["measuring"])
        hand_over(run.measuring)
    else:
        wait_again(run.measuring, "measuring")


@dataclass(frozen=True)
class TakeState:
    """A take of a pass, as far as its measuring goes."""

    number: int
    uid: str
    waiting: bool
    """Nobody has measured it."""
    placed: bool
    """It stands where its notes are."""
    doubtful: bool
    """It holds what it should not, and nobody took it as it is."""


@dataclass(frozen=True)
class Measured:
    """How far the takes of a pass are measured."""

    run: Pass
    job: Job | None
    takes: tuple[TakeState, ...]

    @property
    def all(self) -> int:
        return len(self.takes)

    @property
    def waiting(self) -> int:
        """How many nobody has measured."""
        return sum(one.waiting for one in self.takes)

    @property
    def now(self) -> int:
        """Number in the row of the one that is looked at."""
        return min(self.all, self.all - self.waiting + 1)

    @property
    def placed(self) -> int:
        return sum(one.placed for one in self.takes)

    @property
    def doubtful(self) -> int:
        return sum(one.doubtful for one in self.takes)

    @property
    def running(self) -> bool:
        return self.job is not None and not self.job.finished

    @property
    def left_over(self) -> int:
        """Takes that nobody measured and nobody is measuring."""
        return 0 if self.running else self.waiting

    @property
    def done(self) -> float:
        """Per cent."""
        return round(self.job.progress * 100, 1) if self.job else 0.0

    @cached_property
    def ready(self) -> Mapping[str, str]:
        """The uids of those that are measured, by what the page calls them: their number, and that they are
        placed, which follows a moment later."""
        known = (one for one in self.takes if not one.waiting)
        return {f"{one.number}{' placed' if one.placed else ''}": one.uid for one in known}

    @property
    def state(self) -> str:
        """Which are measured, as the page holds it."""
        return ",".join(self.ready)

    @property
    def told(self) -> str:
        """What came of it."""
        if self.left_over:
            return f"{self.left_over} of {self.all} take{'s' if self.all > 1 else ''} not measured yet."
        standing = "placed" if self.placed == self.all else f"{self.placed} of them placed"
        doubted = ""
        if self.doubtful:
            doubted = f" {self.doubtful} of them {'is' if self.doubtful == 1 else 'are'} doubtful: see the takes."
        return f"{self.all} take{'s' if self.all > 1 else ''} measured, {standing}.{doubted}"

    @property
    def next_told(self) -> str:
        """The next sensible move, in a sentence."""
        if self.left_over:
            return ""
        if self.doubtful:
            return "Repeat it, or accept it as it is."
        if self.placed < self.all:
            return "Place what is not placed, in its take, or repeat it."
        return "Listen to it beside the others, then arm the next part."

    @property
    def remaining(self) -> str:
        return clock_text(self.job.remaining_s) if self.job and self.job.remaining_s is not None else ""


def newest_pass(session: Session) -> Pass | None:
    """The last one, with its work."""

    def look() -> Pass | None:
        return session.passes.select_related("job", "measuring").last()

    found = rows_while(("takes", "work"), ("newest pass", str(session.uid)), look)
    if found:
        found.session = session
    return found


def waits_for_answer(run: Pass | None) -> Measured | None:
    """How far the takes of a pass are measured; None where it has none, or they wait for nothing."""
    told = run is not None and run.measuring is not None and not run.accepted
    state = measured_state(run) if told else None
    return state if state and state.all else None


def reached_bar(run: Pass) -> int | None:
    """The bar in which what was recorded of a pass breaks off; None where nothing is missing, or nothing came."""

    def look() -> Take | None:
        return run.takes.kept().filter(complete=False).order_by("-frames").first()

    cut = rows_while(("takes",), ("broken off", str(run.uid)), look)
    if cut is None:
        return None
    at = (cut.first_sample + cut.frames) * 1e6 / cut.sample_rate
    bar = run.tempo_map.position(max(0, run.tempo_map.tick_at_us(at))).bar
    return bar if run.first_bar <= bar <= run.last_bar else None


def measured_state(run: Pass) -> Measured:
    """How far the takes of a pass are measured."""
    return Measured(run, run.measuring, kept_while(("takes",), ("measured", str(run.uid)), lambda: _states(run)))


def _states(run: Pass) -> tuple[TakeState, ...]:
    rows = run.takes.kept().annotate(waits=whether(WAITING), doubted=whether(~Q(doubts=[]), accepted=False))
    found = rows.values_list("number", "uid", "waits", "placement", "doubted")
    return tuple(
        TakeState(number, str(uid), waits, placement is not None, doubted)
        for number, uid, waits, placement, doubted in found
    )


@work("measuring", resumed=True)
def measure_takes(job_uid: str) -> None:
    """The task: measure a pass's takes one after the other, place each where that is asked for and sure enough."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        run = Pass.objects.select_related("session__rig").get(measuring_id=job_uid)
        # What is recorded beside them first, since others may stand by it.
        left = list(run.takes.waiting().order_by("-beside", "number"))
        for take in measure_each(left, reporter.tell):
            if run.place and take.is_loose and (click := reference_take(run)):
                place_by_click(take, click)
            elif run.place and take.part and take.part.sends:
                with suppress(NoAnswer):
                    place_by_instrument(take, load_plan(run.session.rig))
            elif run.place and is_sure_enough(take) and not take.doubtful:
                place(take)


def rescue_partial_takes() -> None:
    """At the start of the worker: what a pass had recorded when the program died becomes takes."""
    audio.forget_unfinished()
    for path in audio.folder("partial").glob("*.f32"):
        run = Pass.objects.filter(uid=path.stem).first()
        if run is None:
            path.unlink()
            continue
        try:
            keep_takes(run)
        except DiskFull:
            log.exception("what pass %s had recorded waits for room", run.uid)
        except Exception:
            # A worker that cannot start helps nobody; the frames stay for a person to look at.
            log.exception("what pass %s had recorded could not be made into takes", run.uid)
            path.replace(path.with_suffix(".broken"))
    for run in Pass.objects.filter(takes__in=Take.objects.waiting(), measuring=None).distinct():
        ask_to_measure(run)
