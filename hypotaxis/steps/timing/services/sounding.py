"""A recording of one's own becomes a sounding: files kept, measured in the background, compared."""

import os
import shutil
import uuid
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

import soundfile
from django.core.files import File
from django.core.files.base import ContentFile
from django.core.files.uploadedfile import TemporaryUploadedFile, UploadedFile
from django.db import transaction
from huey.contrib.djhuey import db_task

from hypotaxis.core.errors import NoAnswer, UnreadableFile, UnsupportedScore
from hypotaxis.core.formats.audio import open_sound
from hypotaxis.core.formats.smf import read_smf, write_smf
from hypotaxis.core.plan import Instrument, Loop, Plan
from hypotaxis.core.rig.change import keep_instrument, keep_loop
from hypotaxis.core.timing.aligning import anchor_samples, fitted, shifted
from hypotaxis.core.timing.apart import measure_apart
from hypotaxis.core.timing.grid import grid_score
from hypotaxis.core.timing.report import SURE_ENOUGH
from hypotaxis.records.audio import FRAMES_A_BLOCK, folder, forget_old, write_whole
from hypotaxis.records.jobs import Reporter, running, wait_again
from hypotaxis.records.journal import change_plan
from hypotaxis.records.models import Job, Sounding
from hypotaxis.records.plan import load_plan

ENDED = (Job.DONE, Job.FAILED)
MOST_OTHERS = 40
KEPT_ALIGNED = 12
"""Aligned recordings that are kept; all of them can be made again."""


def grid_file(recording: UploadedFile, *, step: str, bpm: float) -> ContentFile:
    """A grid in place of a score, as long as the recording. Raises UnreadableFile for a recording that is none."""
    recording.seek(0)
    try:
        with open_sound(recording) as sound:
            seconds = sound.frames / sound.samplerate
    except soundfile.LibsndfileError as error:
        raise UnreadableFile("It is no recording that can be read. Export it as WAV.") from error
    finally:
        recording.seek(0)
    return ContentFile(write_smf(grid_score(bpm=bpm, step=step, seconds=seconds)), f"{step} at {bpm:g} BPM")


def start_sounding(
    score: File,
    recording: UploadedFile,
    *,
    name: str,
    track: int | None = None,
    channel: int | None = None,
    side: str = "auto",
    mine: dict | None = None,
) -> Sounding:
    """Keep the two files and ask the worker to measure them. mine: fields of the trip it belongs to.

    Raises UnreadableFile (or its kind UnsupportedScore) for a score that cannot be used, and then keeps nothing.
    """
    data = score.read()
    parts = [[part.track, part.channel, part.name, len(part.notes)] for part in read_smf(data).parts]
    if not parts:
        raise UnsupportedScore("The score has no notes, so there is nothing to measure against.")
    kept: list[Path] = []
    try:
        kept.append(write_whole("soundings", ".score", lambda stream: stream.write(data)))
        kept.append(_keep_upload(recording))
        with transaction.atomic():
            job = Job.objects.create(kind="sounding")
            row = Sounding.objects.create(
                name=name[:80],
                job=job,
                score=kept[0].name,
                score_title=str(score.name)[:120],
                recording=kept[1].name,
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
    measure(str(job.uid))
    return row


def keep_lateness(row: Sounding, lateness_ms: float | None, source: str = "sounding") -> None:
    """Let the instrument or loop that a sounding belongs to have a lateness, with where it comes from; only of its
    first part and main return, and only while it is in the rig."""
    if row.part_uid or row.way_uid:
        return
    plan = load_plan(row.rig)
    one = plan.instrument(row.instrument_uid) or plan.loop(row.loop_uid)
    if one:
        change_plan(row.rig, f"lateness of {one.name}", plan, with_lateness(plan, one, lateness_ms, source))


def with_lateness(plan: Plan, one: Instrument | Loop, lateness_ms: float | None, source: str) -> Plan:
    """The plan with the lateness of an instrument or effect loop; None = not known."""
    known = None if lateness_ms is None else round(lateness_ms, 3)
    changed = replace(one, lateness_ms=known, lateness_from=source if known is not None else "")
    return keep_loop(plan, changed) if isinstance(one, Loop) else keep_instrument(plan, changed)


def measure_again(row: Sounding, *, track: int | None, channel: int | None, side: str) -> None:
    """Measure the same files with another choice; what was found before is replaced when the new answer is there."""
    row.track, row.channel, row.side = track, channel, side
    row.save(update_fields=["track", "channel", "side"])
    wait_again(row.job_id)
    measure(str(row.job_id))


def others_to_compare(row: Sounding) -> list[Sounding]:
    """Other soundings whose recordings are kept, those of the same trip first, the newest of each."""
    kept = Sounding.objects.figures().exclude(uid=row.uid).exclude(recording="").filter(job__state__in=ENDED)
    mine = (row.instrument_uid, row.part_uid, row.way_uid, row.loop_uid)
    newest = sorted(kept, key=lambda one: one.made, reverse=True)
    same = [one for one in newest if (one.instrument_uid, one.part_uid, one.way_uid, one.loop_uid) == mine]
    return [*same, *(one for one in newest if one not in same)][:MOST_OTHERS]


def compare_with(row: Sounding, other: Sounding) -> None:
    """Ask for what a sounding's recording differs from another one's by."""
    wait_again(row.job_id)
    compare(str(row.job_id), str(other.uid))


@db_task()
def compare(job_uid: str, other_uid: str) -> None:
    """The task: lay the recording over the other one; what was measured before stays."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row, other = Sounding.objects.get(job_id=job_uid), Sounding.objects.get(uid=other_uid)
        about = {"with": str(other.uid), "name": other.name}
        try:
            found = _measured(row, reporter, against=path_of(other.recording))
        except NoAnswer as error:
            row.compared = about | {"error": str(error)}
        else:
            row.compared = about | {name: found[name] for name in found if name.startswith(("difference_", "compared"))}
        row.save(update_fields=["compared"])
        if not row.result:
            # By itself it still has no answer.
            raise NoAnswer(
                "Its own lateness could not be read; what it differs from another recording by stands below."
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
    path = folder("aligned") / f"{row.uid}-{row.result['offset_samples']:.0f}-{int(corrected)}.wav"
    if path.exists():
        return path
    forget_old("aligned", "*.wav", KEPT_ALIGNED)
    found = row.result
    rate, moment = found["sample_rate"], found["hits"][0][0]
    earlier, drift = found["offset_samples"], found["drift_ppm"] or 0.0
    if corrected:
        late = found["offset_start_ms"] * rate / 1000
        earlier = anchor_samples(moment=moment, late_samples=late, drift_ppm=drift)

    def write(stream: BinaryIO) -> None:
        with open_sound(path_of(row.recording)) as source:
            blocks = source.blocks(blocksize=FRAMES_A_BLOCK, dtype="float32", always_2d=True)
            if corrected:
                blocks = fitted(blocks, rate=rate, channels=source.channels, drift_ppm=drift)
            with soundfile.SoundFile(stream, "w", rate, source.channels, "PCM_24", format="WAV") as target:
                for block in shifted(blocks, round(earlier)):
                    target.write(block)

    return write_whole("aligned", ".wav", write).replace(path)


@db_task()
def measure(job_uid: str) -> None:
    """The task: measure in a process apart, keep what it found."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        row = Sounding.objects.get(job_id=job_uid)
        result = _measured(row, reporter)
        row.result = result
        row.save(update_fields=["result"])
        if row.instrument_uid and result["confidence"] >= SURE_ENOUGH:
            keep_lateness(row, result["offset_ms"])


def _keep_upload(upload: UploadedFile) -> Path:
    """The recording under a name of our own; one that is on disk already is moved, not copied."""
    if not isinstance(upload, TemporaryUploadedFile):
        return write_whole("soundings", ".recording", lambda stream: shutil.copyfileobj(upload.file, stream))
    upload.file.flush()
    os.fsync(upload.file.fileno())
    return Path(upload.temporary_file_path()).replace(path_of(f"{uuid.uuid4()}.recording"))


def _measured(row: Sounding, reporter: Reporter, against: Path | None = None) -> dict:
    """What the analysis tells of it. Raises NoAnswer."""
    return measure_apart(
        path_of(row.score),
        path_of(row.recording),
        track=row.track,
        channel=row.channel,
        side=row.side,
        picture=True,
        against=against,
        progress=reporter.tell,
    )
