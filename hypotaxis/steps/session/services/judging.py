"""Which takes fail their check? Told from the takes themselves and from the ones before them, of many takes at once."""

from collections import defaultdict
from collections.abc import Sequence
from uuid import UUID

from hypotaxis.core.errors import NoAnswer, SoundLost
from hypotaxis.core.mixing.sameness import LEVEL, SAME
from hypotaxis.core.plan import Plan
from hypotaxis.core.units import counted
from hypotaxis.records.models import Pass, Take
from hypotaxis.steps.session.services.comparing import unlikeness_of

LATE_MS = 1.0
"""By how much a lateness may be off beyond what both measurements leave open."""


def troubles_of(takes: Sequence[Take]) -> dict[UUID, str]:
    """Why each take (uid) fails its check, "" where it does not."""
    found = {take.uid: _by_itself(take) for take in takes}
    open_ones = [take for take in takes if not found[take.uid]]
    before = _before(open_ones)
    return found | {take.uid: _late_told(take, before.get(take.uid)) for take in open_ones}


def _by_itself(take: Take) -> str:
    if take.silent:
        return "silent"
    if not take.complete:
        return "stopped early"
    if take.clipped:
        return f"clipped {counted(take.clipped, 'time')}"
    return take.doubted[0].what if take.doubtful else ""


def _before(takes: Sequence[Take]) -> dict[UUID, Take]:
    """The last measured take before each (uid), of the same track by its own return; no key where there is none."""
    measured = Take.objects.measured().filter(track__in={take.track_id for take in takes}, beside=False)
    numbered = defaultdict(list)
    for track, number, uid in measured.order_by("number").values_list("track_id", "number", "uid"):
        numbered[track].append((number, uid))
    earlier = {take.uid: [uid for number, uid in numbered[take.track_id] if number < take.number] for take in takes}
    last = {uid: uids[-1] for uid, uids in earlier.items() if uids}
    rows = Take.objects.figures().in_bulk(set(last.values()))
    runs = Pass.objects.in_bulk({row.run_id for row in rows.values()})
    for row in rows.values():
        row.run = runs[row.run_id]
    return {uid: rows[one] for uid, one in last.items()}


def _late_told(take: Take, before: Take | None) -> str:
    """Where its lateness differs from the last one of the same track and sound by more than both leave open."""
    mine = take.measured
    if mine is None or before is None or before.part is None or take.part is None:
        return ""
    if before.part.calls != take.part.calls or before.part.context != take.part.context:
        return ""
    theirs = before.measured
    open_ms = LATE_MS + (mine.lateness_half or 0.0) + (theirs.lateness_half or 0.0)
    off = mine.lateness_ms - theirs.lateness_ms
    if abs(off) <= open_ms:
        return ""
    return f"{abs(off):.1f} ms {'later' if off > 0 else 'earlier'} than take {before.number}"


def unlike(take: Take, plan: Plan) -> str:
    """Where it is nothing like the last good take of the same notes, in words; "" where it is, or there is none."""
    before = _before([take]).get(take.uid)
    if before is None or before.part is None or take.part is None or before.part.calls != take.part.calls:
        return ""
    try:
        found = unlikeness_of(take, before, plan)
    except (NoAnswer, SoundLost):
        return ""
    return "" if found is None or found.kind in (SAME, LEVEL) else f"not like take {before.number}: {found.told}"
