"""Timing: how late each instrument is, as far as takes have told."""

from dataclasses import dataclass

from django.shortcuts import render

from hypotaxis.core.drawing.needles import Needle, needle, scale
from hypotaxis.core.plan import Instrument
from hypotaxis.core.units import signed
from hypotaxis.records.current import desk
from hypotaxis.records.models import Take


@dataclass(frozen=True)
class Row:
    """An instrument with what its newest measured take says."""

    instrument: Instrument
    take: Take | None
    needle: Needle | None
    late: str
    shift: str
    hits: str


def home(request):
    """One row an instrument on a common millisecond scale."""
    here = desk(request)
    pairs = []
    for instrument in here.plan.instruments:
        takes = Take.objects.filter(instrument_uid=instrument.uid, lateness__has_key="lateness_ms")
        pairs.append((instrument, takes.select_related("session").first()))
    latest = max((take.lateness["lateness_ms"] for _, take in pairs if take), default=20.0)
    marks = scale(latest)
    rows = [_row(instrument, take, marks.end_ms) for instrument, take in pairs]
    return render(request, "timing/home.html", {"rows": rows, "marks": marks, "measured": any(t for _, t in pairs)})


def _row(instrument: Instrument, take: Take | None, end_ms: float) -> Row:
    if take is None:
        return Row(instrument, None, None, "", "", "")
    found = take.lateness
    return Row(
        instrument,
        take,
        needle(found["lateness_ms"], found["jitter_ms"], end_ms),
        signed(found["lateness_ms"]),
        signed(found["placement"], 0),
        f"{found['used']} of {found['used'] + found['set_aside'] + found['missed']}",
    )
