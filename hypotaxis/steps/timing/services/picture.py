"""A sounding as the timing page shows it opened, and the wave around one of its hits."""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.drawing.glass import GlassView, draw_wave, ticks, zooms
from hypotaxis.core.drawing.soundings import HitsPlot, OverlayPlot, hits_plot, overlay_plot
from hypotaxis.core.timing.aligning import miss_told
from hypotaxis.core.timing.recording import SIDES, read_window, side_of
from hypotaxis.core.timing.report import SURE_ENOUGH, drift_text, half_of
from hypotaxis.core.units import clock_text, signed
from hypotaxis.records.models import Sounding
from hypotaxis.steps.timing.services.sounding import path_of

WAVE_W, WAVE_H = 1180, 150
WAVE_SPAN = 45.0


@dataclass(frozen=True)
class Opened:
    """A sounding opened. numbers: (name, value, interval, unit)."""

    verdict: str
    numbers: tuple[tuple[str, str, str, str], ...]
    counts: tuple[tuple[str, int], ...]
    hits: HitsPlot
    overlay: OverlayPlot
    clipped: bool
    warnings: tuple[str, ...]
    late_ms: str
    late_samples: str
    shift_ms: str
    shift_samples: str
    confidence: str
    misses: str


@dataclass(frozen=True)
class Wave:
    """The recording around one hit. zero_x: the score's moment; onset_x: the hit's beginning (None: outside)."""

    number: int
    count: int
    path: str
    dots: list
    marks: list
    zero_x: float
    onset_x: float | None
    spoken: str
    links: dict[str, str]


def difference_of(row: Sounding) -> str:
    """What a sounding's recording differs from another one by, in a sentence or two; "" where it was not compared."""
    found = row.compared
    if not found:
        return ""
    if "error" in found:
        return f"It does not compare with {found['name']}. {found['error']}"
    about = found["difference_ms_ci"]
    half = f" ±{half_of(about):.2f}" if about else ""
    later = found["difference_ms"]
    way = "later" if later >= 0 else "earlier"
    told = (
        f"Its notes come {abs(later):.2f} ms{half} {way} than those of {found['name']} ({found['compared']} compared, "
        f"confidence {found['difference_confidence']:.2f})."
    )
    other = Sounding.objects.filter(uid=found["with"]).first()
    known = other.result.get("offset_ms") if other else None
    if known is None:
        return told
    return f"{told} With the {signed(known, 2)} ms of that one they are late by {signed(known + later, 2)} ms."


def opened_of(row: Sounding) -> Opened:
    """A measured sounding in full."""
    found = row.result
    digits = {"offset_ms": 2, "offset_samples": 1, "jitter_ms": 2, "drift_ppm": 1, "attack_ms": 2}
    digits |= {"offset_start_ms": 2, "offset_end_ms": 2}
    names = {
        "offset_ms": ("Late by", "ms"),
        "offset_samples": ("", "samples"),
        "offset_start_ms": ("first note", "ms"),
        "offset_end_ms": ("last note", "ms"),
        "jitter_ms": ("Jitter", "ms"),
        "drift_ppm": ("Drift", "ppm"),
        "attack_ms": ("Attack", "ms"),
    }
    numbers = []
    for key, (title, unit) in names.items():
        value, about = found[key], found[f"{key}_ci"]
        if value is None:
            numbers.append((title, "not known", "", ""))
            continue
        plain = key in ("jitter_ms", "attack_ms")
        text = f"{value:.{digits[key]}f}" if plain else signed(value, digits[key])
        half = f"±{half_of(about):.{digits[key]}f}" if about else ""
        numbers.append((title, text, half, unit))
    return Opened(
        verdict=verdict(found),
        numbers=tuple(numbers),
        counts=tuple(
            (word, found[key])
            for word, key in (
                ("in the score", "notes"),
                ("matched", "matched"),
                ("of them set aside", "set_aside"),
                ("missed", "missed"),
                ("too close", "merged"),
                ("outside it", "outside"),
                ("without a note", "extra"),
            )
            if found[key] or key in ("notes", "matched", "missed", "extra")
        ),
        hits=hits_plot(
            found["hits"],
            found["sample_rate"],
            start_ms=found["offset_start_ms"],
            end_ms=found["offset_end_ms"],
            jitter_ms=found["jitter_ms"],
        ),
        overlay=overlay_plot(found["overlay"], median_ms=found["offset_ms"], jitter_ms=found["jitter_ms"]),
        clipped=found["clipped"],
        warnings=tuple(found["warnings"]),
        late_ms=signed(found["offset_ms"], 2),
        late_samples=signed(found["offset_samples"], 0),
        shift_ms=signed(-found["offset_ms"], 2),
        shift_samples=signed(-found["offset_samples"], 0),
        confidence=f"{found['confidence']:.2f}",
        misses=miss_told(
            found["offset_start_ms"],
            found["offset_end_ms"],
            found["drift_ppm"],
            half_of(found["drift_ppm_ci"]) if found["drift_ppm_ci"] else None,
        ),
    )


def verdict(found: dict) -> str:
    """What was found, in a sentence or two."""
    word = "late" if found["offset_ms"] >= 0 else "early"
    inside = found["matched"] + found["missed"]
    source = {"mono": "", "left": " on the left side", "right": " on the right side", "mix": " on both sides mixed"}
    sentence = (
        f"It comes home {abs(found['offset_ms']):.1f} ms {word}{source[found['input']]}, by {found['matched']} of "
        f"{inside} notes over {clock_text(found['seconds'])}; single hits scatter by {found['jitter_ms']:.2f} ms, "
        f"{drift_text(found['drift_ppm'], found['drift_ppm_ci'])}."
    )
    if found["confidence"] < SURE_ENOUGH:
        return f"Perhaps: {sentence[0].lower()}{sentence[1:]} It is not sure enough to rely on; see below why."
    return sentence


def wave_of(row: Sounding, *, number: int, span_ms: float, offset_ms: float) -> Wave:
    """The recording around hit `number` (counted from 0 among the matched ones, held inside)."""
    found = row.result
    hits = found["hits"]
    number = min(max(0, number), len(hits) - 1)
    moment, onset, used = hits[number]
    rate = found["sample_rate"]
    view = GlassView(moment, span_ms, offset_ms, rate, WAVE_W)
    path, side = path_of(row.recording), SIDES[found["input"]]
    samples = side_of(read_window(path, *view.window()), side)
    around = side_of(read_window(path, int(onset), int(onset + 0.15 * rate)), side)
    loudest = float(np.abs(around).max(initial=0.0))
    line, dots = draw_wave(view, samples, 0.9 / loudest if loudest > 1e-6 else 1.0, body=True, height=WAVE_H)
    onset_x = view.span.x(onset)
    wider, closer = zooms(span_ms)
    same = {"hit": number, "span": span_ms, "offset": offset_ms}

    def to(**changes) -> str:
        return "&".join(f"{name}={value:g}" for name, value in (same | changes).items())

    return Wave(
        number=number + 1,
        count=len(hits),
        path=line,
        dots=dots,
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


def _kept_in_sight(onset: float, moment: float, rate: int, span_ms: float) -> float:
    """Offset of the window that keeps the hit's beginning in it: closer than the lateness, it leaves the moment."""
    late_ms = (onset - moment) * 1000 / rate
    return 0.0 if late_ms < 0.7 * span_ms else late_ms - 0.3 * span_ms
