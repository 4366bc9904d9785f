"""A measured lateness as plain data, under the names in which it leaves the product.

Unknown values are None, never NaN; intervals are [low, high] at 95 %. offset is + when the recording is late.
"""

import math
from typing import Any

from hypotaxis.core.timing.against import Difference
from hypotaxis.core.timing.choose import Answer
from hypotaxis.core.timing.line import TwoValues
from hypotaxis.core.units import signed

_ORDER = (
    *("offset_samples", "offset_ms", "offset_start_ms", "offset_end_ms"),
    *("jitter_ms", "drift_ppm", "attack_ms"),
)
_COUNTED = (
    *("notes", "matched", "missed", "merged", "outside", "extra", "set_aside", "sample_rate", "input", "track"),
    *("channel", "clipped", "impulses", "two_values", "confidence", "alternatives_ms", "warnings"),
)
SURE_ENOUGH = 0.6
"""Confidence below which a number is told as a perhaps, and nothing is built on it."""


def report(answer: Answer, *, warnings: tuple[str, ...] = ()) -> dict[str, Any]:
    """The answer as a JSON object; warnings: what else is to be told of the files."""
    found = answer.lateness
    per_ms = found.sample_rate / 1000
    halves = {
        "offset_start_ms": (found.start_ms, found.start_half),
        "offset_end_ms": (found.end_ms, found.end_half),
        "drift_ppm": (found.drift_ppm, found.drift_half),
        "attack_ms": (found.attack_ms, found.attack_half),
    }
    late = (found.lateness_ms, found.lateness_low, found.lateness_high)
    values = {
        "offset_samples": tuple(value * per_ms for value in late),
        "offset_ms": late,
        "jitter_ms": (found.jitter_ms, found.jitter_low, found.jitter_high),
        **{name: (value, value - half, value + half) for name, (value, half) in halves.items()},
    }
    result: dict[str, Any] = {}
    for name in _ORDER:
        value, low, high = values[name]
        result[name] = _finite(value)
        result[f"{name}_ci"] = interval(max(low, 0.0) if name in ("jitter_ms", "attack_ms") else low, high)
    told = (answer.told,) if answer.told else ()
    return result | {
        "notes": found.matched + found.missed + found.merged + found.outside,
        "matched": found.matched,
        "missed": found.missed,
        "merged": found.merged,
        "outside": found.outside,
        "extra": found.extra,
        "set_aside": found.set_aside,
        "sample_rate": found.sample_rate,
        "input": found.side,
        "track": answer.track,
        "channel": answer.channel,
        "clipped": found.clipped,
        "impulses": found.impulses,
        "two_values": _two_values(found.two),
        "confidence": found.confidence,
        "alternatives_ms": list(found.alternatives_ms),
        "warnings": [*found.warnings, *told, *warnings],
    }


def interval(low: float, high: float) -> list[float] | None:
    """[low, high]; None where an end is not known."""
    return [round(low, 6), round(high, 6)] if math.isfinite(low) and math.isfinite(high) else None


def half_of(about: list[float]) -> float:
    """Half the width of an interval."""
    return (about[1] - about[0]) / 2


def drift_text(drift_ppm: float | None, interval_ppm: list[float] | None) -> str:
    """A drift as it is told: one smaller than its uncertainty is none.

    >>> drift_text(12.0, [-29.0, 53.0]), drift_text(120.4, [118.0, 122.8]), drift_text(None, None)
    ('no drift found (±41 ppm)', 'drift +120 ppm (±2)', 'drift not known')
    """
    if drift_ppm is None or interval_ppm is None:
        return "drift not known"
    half = half_of(interval_ppm)
    if abs(drift_ppm) <= half:
        return f"no drift found (±{half:.0f} ppm)"
    return f"drift {signed(drift_ppm, 0)} ppm (±{half:.0f})"


def to_type(result: dict[str, Any]) -> str:
    """The shift to type into a host, in ms and samples."""
    return f"type {signed(-result['offset_ms'])} ms, {signed(-result['offset_samples'], 0)} samples"


def one_line(result: dict[str, Any]) -> str:
    """The whole answer in one line of text."""
    told = "".join(f" [{warning}]" for warning in result["warnings"])
    compared = ""
    if result.get("compared"):
        compared = f"{_difference_text(result)}; "
    if result["offset_ms"] is None:
        return f"{compared}its own lateness is not known{told}"
    half = half_of(result["offset_ms_ci"]) if result["offset_ms_ci"] else None
    inside = result["matched"] + result["missed"]
    pieces = [
        f"late by {signed(result['offset_ms'], 2)} ms" + (f" (±{half:.2f})" if half is not None else ""),
        f"{signed(result['offset_samples'])} samples at {result['sample_rate']} Hz",
        f"jitter {result['jitter_ms']:.2f} ms",
        drift_text(result["drift_ppm"], result["drift_ppm_ci"]),
        f"{result['matched']} of {inside} notes matched",
        f"confidence {result['confidence']:.2f}",
    ]
    return f"{compared}{to_type(result)}: {', '.join(pieces)}{told}"


def _difference_text(result: dict[str, Any]) -> str:
    about = result["difference_ms_ci"]
    half = f" ±{half_of(about):.2f}" if about else ""
    return (
        f"{signed(result['difference_ms'], 2)} ms{half} against the other recording "
        f"({result['compared']} notes compared, confidence {result['difference_confidence']:.2f})"
    )


def difference_report(found: Difference, rate: int) -> dict[str, Any]:
    """What a recording of this rate differs from another one by, as a JSON object. + = it is the later one."""
    per_ms = rate / 1000
    late = (found.difference_ms, found.low_ms, found.high_ms)
    result: dict[str, Any] = {}
    for name, factor in (("difference_samples", per_ms), ("difference_ms", 1.0)):
        result[name] = _finite(late[0] * factor)
        result[f"{name}_ci"] = interval(late[1] * factor, late[2] * factor)
    return result | {
        "difference_jitter_ms": _finite(found.jitter_ms),
        "difference_drift_ppm": _finite(found.drift_ppm),
        "difference_confidence": found.confidence,
        "compared": len(found.hits),
        "hits": [{"note_ms": round(h.note_ms, 3), "difference_ms": round(h.difference_ms, 4)} for h in found.hits],
    }


def unknown_report(notes: int, rate: int, *, warnings: tuple[str, ...]) -> dict[str, Any]:
    """The report of a recording of which nothing is known by itself: every key, null but for what is known."""
    known = {"notes": notes, "sample_rate": rate, "alternatives_ms": [], "warnings": list(warnings)}
    names = [name for value in _ORDER for name in (value, f"{value}_ci")]
    return dict.fromkeys([*names, *_COUNTED]) | known


def _two_values(two: TwoValues | None) -> list[dict[str, float]] | None:
    """Where the hits stand at two values: each with its share of them, the earlier first."""
    if two is None:
        return None
    shares = ((two.early_ms, 1 - two.later_share), (two.late_ms, two.later_share))
    return [{"ms": round(ms, 6), "share": round(share, 4)} for ms, share in shares]


def _finite(value: float) -> float | None:
    return round(value, 6) if math.isfinite(value) else None
