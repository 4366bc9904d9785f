"""The mix of a session as a file, with its loudness; what has no take yet is recorded for it in real time, if
wished."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np
from django.utils import timezone

from hypotaxis.core.errors import BadBars, CannotSchedule
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.formats.wave import Broadcast, write_wave
from hypotaxis.core.mixing.figures import FigureReader
from hypotaxis.core.plan import Plan
from hypotaxis.core.session.passes import check_pass
from hypotaxis.core.session.schedule import LEAD_IN_S, TAIL_S
from hypotaxis.core.units import FLOOR_DB, clock_text, counted, db_to_factor, stored_level_text
from hypotaxis.records import audio, jobs
from hypotaxis.records.jobs import Reporter, ask, running, work
from hypotaxis.records.models import Job, Pass, Session, Track
from hypotaxis.records.plan import last_bar_of, load_plan, notes_in_bars
from hypotaxis.records.session_mix import BLOCK, SessionMix
from hypotaxis.steps.session.services import recording

KIND = "bounce"
KEPT = 12
ROOM_DB = 0.1
"""Left below full scale where the mix is lowered for not to clip."""


@dataclass(frozen=True)
class BounceWish:
    """What is asked for. live: what has no take is recorded first."""

    first_bar: int
    last_bar: int
    live: bool = False
    fast: bool = False


@dataclass(frozen=True)
class Bounced:
    """What came of it. lufs, peak_db: of the file; lowered_db: by how much it was turned down for not to clip."""

    file: str
    seconds: float
    lufs: float
    peak_db: float
    lowered_db: float
    tracks: int
    left_out: tuple[str, ...] = ()

    @property
    def told(self) -> str:
        """In a sentence."""
        loud = f"{stored_level_text(self.lufs)} LUFS" if self.lufs > FLOOR_DB else "silent"
        lowered = f", turned down by {self.lowered_db:.1f} dB so that nothing clips" if self.lowered_db else ""
        of = counted(self.tracks, "track")
        return f"{clock_text(self.seconds)} of {of}, {loud}, peak {stored_level_text(self.peak_db)} dBFS{lowered}."


def start_bounce(session: Session, plan: Plan, wish: BounceWish, *, token: str = "") -> Job:
    """Let the worker make it. Raises BadBars, CannotSchedule."""
    last = last_bar_of(session)
    if not 1 <= wish.first_bar <= wish.last_bar <= last:
        raise BadBars(f"Bars {wish.first_bar} to {wish.last_bar} are none of this session: it has {last}.")
    if wish.live:
        check_pass(plan, recording.armed_tracks(missing(session, plan, wish), plan))
        if Pass.objects.filter(session__rig=session.rig, job__state__in=Job.UNFINISHED).exists():
            raise CannotSchedule("A pass is still running. Stop it, or wait until it is done.")
    elif not SessionMix(session, rate=plan.rig.sample_rate).sounds:
        raise CannotSchedule("No track is heard: record a pass and place its takes, or open what is muted.")
    return ask(KIND, about=str(session.uid), request=to_json(wish), token=token)


def newest(session: Session) -> Job | None:
    """The last one that was asked for."""
    return jobs.newest(KIND, str(session.uid))


def came_of(job: Job) -> Bounced | None:
    """What came of one that is done, while its file is there."""
    found = from_json(Bounced, job.result) if job.state == Job.DONE and job.result else None
    return found if found and path_of(found).exists() else None


def path_of(one: Bounced) -> Path:
    """Where its file is."""
    return audio.folder("bounced") / one.file


def missing(session: Session, plan: Plan, wish: BounceWish) -> list[Track]:
    """The tracks that would be heard and have no take: their live returns."""
    silent = {
        one.row.uid: one for one in SessionMix(session, rate=plan.rig.sample_rate).tracks if one.why == "no take yet"
    }
    apart = {one.row.voice_of_id for one in silent.values()}
    return [
        one.row
        for uid, one in silent.items()
        if uid not in apart and one.row.instrument_uid and len(notes_in_bars(one.row, wish.first_bar, wish.last_bar))
    ]


@work(KIND)
def bounce(job_uid: str) -> None:
    """The task: record what is missing, measure the sum, write it."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        session = Session.objects.select_related("rig").get(uid=reporter.job.about)
        wish = from_json(BounceWish, reporter.job.request)
        if wish.live:
            _record_missing(session, wish, reporter)
        plan = load_plan(session.rig)
        mix = SessionMix(session, rate=plan.rig.sample_rate)
        made = _write(mix, wish, reporter)
        Job.objects.filter(uid=job_uid).update(result=to_json(made))


def _record_missing(session: Session, wish: BounceWish, reporter: Reporter) -> None:
    plan = load_plan(session.rig)
    bars = {"first_bar": wish.first_bar, "last_bar": wish.last_bar}
    run = recording.record_now(session, plan, missing(session, plan, wish), **bars, fast=wish.fast)
    reporter.report(0.0)
    if run.job.state != Job.DONE:
        raise CannotSchedule(
            f"Pass {run.number}, which was to record what is missing, did not end well: {run.job.message}"
        )
    unplaced = [take.title for take in run.takes.filter(placement=None)]
    if unplaced:
        raise CannotSchedule(
            f"{', '.join(unplaced)} could not be placed by itself, so it is not in the mix yet. Place it by hand "
            "on Session, then make the mix."
        )


def _write(mix: SessionMix, wish: BounceWish, reporter: Reporter) -> Bounced:
    first = round(float(mix.tempo.samples_at(mix.tempo.bar_tick(wish.first_bar), mix.rate)) - LEAD_IN_S * mix.rate)
    last = round(float(mix.tempo.samples_at(mix.tempo.bar_tick(wish.last_bar + 1), mix.rate)) + TAIL_S * mix.rate)

    def blocks(gain: float, done: float) -> Iterator[np.ndarray]:
        for start in range(first, last, BLOCK):
            reporter.tell(done + (start - first) / (last - first) / 2)
            yield mix.read(start, min(last, start + BLOCK)) * gain

    reader = FigureReader(mix.rate, 2)
    for block in blocks(1.0, 0.0):
        reader.feed(block)
    figures = reader.found()
    lowered = round(figures.peak_db + ROOM_DB, 1) if figures.peak_db > -ROOM_DB else 0.0
    bext = Broadcast(
        description=f"{mix.session.name}: mix of bars {wish.first_bar} to {wish.last_bar}"[:256],
        recorded=timezone.localtime().replace(tzinfo=None),
        time_reference=max(0, first),
        history=f"A=PCM,F={mix.rate},W=24,M=stereo,T=Hypotaxis",
    )

    def write(stream: BinaryIO) -> None:
        form = {"rate": mix.rate, "channels": 2, "frames": last - first}
        write_wave(stream, blocks(db_to_factor(-lowered), 0.5), **form, bext=bext)

    audio.forget_old("bounced", "*.wav", KEPT - 1)
    path = audio.folder("bounced") / f"{reporter.job.uid}.wav"
    audio.write_whole("bounced", ".wav", write).replace(path)
    tracks = len([key for key in mix.sounds if key])
    lufs = figures.lufs - lowered if figures.lufs > FLOOR_DB else FLOOR_DB
    peak = figures.peak_db - lowered if figures.peak_db > FLOOR_DB else FLOOR_DB
    seconds = (last - first) / mix.rate
    return Bounced(path.name, seconds, lufs, peak, lowered, tracks, tuple(mix.left_out))
