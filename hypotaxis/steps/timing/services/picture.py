"""A sounding as the timing page shows it opened, and the wave around one of its hits."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from hypotaxis.core.drawing.glass import GlassView, draw_wave, ticks, zooms
from hypotaxis.core.drawing.glass import Wave as Line
from hypotaxis.core.drawing.soundings import HitsPlot, OverlayPlot, hits_plot, overlay_plot
from hypotaxis.core.timing.aligning import miss_told
from hypotaxis.core.timing.measurement import Measurement
from hypotaxis.core.timing.recording import SIDES, read_window, side_of
from hypotaxis.core.timing.report import SURE_ENOUGH, drift_text
from hypotaxis.core.units import clock_text, signed
from hypotaxis.records.models import Sounding
from hypotaxis.records.stamps import kept_while
from hypotaxis.steps.timing.services.sounding import path_of
from hypotaxis.steps.timing.services.to_type import ToType, to_type

WAVE_W, WAVE_H = 1180, 150
WAVE_SPAN = 45.0
KEPT = 64
"""Lines of hits, some 20 kB each."""


@dataclass(frozen=True)
class Opened:
    """A sounding opened."""

    verdict: str
    numbers: tuple[tuple[str, str, str, str], ...]
    """(name, value, interval, unit)."""
    counts: tuple[tuple[str, int], ...]
    hits: HitsPlot
    overlay: OverlayPlot
    clipped: bool
    warnings: tuple[str, ...]
    to_type: tuple[ToType, ...]
    confidence: str
    misses: str


@dataclass(frozen=True)
class Wave:
    """The recording around one hit."""

    number: int
    count: int
    path: str
    dots: list
    marks: list
    zero_x: float
    """The score's moment."""
    onset_x: float | None
    """The hit's beginning (None: outside)."""
    spoken: str
    links: dict[str, str]


def difference_of(row: Sounding) -> str:
    """What a sounding's recording differs from another one by, in a sentence or two; "" where it was not compared."""
    found = row.comparison
    if found is None:
        return ""
    if found.error:
        return f"It does not compare with {found.name}. {found.error}"
    half = f" ±{found.difference_half:.2f}" if found.difference_half is not None else ""
    later = found.difference_ms
    way = "later" if later >= 0 else "earlier"
    told = (
        f"Its notes come {abs(later):.2f} ms{half} {way} than those of {found.name} ({found.compared} compared, "
        f"confidence {found.confidence:.2f})."
    )
    other = Sounding.objects.filter(uid=found.other).first()
    if other is None or other.measured is None:
        return told
    known = other.measured.lateness_ms
    return f"{told} With the {signed(known, 2)} ms of that one they are late by {signed(known + later, 2)} ms."


def opened_of(row: Sounding) -> Opened:
    """A measured sounding in full, drawn once as long as no sounding changes."""

    def drawn() -> Opened:
        # Read anew: what the request holds may be older than the stamp under which this is kept.
        fresh = Sounding.objects.filter(uid=row.uid).first()
        return _drawn(fresh if fresh and fresh.measurement else row)

    return kept_while(("soundings",), ("opened", str(row.uid)), drawn)


def _drawn(row: Sounding) -> Opened:
    found = row.measured
    counts = (
        ("in the score", row.notes, True),
        ("matched", found.matched, True),
        ("of them set aside", found.set_aside, False),
        ("missed", found.missed, True),
        ("too close", found.merged, False),
        ("outside it", found.outside, False),
        ("without a note", found.extra, True),
    )
    return Opened(
        verdict=verdict(row, found),
        numbers=_numbers(found),
        counts=tuple((word, count) for word, count, always in counts if count or always),
        hits=hits_plot(
            row.hits, found.sample_rate, start_ms=found.start_ms, end_ms=found.end_ms, jitter_ms=found.jitter_ms
        ),
        overlay=overlay_plot(row.hits_overlaid, median_ms=found.lateness_ms, jitter_ms=found.jitter_ms),
        clipped=found.clipped,
        warnings=found.warnings,
        to_type=to_type(found.lateness_ms, found.sample_rate),
        confidence=f"{found.confidence:.2f}",
        misses=miss_told(found.start_ms, found.end_ms, found.drift_ppm, found.drift_half),
    )


def _numbers(found: Measurement) -> tuple[tuple[str, str, str, str], ...]:
    """(name, value, half of its interval, unit) of each figure."""
    per_ms = found.sample_rate / 1000
    half = found.lateness_half
    rows = (
        ("Late by", signed(found.lateness_ms, 2), half, 2, "ms"),
        ("", signed(found.samples, 1), None if half is None else half * per_ms, 1, "samples"),
        ("first note", signed(found.start_ms, 2), found.start_half, 2, "ms"),
        ("last note", signed(found.end_ms, 2), found.end_half, 2, "ms"),
        ("Jitter", f"{found.jitter_ms:.2f}", found.jitter_half, 2, "ms"),
        ("Drift", signed(found.drift_ppm, 1), found.drift_half, 1, "ppm"),
        ("Attack", f"{found.attack_ms:.2f}", found.attack_half, 2, "ms"),
    )
    return tuple(
        (name, value, "" if about is None else f"±{about:.{digits}f}", unit)
        for name, value, about, digits, unit in rows
    )


def verdict(row: Sounding, found: Measurement) -> str:
    """What was found, in a sentence or two."""
    word = "late" if found.lateness_ms >= 0 else "early"
    source = {"mono": "", "left": " on the left side", "right": " on the right side", "mix": " on both sides mixed"}
    half = found.drift_half
    about = None if half is None else [found.drift_ppm - half, found.drift_ppm + half]
    sentence = (
        f"It comes home {abs(found.lateness_ms):.1f} ms {word}{source[found.side]}, by {found.matched} of "
        f"{found.looked_for} notes over {clock_text(row.seconds)}; single hits scatter by {found.jitter_ms:.2f} ms, "
        f"{drift_text(found.drift_ppm, about)}."
    )
    if found.confidence < SURE_ENOUGH:
        return f"Perhaps: {sentence[0].lower()}{sentence[1:]} It is not sure enough to rely on; the reasons are below."
    return sentence


def wave_of(row: Sounding, *, number: int, span_ms: float, offset_ms: float) -> Wave:
    """The recording around hit `number` (counted from 0 among the matched ones, held inside)."""
    found, hits = row.measured, row.hits
    number = min(max(0, number), len(hits) - 1)
    moment, onset, used = hits[number]
    rate = found.sample_rate
    view = GlassView(moment, span_ms, offset_ms, rate, WAVE_W)
    wave = _line_of(row.recording, SIDES[found.side], view, onset)
    onset_x = view.span.x(onset)
    wider, closer = zooms(span_ms)
    same = {"hit": number, "span": span_ms, "offset": offset_ms}

    def to(**changes) -> str:
        return "&".join(f"{name}={value:g}" for name, value in (same | changes).items())

    return Wave(
        number=number + 1,
        count=len(hits),
        path=wave.path,
        dots=wave.dots,
        marks=ticks(view),
        zero_x=round(view.span.x(moment), 2),
        onset_x=round(onset_x, 2) if 0 <= onset_x <= WAVE_W else None,
        spoken=f"{moment / rate:.3f} s, {signed((onset - moment) * 1000 / rate, 3)} ms"
        + ("" if used else ", set aside"),
        links={
            "before": to(hit=number - 1, offset=0) if number else "",
            "after": to(hit=number + 1, offset=0) if number + 1 < len(hits) else "",
            "wider": to(span=wider) if wider else "",
            "closer": to(span=closer, offset=_kept_in_sight(onset, moment, rate, closer)) if closer else "",
            "earlier": to(offset=offset_ms - span_ms / 3),
            "later": to(offset=offset_ms + span_ms / 3),
        },
    )


@lru_cache(KEPT)
def _line_of(file: str, side: int, view: GlassView, onset: float) -> Line:
    """A recording's sound, as high as what begins at the onset allows. No other file comes to have its name."""
    path = path_of(file)
    samples = side_of(read_window(path, *view.window()), side)
    around = side_of(read_window(path, int(onset), int(onset + 0.15 * view.rate)), side)
    loudest = float(np.abs(around).max(initial=0.0))
    return draw_wave(view, samples, 0.9 / loudest if loudest > 1e-6 else 1.0, body=True, height=WAVE_H)


def _kept_in_sight(onset: float, moment: float, rate: int, span_ms: float) -> float:
    """Offset of the window that keeps the hit's beginning in it: closer than the lateness, it leaves the moment."""
    late_ms = (onset - moment) * 1000 / rate
    return 0.0 if late_ms < 0.7 * span_ms else late_ms - 0.3 * span_ms
