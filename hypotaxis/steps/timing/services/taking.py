"""Soundings taken by the studio: the pattern goes out, what comes home is recorded, measured and kept.

Each sounding is a job of its own, so that several in a row go one after the other, each with its progress, and any of
them can be stopped. The recording is kept as a file like one of the owner's and measured by the same code.
"""

from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, replace

import numpy as np
import soundfile
from django.db import transaction

from hypotaxis.core.errors import CannotSchedule, NoAnswer, StudioTrouble
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.midi.programs import change_messages
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.playing.tryout import usual_note
from hypotaxis.core.studio import Lost, Message, RunSetup, Studio, Written
from hypotaxis.core.sync.following import standing_clock
from hypotaxis.core.timing.apart import measure_apart
from hypotaxis.core.timing.context import context_of, context_of_loop
from hypotaxis.core.timing.sounded import PatternRun, clear_score, loop_run, played_run
from hypotaxis.core.timing.wish import Wish, clock_schedule
from hypotaxis.records.audio import write_whole
from hypotaxis.records.jobs import (
    Cancelled,
    Reporter,
    ask_to_cancel,
    asked_before,
    begin,
    hand_over,
    running,
    wait_again,
    work,
)
from hypotaxis.records.models import Patch, Rig, Sounding
from hypotaxis.records.patch_lists import calls_of, on_the_wire
from hypotaxis.records.plan import load_plan, standing_pace
from hypotaxis.records.stamps import kept_while
from hypotaxis.records.studio import send_apart, studio_for
from hypotaxis.steps.timing.services.sounding import keep_answer, path_of, remove_files

RECORDING_SHARE = 0.85
"""Of the time is playing in real time; the rest is measuring."""
NOT_DRIVEN = (
    "Switch the box's arpeggiator or pattern on, one sixteenth a step, and set its clock to external: a key was held "
    "and clock was sent."
)


@dataclass(frozen=True)
class SoundedTrip:
    """What is sounded: a part of an instrument and one of its returns (uids, "" = the first), or an effect loop."""

    instrument: Instrument | None = None
    part: str = ""
    back: str = ""
    loop: Loop | None = None

    @classmethod
    def of(cls, one: Instrument | Loop) -> "SoundedTrip":
        """The first trip of an instrument, or an effect loop's."""
        return cls(loop=one) if isinstance(one, Loop) else cls(one)

    @classmethod
    def every(cls, one: Instrument | Loop) -> list["SoundedTrip"]:
        """The first trip of an instrument, then those of its further parts and of its further returns."""
        if isinstance(one, Loop):
            return [cls(loop=one)]
        parts = [cls(one, part=part.uid) for part in one.parts]
        return [cls(one), *parts, *(cls(one, back=one_back.uid) for one_back in one.further)]

    @property
    def key(self) -> str:
        """How a form names it: the uid of the instrument or loop, with that of the part or way home behind it."""
        uid = self.loop.uid if self.loop else self.instrument.uid
        return "/".join(one for one in (uid, self.part or self.back) if one)

    @property
    def name(self) -> str:
        if self.loop:
            return self.loop.name
        home = next((one.name for one in self.instrument.further if one.uid == self.back), "")
        named = [self.instrument.seat(self.part).name, home]
        return ", ".join([self.instrument.name, *(one for one in named if one)])

    @property
    def inputs(self) -> tuple[str, ...]:
        if self.loop:
            return self.loop.returns
        return next(
            (one.inputs for one in self.instrument.every_return if one.uid == self.back), self.instrument.returns
        )


def trips_of(plan: Plan) -> list[SoundedTrip]:
    """Every trip of a plan that can be sounded by itself: each instrument once, each effect loop."""
    return [SoundedTrip.of(one) for one in (*plan.instruments, *plan.loops)]


def every_trip(plan: Plan) -> list[SoundedTrip]:
    """The same with those of further parts and returns."""
    return [trip for one in (*plan.instruments, *plan.loops) for trip in SoundedTrip.every(one)]


def can_sound(plan: Plan, trip: SoundedTrip) -> bool:
    """Whether a trip has a way out and home."""
    try:
        check_trip(plan, trip)
    except CannotSchedule:
        return False
    return True


def check_trip(plan: Plan, trip: SoundedTrip) -> None:
    """Raises CannotSchedule when a trip cannot be sounded, with the reason."""
    if not any(plan.rig.find(uid) for uid in trip.inputs):
        raise CannotSchedule(f"{trip.name} has no return, so nothing that comes home can be recorded.")
    sends = trip.loop.sends if trip.loop else (trip.instrument.seat(trip.part).send,)
    if not any(plan.rig.find(uid) for uid in sends):
        raise CannotSchedule(f"{trip.name} has no way out, so nothing can be sent.")


def last_wish(rig: Rig, trip: SoundedTrip) -> dict:
    """What was asked for when a trip was sounded before: its note and velocity, and the sound that was chosen for it;
    empty for one that was not."""
    mine = {"loop_uid": trip.loop.uid} if trip.loop else {"instrument_uid": trip.instrument.uid, "part_uid": trip.part}

    def read() -> dict:
        row = Sounding.objects.filter(rig=rig, studio=True, return_uid=trip.back, **mine).figures().first()
        return {name: getattr(row.asked, name) for name in ("note", "velocity", "patch")} if row and row.wish else {}

    return dict(kept_while(("soundings",), ("last wish", str(rig.uid), trip.key, trip.back), read))


def start(rig: Rig, plan: Plan, trips: Sequence[SoundedTrip], token: str = "", **wish) -> list[Sounding]:
    """Ask the worker for a sounding of each trip, in a row. token: of the form; wish: fields of Wish; what is not given
    is as it was when the trip was sounded before, otherwise a note that suits its box. Raises CannotSchedule when one
    cannot be."""
    for trip in trips:
        check_trip(plan, trip)
    with transaction.atomic():
        if before := asked_before(token):
            return [before.sounding]
        rows = []
        for place, trip in enumerate(trips):
            full = Wish(**_suited(plan, trip) | last_wish(rig, trip) | wish)
            rows.append(_row(rig, plan, trip, full, token if place == 0 else ""))
    for row in rows:
        hand_over(row.job)
    return rows


def take_again(row: Sounding) -> None:
    """Play and record once more what a sounding of the studio asked for; it ended without an answer."""
    wait_again(row.job, "sounding")


def stop(row: Sounding) -> bool:
    """Ask a sounding to stop. True: it is gone, since nothing was played yet."""
    gone = ask_to_cancel(str(row.job_id)) and row.studio and not row.recording
    if gone:
        row.job.delete()
    return gone


def _suited(plan: Plan, trip: SoundedTrip) -> dict:
    """A note that comes home by the trip's return: a voice of its own there, otherwise what the box usually answers."""
    if not trip.instrument:
        return {}
    voices = [voice.note for voice in trip.instrument.voices if trip.back and voice.home == trip.back]
    return {"note": voices[0] if voices else usual_note(plan, trip.instrument)}


def _row(rig: Rig, plan: Plan, trip: SoundedTrip, wish: Wish, token: str) -> Sounding:
    if trip.loop:
        context, mine = context_of_loop(plan, trip.loop), {"loop_uid": trip.loop.uid}
    else:
        context = context_of(plan, trip.instrument, part=trip.part, back=trip.back)
        mine = {"instrument_uid": trip.instrument.uid, "part_uid": trip.part, "return_uid": trip.back}
    job = begin("sounding", token=token)
    return Sounding.objects.create(
        name=trip.name[:80], job=job, rig=rig, studio=True, wish=to_json(wish), context=context, **mine
    )


def trip_of_row(plan: Plan, row: Sounding) -> SoundedTrip:
    """What a kept sounding is of. Raises CannotSchedule when that is no longer in the rig."""
    if row.loop_uid:
        trip = SoundedTrip(loop=plan.loop(row.loop_uid))
    else:
        trip = SoundedTrip(plan.instrument(row.instrument_uid), row.part_uid, row.return_uid)
    if not (trip.loop or trip.instrument):
        raise CannotSchedule(f"{row.name} is no longer in the rig.")
    return trip


@work("sounding")
def take(job_uid: str) -> None:
    """The task: play, record, measure, keep; what was called up before is called up again, however it ends."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        rows = Sounding.objects.filter(job_id=job_uid)
        try:
            _take(rows.select_related("rig").get(), reporter)
        except Cancelled:
            # Nothing was learnt, so nothing is kept.
            remove_files(rows.get())
            rows.delete()
            raise


def _take(row: Sounding, reporter: Reporter) -> None:
    plan = load_plan(row.rig)
    trip = trip_of_row(plan, row)
    check_trip(plan, trip)
    wish = row.asked
    _record(row, plan, trip, wish, reporter)
    try:
        read = measure_apart(
            path_of(row.score),
            path_of(row.recording),
            impulses=trip.loop is not None,
            picture=True,
            progress=lambda share: reporter.tell(RECORDING_SHARE + (1 - RECORDING_SHARE) * share),
        ).read
    except NoAnswer as error:
        if wish.test != "clock":
            raise
        raise NoAnswer(f"{error} {NOT_DRIVEN}") from error
    keep_answer(row, read)


def _record(row: Sounding, plan: Plan, trip: SoundedTrip, wish: Wish, reporter: Reporter) -> None:
    """Run the studio and keep score and recording beside the row."""
    names = [plan.rig.find(uid)[1].system_name for uid in trip.inputs if plan.rig.find(uid)]
    with studio_for(plan) as studio:
        if wish.fast and not studio.hurries:
            raise StudioTrouble("Real hardware plays in real time only. Switch faster than real time off.")
        run = _pattern_run(plan, trip, wish, studio.sample_rate)
        asked = RunSetup(inputs=tuple(names), outputs=run.outputs, frames=run.frames, fast=wish.fast)
        sounded = trip.instrument.seat(trip.part).send if wish.test == "clock" else ""
        clock = standing_clock(plan, standing_pace(row.rig), run.frames / studio.sample_rate, but=sounded)

        gaps: list[Lost] = []

        def blocks() -> Iterator[np.ndarray]:
            with closing(studio.run(run.source.beside(clock), asked)) as coming:
                for block in coming:
                    gaps.extend(block.lost)
                    yield block.samples[max(0, run.skipped - block.start) :]
                    reporter.tell(RECORDING_SHARE * (block.start + len(block.samples)) / run.frames)

        def write(stream) -> None:
            with soundfile.SoundFile(stream, "w", studio.sample_rate, len(names), "PCM_24", format="WAV") as file:
                for samples in blocks():
                    file.write(samples)

        try:
            recording = write_whole("soundings", ".recording", write)
        finally:
            if trip.instrument and wish.patch:
                _call_back(studio, plan, trip.instrument)
        score = clear_score(run, gaps, studio.sample_rate)
    data = write_smf(score)
    kept = write_whole("soundings", ".score", lambda stream: stream.write(data))
    row.score, row.recording = kept.name, recording.name
    row.score_title, row.recording_title = "The pattern of the sounding", "what came home"
    part = score.parts[0]
    row.parts = [[2, part.channel, part.name, len(part.notes)]]
    row.save()


def _pattern_run(plan: Plan, trip: SoundedTrip, wish: Wish, rate: int) -> PatternRun:
    """What goes out: impulses by a loop's first output, notes by an instrument's seat, or clock where that is
    sounded."""
    if trip.loop:
        sends = [plan.rig.find(uid)[1].system_name for uid in trip.loop.sends]
        return loop_run(wish, outputs=sends, rate=rate)
    seat = trip.instrument.seat(trip.part)
    patch = Patch.objects.filter(uid=wish.patch).first() if wish.patch else None
    calls = change_messages(seat.channel, on_the_wire(patch), trip.instrument.bank_form) if patch else []
    if not patch:
        calls = [data for send, data in calls_of(trip.instrument) if send == seat.send]
    port = plan.rig.find(seat.send)[1].system_name
    run = played_run(wish, port=port, channel=seat.channel, rate=rate, calls=calls)
    return replace(run, source=_by_clock(run, port, seat.channel, wish, rate)) if wish.test == "clock" else run


def _by_clock(run: PatternRun, port: str, channel: int, wish: Wish, rate: int) -> Written:
    """The calls of a run, then a held key and the clock in place of its notes."""
    zero_ns = run.skipped * 1e9 / rate
    calls = [message for message in run.source.written if message.time_ns == 0]
    held = clock_schedule(wish, channel)
    return Written([*calls, *(Message(round(zero_ns + ms * 1e6), port, data) for ms, data in held)])


def _call_back(studio: Studio, plan: Plan, instrument: Instrument) -> None:
    """Send what was called up before a percussive patch took its place."""
    calls = [(plan.rig.find(send)[1].system_name, data) for send, data in calls_of(instrument) if plan.rig.find(send)]
    send_apart(studio, calls, fast=studio.hurries)
