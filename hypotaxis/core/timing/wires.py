"""What a wire's traffic means: waits of all, of each channel and of the clock, as they are told."""

from dataclasses import dataclass

import numpy as np

from hypotaxis.core.midi.wire import Sent, Waits, waits


@dataclass(frozen=True)
class WireReport:
    """One wire."""

    messages: int
    bytes: int
    duration_ms: float
    """From zero to the last byte's end."""
    max_wait_ms: float
    p95_wait_ms: float
    max_arrival_ms: float
    utilisation_peak: float
    """The busiest sliding second, 0–1."""
    channels: dict[int, Waits]
    """By channel 1–16."""
    clocks: int
    """How many clock bytes."""
    clock_max_wait_ms: float | None
    """The longest any of them waited, None where none was sent."""

    def lines(self) -> list[str]:
        """The report as text, a line for the whole and one for each channel."""
        told = [
            f"{self.messages:,} messages, {self.bytes:,} bytes in {self.duration_ms / 1000:.3f} s; longest wait "
            f"{self.max_wait_ms:.2f} ms, 95 % within {self.p95_wait_ms:.2f} ms, last byte at most "
            f"{self.max_arrival_ms:.2f} ms behind; busiest second {self.utilisation_peak:.1%}"
        ]
        told += [
            f"channel {channel}: {one.messages:,} messages, longest wait {one.max_wait_ms:.2f} ms, 95 % within "
            f"{one.p95_wait_ms:.2f} ms, last byte at most {one.max_arrival_ms:.2f} ms behind"
            for channel, one in self.channels.items()
        ]
        if self.clocks:
            told.append(f"clock: {self.clocks:,} bytes, longest wait {self.clock_max_wait_ms:.2f} ms")
        return told


def wire_report(sent: Sent) -> WireReport:
    """The report of traffic whose parts are channels (0: system exclusive)."""
    parts = sent.traffic.parts
    every = waits(sent)
    clock_waits = sent.clock_waits_ms
    return WireReport(
        messages=every.messages,
        bytes=sent.byte_count,
        duration_ms=sent.duration_ms,
        max_wait_ms=every.max_wait_ms,
        p95_wait_ms=every.p95_wait_ms,
        max_arrival_ms=every.max_arrival_ms,
        utilisation_peak=sent.utilisation_peak(),
        channels={int(channel): waits(sent, parts == channel) for channel in np.unique(parts[parts > 0])},
        clocks=len(clock_waits),
        clock_max_wait_ms=float(clock_waits.max()) if len(clock_waits) else None,
    )
