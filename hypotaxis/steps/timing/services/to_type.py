"""The numbers that a host wants typed in: some ask how late something is, some how far to shift it."""

from dataclasses import dataclass

from hypotaxis.core.units import ms_to_samples, signed


@dataclass(frozen=True)
class ToType:
    """One way in which hosts ask, with its number in ms and in samples: as it is read, and as a field takes it."""

    asked: str
    told: str
    ms: str
    samples: str
    field_ms: str
    """With a plain minus, for the clipboard."""
    field_samples: str


def to_type(late_ms: float, sample_rate: int) -> tuple[ToType, ToType]:
    """Lateness in ms as a delay to make up for, and as a shift (minus is earlier), whole samples of the rate."""
    return (
        _row("how late it is", "a delay to make up for", late_ms, sample_rate),
        _row("how far to shift it", "minus is earlier", -late_ms, sample_rate),
    )


def _row(asked: str, told: str, ms: float, sample_rate: int) -> ToType:
    samples = round(ms_to_samples(ms, sample_rate))
    return ToType(asked, told, signed(ms, 2), signed(samples, 0), f"{ms:.2f}", f"{samples}")
