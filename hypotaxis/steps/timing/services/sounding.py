"""A recording of one's own becomes a sounding: files kept, measured in the background, compared."""

import os
import shutil
import uuid
from dataclasses import dataclass, replace
from pathlib import Path
from typing import BinaryIO

import soundfile
from django.core.files import File
from django.core.files.uploadedfile import TemporaryUploadedFile, UploadedFile
from django.db import transaction
from django.db.models import Case, When

from hypotaxis.core.errors import NoAnswer, UnsupportedScore
from hypotaxis.core.formats.audio import open_sound
from hypotaxis.core.formats.plain import to_json
from hypotaxis.core.formats.smf import write_smf
from hypotaxis.core.formats.unknown import parts_in, seconds_of
from hypotaxis.core.plan import TYPED, Instrument, Loop, Plan
from hypotaxis.core.rig.change import keep_instrument, keep_loop
from hypotaxis.core.timing.aligning import anchor_samples, fitted, shifted
from hypotaxis.core.timing.apart import measure_apart
from hypotaxis.core.timing.grid import grid_score
from hypotaxis.core.timing.measurement import Comparison, Read
from hypotaxis.records.audio import FRAMES_A_BLOCK, folder, made_once, write_whole
from hypotaxis.records.jobs import Reporter, asked_before, begin, hand_over, running, wait_again, work
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Job, Rig, Sounding
from hypotaxis.records.stamps import rows_while

ENDED = (Job.DONE, Job.FAILED)
MOST_OTHERS = 40
KEPT_ALIGNED = 12
"""Aligned recordings that are kept; all of them can be made again."""


@dataclass(frozen=True)
class Grid:
    """Steps of a steady tempo in place of a score. step: a key of core.timing.grid.STEPS."""

    step: str
    bpm: float


def start_sounding(
    score: File | Grid,
    recording: UploadedFile,
    *,
    name: str,
    track: int | None = None,
    channel: int | None = None,
    side: str = "auto",
    mine: dict | None = None,
    token: str = "",
) -> Sounding:
    """Keep the two files and ask the worker to measure them. mine: fields of the trip it belongs to; token: of the
    form.

    Raises UnreadableFile for a score or, in place of one, a grid for a recording that cannot be used; then nothing is
    kept.
    """
    if before := asked_before(token):
        return before.sounding
    kept: list[Path] = []
    try:
        kept.append(_keep_upload(recording))
        if isinstance(score, Grid):
            made = grid_score(bpm=score.bpm, step=score.step, seconds=seconds_of(kept[0]))
            data, title = write_smf(made), f"{score.step} at {score.bpm:g} BPM"
        else:
            data, title = score.read(), str(score.name)
        kept.append(write_whole("soundings", ".score", lambda stream: stream.write(data)))
        parts = [[part.track, part.channel, part.name, part.notes] for part in parts_in(kept[1])]
        if not parts:
            raise UnsupportedScore("The score has no notes, so there is nothing to measure against.")
        with transaction.atomic():
            job = begin("measure", token=token)
            row = Sounding.objects.create(
                name=name[:80],
                job=job,
                score=kept[1].name,
                score_title=title[:120],
                recording=kept[0].name,
                recording_title=str(recording.name)[:120],
                parts=parts,
                track=track,
                channel=channel,
                side=side,
                **mine or {},
            )
    except BaseException:
        for path in kept:
            path.unlink(missing_ok=True)
        raise
    hand_over(job)
    return row


def type_lateness(rig: Rig, plan: Plan, one: Instrument | Loop, lateness_ms: float | None) -> None:
    """Keep a lateness that the owner knows from elsewhere; None: let what was measured count again."""
    typed = None if lateness_ms is None else round(lateness_ms, 3)
    changed = replace(one, given_ms=typed, given_from=TYPED if typed is not None else "")
    after = keep_loop(plan, changed) if isinstance(one, Loop) else keep_instrument(plan, changed)
    change_plan(rig, f"lateness of {one.name}", plan, after)


def keep_answer(row: Sounding, found: Read) -> None:
    """Store what a recording said: its measurement, hits and picture."""
    kept = ("measurement", "hits", "overlay", "seconds", "kind", "notes")
    for name in kept:
        setattr(row, name, to_json(getattr(found, name)))
    row.read_track, row.read_channel = found.track, found.channel
    row.save(update_fields=[*kept, "read_track", "read_channel"])


def measure_again(row: Sounding, *, track: int | None, channel: int | None, side: str) -> None:
    """Measure the same files with another choice; what was found before is replaced when the new answer is there."""
    row.track, row.channel, row.side = track, channel, side
    row.save(update_fields=["track", "channel", "side"])
    wait_again(row.job, "measure")


def others_to_compare(row: Sounding) -> list[Sounding]:
    """Other soundings whose recordings are kept, those of the same trip first, the newest of each."""

    def look() -> list[Sounding]:
        kept = Sounding.objects.figures().exclude(uid=row.uid).exclude(recording="").filter(job__state__in=ENDED)
        mine = {name: getattr(row, name) for name in ("instrument_uid", "part_uid", "return_uid", "loop_uid")}
        another = Case(When(**mine, then=0), default=1)
        return list(kept.order_by(another, "-made")[:MOST_OTHERS])

    return rows_while(("soundings", "work"), ("to compare with", str(row.uid)), look)


def compare_with(row: Sounding, other: Sounding) -> None:
    """Ask for what a sounding's recording differs from another one's by."""
    wait_again(row.job, "compare", {"other": str(other.uid)})


@work("compare", resumed=True)
def compare(job_uid: str) -> None:
    """The task: lay the recording over the other one; what was measured before stays."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row = Sounding.objects.get(job_id=job_uid)
        other = Sounding.objects.filter(uid=reporter.job.request["other"]).first()
        if other is None:
            raise NoAnswer("The recording it was to be compared with is gone.")
        try:
            found = _read(row, reporter, against=path_of(other.recording)).comparison
        except NoAnswer as error:
            found = Comparison(error=str(error))
        row.compared = to_json(replace(found, other=str(other.uid), name=other.name))
        row.save(update_fields=["compared"])
        if row.measurement is None:
            # By itself it still has no answer.
            raise NoAnswer(
                "Its own lateness could not be read; how it differs from the other recording is shown below."
            )


def remove(row: Sounding) -> None:
    """Remove a sounding and its files."""
    remove_files(row)
    row.job.delete()


def remove_files(row: Sounding) -> None:
    """Remove what was kept of a sounding beside its row."""
    for name in (row.score, row.recording):
        if name:
            path_of(name).unlink(missing_ok=True)


def path_of(name: str) -> Path:
    """Where a kept file of a sounding is."""
    return folder("soundings") / name


def aligned_file(row: Sounding, *, corrected: bool) -> Path:
    """The recording with its sound where the score says, from the score's zero; made when first asked for. corrected:
    with the drift taken out, too."""
    found = row.measured
    rate, (moment, *_) = found.sample_rate, row.hits[0]
    earlier, drift = found.samples, found.drift_ppm
    if corrected:
        late = found.start_ms * rate / 1000
        earlier = anchor_samples(moment=moment, late_samples=late, drift_ppm=drift)

    def write(stream: BinaryIO) -> None:
        with open_sound(path_of(row.recording)) as source:
            blocks = source.blocks(blocksize=FRAMES_A_BLOCK, dtype="float32", always_2d=True)
            if corrected:
                blocks = fitted(blocks, rate=rate, channels=source.channels, drift_ppm=drift)
            with soundfile.SoundFile(stream, "w", rate, source.channels, "PCM_24", format="WAV") as target:
                for block in shifted(blocks, round(earlier)):
                    target.write(block)

    name = f"{row.uid}-{found.samples:.0f}-{int(corrected)}.wav"
    return made_once("aligned", name, write, keep=KEPT_ALIGNED)


@work("measure", resumed=True)
def measure(job_uid: str) -> None:
    """The task: measure in a process apart, keep what it found."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row = Sounding.objects.get(job_id=job_uid)
        keep_answer(row, _read(row, reporter))


def _keep_upload(upload: UploadedFile) -> Path:
    """The recording under a name of our own; one that is on disk already is moved, not copied."""
    if not isinstance(upload, TemporaryUploadedFile):
        return write_whole("soundings", ".recording", lambda stream: shutil.copyfileobj(upload.file, stream))
    upload.file.flush()
    os.fsync(upload.file.fileno())
    return Path(upload.temporary_file_path()).replace(path_of(f"{uuid.uuid4()}.recording"))


def _read(row: Sounding, reporter: Reporter, against: Path | None = None) -> Read:
    """What its recording says. Raises NoAnswer."""
    return measure_apart(
        path_of(row.score),
        path_of(row.recording),
        track=row.track,
        channel=row.channel,
        side=row.side,
        picture=True,
        against=against,
        progress=reporter.tell,
    ).read
