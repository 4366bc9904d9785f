"""What is a pass made of, can these parts be recorded in one, and which return is silent meanwhile?

`plan_pass` is the one way from a plan, armed tracks and known latenesses to a pass; what it finds is frozen, so that
later changes of the rig do not reach a pass that was recorded before them.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from hypotaxis.core.errors import CannotSchedule, SharedReturn
from hypotaxis.core.mixing.desk import COUNTED, OFF, Mixing
from hypotaxis.core.plan import Instrument, Loop, Plan, Return
from hypotaxis.core.playing.count_in import count_in_s
from hypotaxis.core.rig.listening import leading_boxes
from hypotaxis.core.rig.trips import recording_interface, returns_text
from hypotaxis.core.session.beside import HeardBeside, beside_of
from hypotaxis.core.session.schedule import TAIL_S, PlayedPart, Round, Schedule, plan_run
from hypotaxis.core.session.tempo import TempoMap
from hypotaxis.core.session.voices import returns_of
from hypotaxis.core.session.watching import Sender, WatchedInput, watched_inputs
from hypotaxis.core.studio import AT_ONCE
from hypotaxis.core.sync.following import ports_that_send
from hypotaxis.core.sync.values import Sending
from hypotaxis.core.timing.context import context_of, context_of_loop
from hypotaxis.core.timing.together import together

EFFECT_TAIL_S = 6.0
"""What an effect rings on for longer than a note does (common practice): so much is recorded of it at least."""
OPEN_S = 3600.0
"""How long a loop goes on at most that is played until it is stopped."""


@dataclass(frozen=True, eq=False)
class ArmedTrack:
    """A track armed for a pass."""

    uid: str
    name: str
    instrument: Instrument | None
    """The one it is assigned to; None = none."""
    part: str = ""
    """Uid of the instrument's part that plays it, "" = the first."""
    calls: tuple[bytes, ...] = ()
    """The messages that call up its sound."""
    only: tuple[int, ...] = ()
    """The notes of the voices that it is, of a track of single voices; () = it plays all."""
    loop: Loop | None = None
    """The effect loop that it is a track of: sent is what stands of another track, and no notes."""
    source: str = ""
    """Uid of the track whose sound is sent through the loop."""

    @property
    def returns(self) -> tuple[Return, ...]:
        """By which returns it comes home, its own first; () where it has none."""
        if self.loop:
            home = Return(uid="", name="", inputs=self.loop.returns, inverted=self.loop.inverted)
            return (home,) if home.inputs else ()
        if self.instrument is None or not (self.only or self.instrument.returns):
            return ()
        return returns_of(self.instrument, self.only)

    @property
    def owner(self) -> Instrument | Loop:
        """What plays it."""
        return self.loop or self.instrument

    @property
    def inputs(self) -> tuple[str, ...]:
        """Every input by which it comes home, each once."""
        return tuple(dict.fromkeys(uid for one in self.returns for uid in one.inputs))


@dataclass(frozen=True)
class InputUse:
    """An input a pass records: the return's socket uid, its system name, and how it is spoken of."""

    socket: str
    system_name: str
    name: str


@dataclass(frozen=True)
class RecordedReturn:
    """A return by which a recorded part comes home. uid, name: "" for the instrument's main one; columns: places of
    its inputs among those of the pass; returns_text: as it is spoken of."""

    uid: str
    name: str
    columns: tuple[int, ...]
    returns_text: str
    inverted: bool = False


@dataclass(frozen=True)
class RecordedPart:
    """What a pass froze of a track at its start."""

    track: str
    track_name: str
    instrument: str
    instrument_name: str
    port: str
    """System name of the port its notes leave by."""
    channel: int
    calls: tuple[bytes, ...]
    gap_ms: float
    shift_ms: float
    """By how much its notes are sent later than they are written, − earlier."""
    home_trim_db: float
    returns: tuple[RecordedReturn, ...]
    """By which it comes home, the track's own last: its take is the newest of the track."""
    context: Mapping[str, str] = field(default_factory=dict)
    """What its lateness depends on (core.timing.context)."""
    voices: Mapping[int, str] = field(default_factory=dict)
    """Of notes of single voices: the uid of the further return they come by, "" = the main one."""
    sends: tuple[str, ...] = ()
    """Of an effect loop: system names of the outputs on which the sound of another track is sent."""
    source: str = ""
    """That track."""

    def notes_by(self, back: str, notes: np.ndarray) -> np.ndarray:
        """Which of these note numbers sound in what came by a return (its uid); by one that no voice names any may."""
        if back and back not in self.voices.values():
            return np.ones(len(notes), dtype=bool)
        return np.array([self.voices.get(int(note), "") == back for note in notes], dtype=bool)


@dataclass(frozen=True)
class SentClock:
    """What a pass froze of a port that sends clock. port: its system name."""

    port: str
    sending: Sending


@dataclass(frozen=True)
class LedBy:
    """The box whose clock a pass goes by. port: system name of the port by which that comes; until_stop: it goes on
    until the box stops, not to its last bar."""

    name: str
    port: str
    until_stop: bool = False


@dataclass(frozen=True)
class Reference:
    """A click that is recorded beside a pass. loop, name: by which cable; output: system name of what plays it; column:
    place of its input among those of the pass."""

    loop: str
    name: str
    output: str
    column: int


@dataclass(frozen=True)
class PassSetup:
    """A pass as it is frozen at its start."""

    parts: tuple[RecordedPart, ...]
    inputs: tuple[str, ...]
    """System names of what is recorded, in the order of the columns."""
    names: tuple[str, ...]
    """As the inputs are spoken of."""
    first_sample: int
    """Session position of the first frame."""
    frames: int
    rate: int
    watched: tuple[WatchedInput, ...] = ()
    """Heard and not recorded."""
    clocks: tuple[SentClock, ...] = ()
    """What is sent to boxes that follow."""
    rounds: tuple[Round, ...] = ()
    """Of a loop: each time round, a take of its own of each return; none: played once."""
    run_in: int = 0
    """Bars that are played before its first one, the first time."""
    tail_s: float = TAIL_S
    """What is recorded behind its last bar."""
    count_in: int = 0
    """Bars that are counted in before."""
    begins: str = AT_ONCE
    """What it waits for, one of core.studio.BEGINS."""
    reference: Reference | None = None
    """A click that is recorded beside it, for what has no notes."""
    open_end: bool = False
    """It goes on until it is stopped."""
    led_by: LedBy | None = None
    """It waits for this box's start key and goes by its clock."""
    beside: HeardBeside | None = None
    """What is heard meanwhile."""

    @property
    def every_round(self) -> tuple[Round, ...]:
        """Each time round; of a pass that is played once, the whole run."""
        return self.rounds or (Round(0, self.frames, self.first_sample),)

    def round_at(self, frame: float) -> int:
        """Which time round a frame of the run lies in, from 0; what comes before the first counts to it."""
        rows = self.every_round
        return next((number for number in reversed(range(len(rows))) if rows[number].start <= frame), 0)

    def us_at(self, frame: float) -> float:
        """The place in the session, in µs, of a frame of the run."""
        now = self.every_round[self.round_at(frame)]
        return (now.first_sample + frame - now.start) * 1e6 / self.rate

    @property
    def seconds(self) -> float:
        """How long it takes in real time."""
        return self.frames / self.rate

    @property
    def loops(self) -> bool:
        """Whether it goes round."""
        return len(self.rounds) > 1

    @property
    def takes(self) -> int:
        """How many takes it makes."""
        return sum(len(part.returns) for part in self.parts) * len(self.every_round)

    def part_of(self, track: str) -> RecordedPart | None:
        """What was frozen of a track (uid)."""
        return next((part for part in self.parts if part.track == track), None)


def plan_pass(
    plan: Plan,
    armed: Sequence[ArmedTrack],
    tempo: TempoMap,
    *,
    first_bar: int,
    last_bar: int,
    lateness_ms: Mapping[str, float],
    clock_ms: Mapping[str, float] | None = None,
    times: int = 1,
    run_in: int = 0,
    count_in: int = 0,
    tail_s: float = TAIL_S,
    begins: str = AT_ONCE,
    open_end: bool = False,
    reference: str = "",
    led_by: LedBy | None = None,
    mixing: Mixing | None = None,
) -> PassSetup:
    """What a pass of bars first_bar to last_bar is made of, played `times` times (0: until it is stopped, for an hour
    at most), so many bars run in. lateness_ms: what is known, by the
    uid of instruments; who plays together is shifted by it; mixing: what is heard meanwhile;
    count_in: bars that are counted in; begins: one of core.studio.BEGINS; open_end: it goes on until it is stopped,
    also behind its last bar; reference: the effect loop (uid) without a box by which a click is recorded beside it;
    clock_ms: how late boxes step by their clock, by the uid of the port. Raises CannotSchedule when it cannot be
    recorded, with the reason."""
    check_pass(plan, armed)
    if led_by and times != 1:
        raise CannotSchedule(
            f"A pass that {led_by.name} leads is played once. Set its times to 1, or begin it at once."
        )
    inputs = inputs_of(plan, armed)
    columns = {use.socket: place for place, use in enumerate(inputs)}
    notes = [track for track in armed if not track.loop]
    shifts = {one.uid: round(one.shift_ms, 3) for one in together(lateness_ms, plan.rig.together)}
    tail_s = max(tail_s, EFFECT_TAIL_S) if len(notes) < len(armed) else tail_s
    if open_end and times != 1:
        raise CannotSchedule(
            "A loop that goes on until you stop has 0 times. To record on without one, set times to 1."
        )
    if led_by and (count_in or begins != AT_ONCE):
        raise CannotSchedule(f"{led_by.name} starts this pass, so nothing is counted in, and no note begins it.")
    if led_by and (reference or len(notes) < len(armed)):
        raise CannotSchedule(
            f"A pass that {led_by.name} leads goes by its clock: a click, and what is sent through an effect, would "
            "not be in step with it. Begin it at once."
        )
    heard = _beside(plan, armed, mixing, led_by) if mixing else None
    if count_in and heard is None:
        heard = beside_of(plan, replace(mixing or Mixing(), click=COUNTED), [])
    before = count_in_s(tempo, first_bar=max(1, first_bar - run_in), bars=count_in)
    bars = {"first_bar": first_bar, "last_bar": last_bar, "run_in": run_in, "count_in_s": before, "tail_s": tail_s}
    often = times or times_in(tempo, first_bar, last_bar, OPEN_S)
    run = plan_run([], tempo, **bars, sample_rate=plan.rig.sample_rate, times=often)
    beside = _reference(plan, reference, inputs) if reference else None
    if beside:
        inputs = (*inputs, beside.input)
    return PassSetup(
        parts=tuple(_recorded(plan, track, columns, shifts.get(track.owner.uid, 0.0)) for track in armed),
        inputs=tuple(use.system_name for use in inputs),
        names=tuple(use.name for use in inputs),
        first_sample=run.first_sample,
        frames=run.frames,
        rate=run.sample_rate,
        watched=watched_inputs(
            plan, tuple(columns), [track.owner.box for track in armed], [_sender(track) for track in notes]
        ),
        clocks=clocks_of(plan, clock_ms or {}),
        rounds=run.rounds if often > 1 or count_in else (),
        run_in=run_in,
        tail_s=tail_s,
        count_in=count_in,
        begins=begins,
        open_end=not times or open_end or bool(led_by and led_by.until_stop),
        led_by=led_by,
        beside=heard,
        reference=beside.frozen if beside else None,
    )


@dataclass(frozen=True)
class _Beside:
    """A reference on its way into a pass."""

    input: InputUse
    frozen: Reference


def _reference(plan: Plan, uid: str, inputs: Sequence[InputUse]) -> _Beside:
    """The way of a click that is recorded beside. Raises CannotSchedule."""
    loop = plan.loop(uid)
    ends = [plan.rig.find(one) for one in (*loop.sends[:1], *loop.returns[:1])] if loop else []
    if len(ends) != 2 or None in ends:
        raise CannotSchedule(
            "The cable for the click beside it is gone. Define it anew on Instruments, as a loop without a box."
        )
    (_, out), (_, home) = ends
    if home.uid in [one.socket for one in inputs]:
        raise CannotSchedule(
            f"The click comes home on {home.name}, and so does what is recorded. Choose another input."
        )
    use = InputUse(home.uid, home.system_name, home.name)
    return _Beside(use, Reference(loop.uid, loop.name, out.system_name, len(inputs)))


def _beside(plan: Plan, armed: Sequence[ArmedTrack], mixing: Mixing, led_by: LedBy | None) -> HeardBeside | None:
    found = beside_of(plan, mixing, [(one, track.owner.home_trim_db) for track in armed for one in track.returns])
    if found is None or led_by is None:
        return found
    # Who leads goes by its own tempo: takes and click of the session's would not be in step with it.
    return replace(found, takes=False, click=OFF) if found.through else None


def times_in(tempo: TempoMap, first_bar: int, last_bar: int, seconds: float) -> int:
    """How often these bars are played in a time, once at least."""
    begins, ends = tempo.us_at(np.array([tempo.bar_tick(first_bar), tempo.bar_tick(last_bar + 1)])) / 1e6
    return max(1, int(seconds / (ends - begins))) if ends > begins else 1


def last_bar_within(tempo: TempoMap, first_bar: int, seconds: float) -> int:
    """The last bar of which any begins within a time from a bar on."""
    begins = float(tempo.us_at(tempo.bar_tick(first_bar)))
    return tempo.position(tempo.tick_at_us(begins + seconds * 1e6)).bar


def leader_of(plan: Plan, *, until_stop: bool = False) -> LedBy | None:
    """The box that leads, with the port by which its clock comes; None while the host leads, or none of its clock
    reaches a port with that duty."""
    box, end = plan.rig.box(plan.rig.leader), leading_boxes(plan.rig).get(plan.rig.leader)
    return LedBy(box.name, end.socket.system_name, until_stop) if box and end and end.socket.system_name else None


def clocks_of(plan: Plan, clock_ms: Mapping[str, float]) -> tuple[SentClock, ...]:
    """What is sent to boxes that follow, port by port; nothing while a box leads. clock_ms: how late boxes step by
    their clock, by the uid of the port: sent earlier by so much where that is compensated."""
    found = []
    for port, sending in ports_that_send(plan):
        if sending.compensate and port.uid in clock_ms:
            sending = replace(sending, shift_ms=round(-clock_ms[port.uid], 3))
        found.append(SentClock(port.system_name, sending))
    return tuple(found)


def _sender(track: ArmedTrack) -> Sender:
    seat = track.instrument.seat(track.part)
    return Sender(track.uid, seat.send, seat.channel)


def _recorded(plan: Plan, track: ArmedTrack, columns: Mapping[str, int], shift_ms: float) -> RecordedPart:
    def recorded(one: Return) -> RecordedReturn:
        places = tuple(columns[uid] for uid in one.inputs)
        return RecordedReturn(one.uid, one.name, places, returns_text(plan.rig, one.inputs), one.inverted)

    own, *further = track.returns
    if track.loop:
        return RecordedPart(
            track=track.uid,
            track_name=track.name,
            instrument=track.loop.uid,
            instrument_name=track.loop.name,
            port="",
            channel=1,
            calls=(),
            gap_ms=0.0,
            shift_ms=0.0,
            home_trim_db=track.loop.home_trim_db,
            returns=(recorded(own),),
            context=context_of_loop(plan, track.loop),
            sends=tuple(plan.rig.find(uid)[1].system_name for uid in track.loop.sends),
            source=track.source,
        )
    instrument = track.instrument
    seat = instrument.seat(track.part)
    return RecordedPart(
        track=track.uid,
        track_name=track.name,
        instrument=instrument.uid,
        instrument_name=instrument.name,
        port=plan.rig.find(seat.send)[1].system_name,
        channel=seat.channel,
        calls=track.calls,
        gap_ms=instrument.gap_ms,
        shift_ms=shift_ms,
        home_trim_db=instrument.home_trim_db,
        returns=tuple(recorded(one) for one in (*further, own)),
        context=context_of(plan, instrument, part=track.part, back=own.uid),
        voices={voice.note: voice.home for voice in instrument.voices},
    )


def schedule_pass(
    setup: PassSetup,
    played: Mapping[str, tuple[np.ndarray, np.ndarray]],
    tempo: TempoMap,
    *,
    first_bar: int,
    last_bar: int,
) -> Schedule:
    """What a pass sends. played: notes and controls by the uid of a track; a track that is gone sends nothing."""
    parts = [
        PlayedPart(part.port, part.channel, *played[part.track], part.calls, part.gap_ms, part.shift_ms)
        for part in setup.parts
        if part.track in played and not part.sends
    ]
    clocks = [(one.port, one.sending) for one in setup.clocks]
    bars = {"first_bar": first_bar, "last_bar": last_bar}
    before = count_in_s(tempo, first_bar=max(1, first_bar - setup.run_in), bars=setup.count_in)
    how = {"clocks": clocks, "times": len(setup.every_round), "count_in_s": before}
    how |= {"run_in": setup.run_in, "tail_s": setup.tail_s}
    return plan_run(parts, tempo, **bars, sample_rate=setup.rate, **how)


def check_pass(plan: Plan, armed: Sequence[ArmedTrack]) -> None:
    """Raises CannotSchedule (or its kind SharedReturn) when these tracks cannot be recorded in one pass."""
    if not armed:
        raise CannotSchedule("No track is armed. Arm at least one track, then record.")
    heard_by: dict[str, ArmedTrack] = {}
    for track in armed:
        instrument = track.owner
        if instrument is None:
            raise CannotSchedule(f"{track.name} has no instrument. Choose one for it, or disarm it.")
        if track.loop:
            _check_loop(plan, track, armed)
        elif plan.rig.find(instrument.send) is None:
            raise CannotSchedule(f"{instrument.name} has no send socket: its notes would go nowhere.")
        if not track.returns:
            raise CannotSchedule(f"{instrument.name} has no return: nothing would be recorded of {track.name}.")
        for uid in track.inputs:
            if plan.rig.find(uid) is None:
                raise CannotSchedule(f"The return of {instrument.name} is gone. Choose it anew on Instruments.")
            _check_interface(plan, track, uid)
            other = heard_by.setdefault(uid, track)
            if other.uid != track.uid:
                shared = tuple(one for one in track.inputs if one in other.inputs)
                raise SharedReturn(
                    f"{other.name} and {track.name} both come home on {returns_text(plan.rig, shared)}: "
                    "in one pass they would be mixed in one take. Record them in a pass each."
                )


def _check_loop(plan: Plan, track: ArmedTrack, armed: Sequence[ArmedTrack]) -> None:
    loop = track.loop
    if not loop.sends or any(plan.rig.find(uid) is None for uid in loop.sends):
        raise CannotSchedule(
            f"{loop.name} has no send that is there: nothing would reach it. Choose it on Instruments."
        )
    if not track.source:
        raise CannotSchedule(f"{track.name} is sent nothing. Choose on Session the track whose take goes through it.")
    if source := next((one for one in armed if one.uid == track.source), None):
        raise CannotSchedule(
            f"{track.name} is sent the placed take of {source.name}, which is only recorded in this pass. Record "
            f"{source.name} first, {track.name} after it."
        )
    effects = [one for one in armed if one.loop and one.uid != track.uid]
    other = next((one for one in effects if set(one.loop.sends) & set(loop.sends)), None)
    if other:
        raise CannotSchedule(f"{track.name} and {other.name} are sent by one output. Record them in a pass each.")


def _check_interface(plan: Plan, track: ArmedTrack, uid: str) -> None:
    first, box = recording_interface(plan.rig), plan.rig.find(uid)[0]
    if first and box.uid != first.uid:
        raise CannotSchedule(
            f"{track.owner.name} comes home on {box.name}, and sound is recorded by one interface, {first.name}: "
            f"two have clocks of their own. Cable it to {first.name}, and choose that as its return."
        )


def inputs_of(plan: Plan, armed: Sequence[ArmedTrack]) -> tuple[InputUse, ...]:
    """The inputs of the tracks' returns, each once, in order."""
    uses: dict[str, InputUse] = {}
    for track in armed:
        for uid in track.inputs:
            found = plan.rig.find(uid)
            if found:
                uses.setdefault(uid, InputUse(uid, found[1].system_name, found[1].name))
    return tuple(uses.values())


def live_return_silent(has_take: bool, being_recorded: bool) -> bool:
    """Whether a track's live return is held silent: as soon as a take of it exists or is being made.

    Heard together with its take, a return would double or phase.
    """
    return has_take or being_recorded
