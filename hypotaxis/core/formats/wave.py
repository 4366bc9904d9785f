"""Broadcast Wave: 24-bit PCM with a `bext` chunk (EBU Tech 3285), over 4 GiB as RF64 (EBU Tech 3306).

Samples are floats, full scale ±1.0, shape (frames, channels); a value beyond full scale is held at it. The time
reference counts samples since the session's zero (or since the zero of a handover, which the description names).
Reading is soundfile's; the chunk itself is read here, since soundfile does not show it.
"""

import struct
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import BinaryIO

import numpy as np

from hypotaxis.core.errors import UnreadableFile

BEXT = struct.Struct("<256s32s32s10s8sIIH64s10s180s")
"""The fixed 602 bytes of the chunk (EBU Tech 3285, version 2)."""
FULL_SCALE = 2**23
_FOUR_GIB = 2**32
HEAD_BYTES = 12 + 36 + 8 + BEXT.size + 24 + 8
"""What stands before the samples of a file without a history: form, ds64 or its room, bext, fmt, the data's head."""


@dataclass(frozen=True, kw_only=True)
class Broadcast:
    """What the `bext` chunk says."""

    description: str = ""
    originator: str = "Hypotaxis"
    reference: str = ""
    recorded: datetime | None = None
    time_reference: int = 0
    """Samples, 0 or more. Texts are kept to ASCII as the chunk asks."""
    history: str = ""


def write_wave(
    stream: BinaryIO, blocks: Iterable[np.ndarray], *, rate: int, channels: int, frames: int, bext: Broadcast
) -> None:
    """Write a complete file. blocks must add up to `frames`; raises ValueError when they do not."""
    stream.write(wave_head(rate=rate, channels=channels, frames=frames, bext=bext))
    written = 0
    for block in blocks:
        stream.write(to_int24(block))
        written += len(block)
    if written != frames:
        raise ValueError(f"{written} frames were delivered, {frames} announced")
    stream.write(wave_end(channels=channels, frames=frames))


def wave_head(*, rate: int, channels: int, frames: int, bext: Broadcast) -> bytes:
    """Everything of a file that stands before its samples."""
    data_bytes = frames * channels * 3
    chunk = _bext_bytes(bext)
    fmt = struct.pack("<HHIIHH", 1, channels, rate, rate * channels * 3, channels * 3, 24)
    body = b"bext" + struct.pack("<I", len(chunk)) + chunk + b"fmt " + struct.pack("<I", len(fmt)) + fmt
    riff_bytes = 4 + 36 + len(body) + 8 + data_bytes + data_bytes % 2
    large = riff_bytes >= _FOUR_GIB
    sizes = struct.pack("<QQQI", riff_bytes, data_bytes, frames, 0)
    if large:
        head = b"RF64" + b"\xff\xff\xff\xff" + b"WAVE" + b"ds64" + struct.pack("<I", 28) + sizes
    else:
        # The room of ds64 is kept as JUNK, as EBU Tech 3306 advises, so both kinds have one layout.
        head = b"RIFF" + struct.pack("<I", riff_bytes) + b"WAVE" + b"JUNK" + struct.pack("<I", 28) + bytes(28)
    return head + body + b"data" + (b"\xff\xff\xff\xff" if large else struct.pack("<I", data_bytes))


def wave_end(*, channels: int, frames: int) -> bytes:
    """What stands behind the samples: chunks begin at even places."""
    return bytes(frames * channels * 3 % 2)


def to_int24(samples: np.ndarray) -> bytes:
    """Floats to little-endian 24-bit, interleaved, rounded to the nearest step and held at full scale."""
    # A power of two: exact in the samples' own precision.
    scaled = np.asarray(samples) * np.float32(FULL_SCALE)
    np.rint(scaled, out=scaled)
    np.clip(scaled, -FULL_SCALE, FULL_SCALE - 1, out=scaled)
    return np.ascontiguousarray(scaled, dtype="<i4").view(np.uint8).reshape(-1, 4)[:, :3].tobytes()


def read_broadcast(path: Path) -> Broadcast | None:
    """The `bext` chunk of a WAV file, or None when it has none; raises UnreadableFile for what is no WAV."""
    with path.open("rb") as stream:
        head = stream.read(12)
        if head[:4] not in (b"RIFF", b"RF64") or head[8:12] != b"WAVE":
            raise UnreadableFile("This is not a WAV file.")
        while len(frame := stream.read(8)) == 8:
            name, length = frame[:4], struct.unpack("<I", frame[4:])[0]
            if name == b"data":
                return None
            if name == b"bext":
                raw = stream.read(length)
                if len(raw) < BEXT.size:
                    raise UnreadableFile("The file's bext chunk breaks off.")
                return _parse_bext(raw)
            stream.seek(length + length % 2, 1)
    return None


def _bext_bytes(bext: Broadcast) -> bytes:
    date = bext.recorded.strftime("%Y-%m-%d").encode() if bext.recorded else b""
    time = bext.recorded.strftime("%H:%M:%S").encode() if bext.recorded else b""
    fixed = BEXT.pack(
        _ascii(bext.description)[:256],
        _ascii(bext.originator)[:32],
        _ascii(bext.reference)[:32],
        date,
        time,
        bext.time_reference & 0xFFFFFFFF,
        bext.time_reference >> 32,
        2,
        b"",
        # Loudness not measured: 0x7FFF in each of the five values (EBU Tech 3285, version 2).
        struct.pack("<5h", *[0x7FFF] * 5),
        b"",
    )
    history = _ascii(bext.history)
    history += b"\r\n" if history and not history.endswith(b"\r\n") else b""
    return fixed + history + b"\0" * (len(history) % 2)


def _parse_bext(raw: bytes) -> Broadcast:
    description, originator, reference, date, time, low, high, *_ = BEXT.unpack(raw[: BEXT.size])
    try:
        recorded = datetime.strptime(f"{_text(date)} {_text(time)}", "%Y-%m-%d %H:%M:%S")
    except ValueError:
        recorded = None
    return Broadcast(
        description=_text(description),
        originator=_text(originator),
        reference=_text(reference),
        recorded=recorded,
        time_reference=low | high << 32,
        history=_text(raw[BEXT.size :]).rstrip("\r\n"),
    )


def _ascii(text: str) -> bytes:
    plain = text.replace("−", "-").replace("–", "-").replace("µ", "u")
    return plain.encode("ascii", "replace")


def _text(raw: bytes) -> str:
    return raw.split(b"\0", 1)[0].decode("ascii", "replace")
