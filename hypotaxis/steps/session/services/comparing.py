"""Two takes laid beside each other, as work with progress: long ones take a while to read."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from django.db import transaction

from hypotaxis.core.errors import NoAnswer
from hypotaxis.core.formats.plain import from_json, to_json
from hypotaxis.core.mixing.sameness import BANDS, Energies, Sameness, later, same_or_different
from hypotaxis.core.plan import Plan
from hypotaxis.core.units import level_text
from hypotaxis.records.jobs import begin, hand_over, running, work
from hypotaxis.records.models import Job, Take, Track
from hypotaxis.records.plan import load_plan
from hypotaxis.records.track_sound import TrackSound
from hypotaxis.steps.session.services.takes_page import TakesPage

KIND = "comparing"
DIFFERENCE_W, DIFFERENCE_H, DIFFERENCE_DB = 1000, 56, 12.0
WAVE_S = 30.0
"""So much of both is laid over each other wave by wave."""
KEPT = 20


@dataclass(frozen=True)
class Pair:
    """Which takes are compared, and how they stand: what was found of them holds while that is the same."""

    one: str
    other: str
    stand: str


@dataclass(frozen=True)
class Compared:
    """Two takes beside each other. path: the band that differs most, bar by bar."""

    one: Take
    other: Take
    found: Sameness
    path: str

    @property
    def level(self) -> str:
        return level_text(self.found.level_db)

    @property
    def bands(self) -> list[tuple[str, float]]:
        return list(zip(BANDS, self.found.bands_db, strict=True))


def how_they_differ(
    sound: TrackSound, one: Take, other: Take, progress: Callable[[float], None] | None = None
) -> Sameness:
    """How one take differs from another of its track. progress: told the share done; what it raises ends it. Raises
    NoAnswer where they have no bar in common."""
    first, last = _common_bars(one, other)
    rate = one.sample_rate
    begins, ends = (round(sound.bar_at(bar)) for bar in (first, last + 1))
    bars = [(bar, (sound.bar_at(bar + 1) - begins) / rate) for bar in range(first, last + 1)]
    energies, waves = [], []
    for number, take in enumerate((one, other)):
        reader, kept, read = Energies(rate), [], 0
        for block in sound.blocks_between(take, begins, ends):
            reader.feed(block)
            if read < WAVE_S * rate:
                kept.append(block.mean(axis=1))
            read += len(block)
            if progress:
                progress((number + read / (ends - begins)) / 2)
        energies.append(reader.found())
        waves.append(np.concatenate(kept))
    return same_or_different(*energies, bars, later_samples=later(*waves, rate))


def _common_bars(one: Take, other: Take) -> tuple[int, int]:
    first, last = max(one.bars[0], other.bars[0]), min(one.bars[1], other.bars[1])
    if last < first:
        raise NoAnswer(f"Takes {one.number} and {other.number} have no bar in common, so they cannot be compared.")
    return first, last


def ask(track: Track, one: Take, other: Take) -> Job:
    """The work that compares two takes, or has already. Raises NoAnswer where they cannot be."""
    _common_bars(one, other)
    if known := job_of(track, one, other):
        return known
    with transaction.atomic():
        job = begin(KIND, about=str(track.uid), request=to_json(_pair(one, other)))
        old = Job.objects.filter(kind=KIND).exclude(state__in=Job.UNFINISHED).order_by("-made")[KEPT:]
        Job.objects.filter(uid__in=[one.uid for one in old]).delete()
    hand_over(job)
    return job


def job_of(track: Track, one: Take, other: Take) -> Job | None:
    """What is known, or on its way, of two takes as they stand now; None where nobody has asked, or it did not end."""
    wanted = to_json(_pair(one, other))
    mine = Job.objects.filter(kind=KIND, about=str(track.uid)).exclude(state__in=(Job.CANCELLED, Job.INTERRUPTED))
    return next((job for job in mine.order_by("-made") if job.request == wanted), None)


def _pair(one: Take, other: Take) -> Pair:
    stand = [f"{take.placement} {take.fitted_ppm:g} {take.inverted}" for take in (one, other)]
    return Pair(str(one.uid), str(other.uid), ", ".join(stand))


def came_of(page: TakesPage, job: Job, one: Take, other: Take) -> Compared | None:
    """What came of it, drawn for the page; None where it is not done."""
    if job.state != Job.DONE:
        return None
    found = from_json(Sameness, job.result)
    return Compared(one, other, found, _difference_path(page, found))


@work(KIND, resumed=True)
def compare(job_uid: str) -> None:
    """The task: read both, and keep what came of it."""
    with running(job_uid) as reporter:
        if reporter is None:
            return
        track = Track.objects.select_related("session__rig").get(uid=reporter.job.about)
        pair = from_json(Pair, reporter.job.request)
        page = TakesPage(track, load_plan(track.session.rig), every=True)
        one, other = page.take(pair.one), page.take(pair.other)
        if one is None or other is None:
            raise NoAnswer("One of the takes is gone meanwhile.")
        found = how_they_differ(page.sound, one, other, reporter.tell)
        Job.objects.filter(uid=job_uid).update(result=to_json(found))


def unlikeness_of(take: Take, before: Take, plan: Plan) -> Sameness | None:
    """How a take differs from one before it; None where either cannot be read, or they have no bar in common."""
    page = TakesPage(take.track, plan)
    one, other = page.take(str(take.uid)), page.take(str(before.uid))
    return how_they_differ(page.sound, one, other) if one and other else None


def _difference_path(page: TakesPage, found: Sameness) -> str:
    """Steps, a bar each; its height is the difference, up to DIFFERENCE_DB."""
    parts = []
    for bar in found.bars:
        span = page.span_of(bar.bar, bar.bar)
        high = min(1.0, abs(bar.worst_db or 0.0) / DIFFERENCE_DB) * DIFFERENCE_H
        x, w = span.x * DIFFERENCE_W / 100, span.w * DIFFERENCE_W / 100
        parts.append(f"M{x:.1f} {DIFFERENCE_H}V{DIFFERENCE_H - high:.1f}h{w:.1f}V{DIFFERENCE_H}z")
    return "".join(parts)
