"""Proving on the box itself that it stays in step: it plays its own pattern to the clock it is sent, recorded."""

from collections.abc import Sequence
from contextlib import closing
from dataclasses import asdict, replace

import numpy as np
from django.db import transaction

from hypotaxis.core.errors import CannotSchedule, StudioTrouble, WrongScore
from hypotaxis.core.formats.plain import as_lists, to_json
from hypotaxis.core.midi.messages import note_off, note_on
from hypotaxis.core.plan import Instrument, Plan
from hypotaxis.core.rig.values import Box
from hypotaxis.core.studio import Message, RunSetup, Written
from hypotaxis.core.sync.course import Course
from hypotaxis.core.sync.following import bar_ticks, clocked, misstep_told, sending_of, walk
from hypotaxis.core.sync.proof import Proof as Proved
from hypotaxis.core.sync.proof import prove
from hypotaxis.core.sync.sending import events
from hypotaxis.core.sync.values import ARPEGGIO, OSCILLATOR
from hypotaxis.core.units import CLOCKS_A_QUARTER, counted, signed
from hypotaxis.records.jobs import Reporter, begin, hand_over, running, work
from hypotaxis.records.models import Job, Proof, Rig, Session
from hypotaxis.records.plan import load_plan, song_of
from hypotaxis.records.studio import studio_for

LEAD_S, TAIL_S = 0.5, 1.0
MOST_ROUNDS = 3
"""Two wraps tell whether it slips, and whether it goes on slipping."""
LONGEST_S = 600
RECORDED_SHARE = 0.9
"""Of the work; the rest is reading what was recorded."""
HELD_KEYS = (48, 55, 60, 64, 67)
"""Five, so that their turn does not fall on the same sixteenths again and again."""
HELD_BEFORE_NS = 200_000_000
LOST_A_CLOCK = 0.75
"""Later than this share of a clock it may have lost one."""


def proof_course(song: Course) -> Course:
    """What is played for a proof: the song's loop, so often that it wraps twice."""
    return replace(song, times=min(song.times, MOST_ROUNDS))


def start_proof(rig: Rig, session: Session, plan: Plan, box: Box, *, fast: bool) -> Proof:
    """Ask the worker for a proof; raises CannotSchedule with the reason where there can be none."""
    _check(plan, box)
    with transaction.atomic():
        busy = Proof.objects.filter(rig=rig, job__state__in=Job.UNFINISHED).first()
        if busy:
            raise CannotSchedule("Another proof is still running. Stop it, or wait until it is done.")
        job = begin("proving", about=str(box.uid))
        port = clocked(plan)[box.uid][0].port
        context = _context(plan, box, port)
        row = Proof.objects.create(
            rig=rig, session=session, box_uid=box.uid, port=port, fast=fast, job=job, context=context
        )
    hand_over(job)
    return row


def _check(plan: Plan, box: Box) -> Instrument:
    """Raises CannotSchedule where a box cannot be proved; the instrument by which it comes home."""
    if plan.song is None:
        raise CannotSchedule("There is no song whose tempo could be sent. Import a session first.")
    if box.uid not in clocked(plan):
        raise CannotSchedule(f"{box.name} gets no clock. Send it on the port that leads to it first.")
    if not box.following.lasts_ticks:
        raise CannotSchedule(f"Say first how long the pattern of {box.name} is.")
    home = next((one for one in plan.instruments_of(box.uid) if one.returns), None)
    if home is None:
        raise CannotSchedule(f"{box.name} comes home nowhere: give its instrument a return on Instruments first.")
    course = proof_course(plan.song)
    seconds = course.lasts / course.per_us / 1e6
    if seconds > LONGEST_S:
        raise CannotSchedule(f"It would take {seconds / 60:.0f} minutes; ten at the most. Loop fewer bars.")
    whole = (course.loop[1] - course.begin) * CLOCKS_A_QUARTER / course.tempo.ticks_per_quarter
    if course.times > 1 and whole < box.following.lasts_ticks:
        raise CannotSchedule(
            f"The way to the first wrap is shorter than the pattern of {box.name}, so that it cannot be learnt. Begin "
            "the run earlier, or loop more bars."
        )
    return home


def _context(plan: Plan, box: Box, port: str) -> dict:
    """What a proof depends on: of another one it is stale."""
    song = plan.song
    following = {name: as_lists(value) for name, value in asdict(box.following).items()}
    sending = asdict(sending_of(plan, port))
    bars = [song.begin, *song.loop, min(song.times, MOST_ROUNDS)] if song else []
    tempo = as_lists(song.tempo.tempos) if song else []
    where = {"studio": plan.studio_kind, "rate": plan.rig.sample_rate, "buffer": plan.rig.buffer}
    return {"following": following, "sending": sending, "bars": bars, "tempo": tempo, "port": port} | where


@work("proving")
def record_proof(job_uid: str) -> None:
    """The task: send, record, read."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row = Proof.objects.select_related("rig", "session").get(job_id=job_uid)
        plan = replace(load_plan(row.rig), song=song_of(row.session))
        box = plan.rig.box(row.box_uid)
        if box is None:
            raise CannotSchedule("The box is gone.")
        try:
            found = _proved(row, plan, box, reporter)
        except WrongScore:
            Proof.objects.filter(uid=row.uid).update(own_time=True)
            raise
        Proof.objects.filter(uid=row.uid).update(result=to_json(found))


def _proved(row: Proof, plan: Plan, box: Box, reporter: Reporter) -> Proved:
    home, course = _check(plan, box), proof_course(plan.song)
    sending = replace(sending_of(plan, row.port), shift_ms=0.0, compensate=False)
    with studio_for(plan) as studio:
        if row.fast and not studio.hurries:
            raise StudioTrouble("Real hardware plays in real time only. Switch faster than real time off.")
        rate = studio.sample_rate
        lead = round(LEAD_S * rate)
        begins_ns = round(lead * 1e9 / rate)
        lasts_ns = int(course.ns(course.lasts))
        sent = events(course, sending, before_ns=begins_ns, after_ns=round(TAIL_S * 1e9))
        port = plan.rig.find(row.port)[1].system_name
        leaving = [Message(max(0, one.time_ns + begins_ns), port, one.data) for one in sent]
        source = Written(leaving + _held(box, home.channel, port, begins_ns, begins_ns + lasts_ns))
        names = tuple(plan.rig.find(uid)[1].system_name for uid in home.returns)
        asked = RunSetup(inputs=names, frames=lead + round((lasts_ns / 1e9 + TAIL_S) * rate), fast=row.fast)
        reporter.whole_s = asked.frames / rate
        pieces: list[np.ndarray] = []
        lost = 0
        with closing(studio.run(source, asked)) as blocks:
            for block in blocks:
                pieces.append(block.samples)
                lost += sum(gap.frames for gap in block.lost)
                reporter.tell(RECORDED_SHARE * (block.start + len(block.samples)) / asked.frames)
    if lost:
        raise StudioTrouble(f"{lost} frames did not come while it played; nothing can be proved by that. Try again.")
    predicted = walk(course, sending, box.following)
    samples = np.concatenate(pieces)
    told = {"lasts": box.following.lasts_ticks, "predicted": predicted, "swings": box.following.plays == OSCILLATOR}
    return prove(samples, rate, course, zero=float(lead), **told)


def _held(box: Box, channel: int, port: str, begins_ns: int, ends_ns: int) -> list[Message]:
    """Keys that are held for an arpeggio, which plays nothing else, and for something that swings, which is heard on
    what sounds."""
    if box.following.plays not in (ARPEGGIO, OSCILLATOR):
        return []
    keys = HELD_KEYS if box.following.plays == ARPEGGIO else HELD_KEYS[:1]
    begins = [Message(begins_ns - HELD_BEFORE_NS, port, note_on(channel, note, 100)) for note in keys]
    return begins + [Message(ends_ns + 1_000_000, port, note_off(channel, note)) for note in keys]


def is_stale(row: Proof, plan: Plan, box: Box) -> bool:
    """Whether what a proof depends on has changed since."""
    return row.context != _context(plan, box, row.port)


def verdict(plan: Plan, box: Box, found: Proved) -> str:
    """What a proof says, in sentences."""
    spread = f"±{found.half_ms:.2f}"
    steps = (
        f"Its steps come {signed(found.lateness_ms)} ms ({spread}), jitter {found.jitter_ms:.2f} ms, by {found.steps}."
    )
    low, high = found.bpm
    tempo = f"It follows {low:.4g} BPM." if low == high else f"It follows from {low:.4g} to {high:.4g} BPM."
    clock_ms = 2500 / found.bpm[0]
    lost = " That is about a clock: it may lose the first one." if found.lateness_ms > LOST_A_CLOCK * clock_ms else ""
    return f"{tempo} {steps}{lost} {_wraps_told(plan, box, found)}".strip()


def _wraps_told(plan: Plan, box: Box, found: Proved) -> str:
    if not found.wraps:
        return ""
    if found.in_step and found.as_predicted:
        doubt = "" if all(wrap.sure for wrap in found.wraps) else " What it plays fits other places as well."
        return f"In step at {counted(len(found.wraps), 'wrap')}, as predicted.{doubt}"
    if found.as_predicted:
        return f"As predicted it is {_off(plan, box, found.wraps)}."
    if found.in_step:
        return "In step, where it was predicted to part: look at what it obeys."
    return f"It is {_off(plan, box, found.wraps)}, and that was not predicted: look at what it obeys."


def _off(plan: Plan, box: Box, wraps: Sequence) -> str:
    first = next((wrap for wrap in wraps if wrap.measured), wraps[0])
    told = misstep_told(first.measured, bar_ticks(plan.song), box.following.lasts_ticks)
    return f"{told} after wrap {first.number}"
