"""Broadcast Wave: 24-bit PCM or 32-bit float with a `bext` chunk (EBU Tech 3285), with an iXML chunk where names of
tracks are to go along (its published specification, version 2.10), over 4 GiB as RF64 (EBU Tech 3306).

Samples are floats, full scale ±1.0, shape (frames, channels); in 24 bits a value beyond full scale is held at it. The
time reference counts samples since the session's zero (or since the zero of a handover, which the description names).
Reading is soundfile's; the chunk itself is read here, since soundfile does not show it.
"""

import os
import struct
import threading
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import BinaryIO
from xml.etree.ElementTree import Element, SubElement, tostring

import numpy as np

from hypotaxis.core.errors import UnreadableFile

BEXT = struct.Struct("<256s32s32s10s8sIIH64s10s180s")
"""The fixed 602 bytes of the chunk (EBU Tech 3285, version 2)."""
FULL_SCALE = 2**23
INT24, FLOAT32 = ENCODINGS = ("24-bit", "32-bit float")
_ENCODED = {INT24: (1, 3), FLOAT32: (3, 4)}
"""Each: (format tag, bytes a sample)."""
_FORM = struct.Struct("<4sIHHIIHH")
"""The fmt chunk: name, length, format tag, channels, rate, bytes a second, bytes a frame, bits a sample."""
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


@dataclass(frozen=True)
class Naming:
    """What the iXML chunk says: of which project and take this is, and what its channels are called."""

    project: str
    take: str
    note: str
    channels: tuple[str, ...]


def write_wave(
    stream: BinaryIO,
    blocks: Iterable[np.ndarray],
    *,
    rate: int,
    channels: int,
    frames: int,
    bext: Broadcast,
    encoding: str = INT24,
    naming: Naming | None = None,
) -> None:
    """Write a complete file. blocks must add up to `frames`; raises ValueError when they do not. encoding: one of
    ENCODINGS."""
    form = {"channels": channels, "frames": frames, "encoding": encoding}
    stream.write(wave_head(rate=rate, bext=bext, naming=naming, **form))
    written = 0
    for block in blocks:
        stream.write(to_int24(block) if encoding == INT24 else np.ascontiguousarray(block, dtype="<f4").tobytes())
        written += len(block)
    if written != frames:
        raise ValueError(f"{written} frames were delivered, {frames} announced")
    stream.write(wave_end(**form))


def wave_head(
    *,
    rate: int,
    channels: int,
    frames: int,
    bext: Broadcast,
    encoding: str = INT24,
    naming: Naming | None = None,
) -> bytes:
    """Everything of a file that stands before its samples."""
    kind, width = _ENCODED[encoding]
    data_bytes = frames * channels * width
    fmt = struct.pack("<HHIIHH", kind, channels, rate, rate * channels * width, channels * width, 8 * width)
    body = _chunk(b"bext", _bext_bytes(bext))
    if encoding == INT24:
        body += _chunk(b"fmt ", fmt)
    else:
        # What is no PCM says that nothing else is to be known of it, and how long it is.
        body += _chunk(b"fmt ", fmt + b"\0\0") + _chunk(b"fact", struct.pack("<I", min(frames, _FOUR_GIB - 1)))
    body += _chunk(b"iXML", _ixml_bytes(naming)) if naming else b""
    riff_bytes = 4 + 36 + len(body) + 8 + data_bytes + data_bytes % 2
    large = riff_bytes >= _FOUR_GIB
    sizes = struct.pack("<QQQI", riff_bytes, data_bytes, frames, 0)
    if large:
        head = b"RF64" + b"\xff\xff\xff\xff" + b"WAVE" + b"ds64" + struct.pack("<I", 28) + sizes
    else:
        # The room of ds64 is kept as JUNK, as EBU Tech 3306 advises, so both kinds have one layout.
        head = b"RIFF" + struct.pack("<I", riff_bytes) + b"WAVE" + b"JUNK" + struct.pack("<I", 28) + bytes(28)
    return head + body + b"data" + (b"\xff\xff\xff\xff" if large else struct.pack("<I", data_bytes))


def wave_end(*, channels: int, frames: int, encoding: str = INT24) -> bytes:
    """What stands behind the samples: chunks begin at even places."""
    return bytes(frames * channels * _ENCODED[encoding][1] % 2)


def _chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + bytes(len(data) % 2)


def _ixml_bytes(naming: Naming) -> bytes:
    root = Element("BWFXML")
    for tag, text in (("IXML_VERSION", "2.10"), ("PROJECT", naming.project), ("TAKE", naming.take)):
        SubElement(root, tag).text = _xml_text(text)
    SubElement(root, "NOTE").text = _xml_text(naming.note)
    tracks = SubElement(root, "TRACK_LIST")
    SubElement(tracks, "TRACK_COUNT").text = str(len(naming.channels))
    for number, name in enumerate(naming.channels, start=1):
        track = SubElement(tracks, "TRACK")
        for tag in ("CHANNEL_INDEX", "INTERLEAVE_INDEX"):
            SubElement(track, tag).text = str(number)
        SubElement(track, "NAME").text = _xml_text(name)
    data = b'<?xml version="1.0" encoding="UTF-8"?>' + tostring(root, encoding="utf-8")
    # Of an even length: a widespread reader loses its way behind odd chunks that it does not know, in RF64.
    return data + b"\n" * (len(data) % 2)


def _xml_text(text: str) -> str:
    """Without the characters that XML 1.0 does not allow."""
    return "".join(one if one.isprintable() else " " for one in text)


def stepped(samples: np.ndarray) -> np.ndarray:
    """Floats as they are read again from 24 bits: rounded to the nearest step and held at full scale."""
    # A power of two: exact in the samples' own precision.
    scaled = np.asarray(samples) * np.float32(FULL_SCALE)
    np.rint(scaled, out=scaled)
    np.clip(scaled, -FULL_SCALE, FULL_SCALE - 1, out=scaled)
    scaled /= np.float32(FULL_SCALE)
    return scaled


def to_int24(samples: np.ndarray) -> bytes:
    """Floats to little-endian 24-bit, interleaved, rounded to the nearest step and held at full scale."""
    return packed24(stepped(samples))


def packed24(steps: np.ndarray) -> bytes:
    """The same of floats that are rounded already."""
    scaled = steps * np.float32(FULL_SCALE)
    return np.ascontiguousarray(scaled, dtype="<i4").view(np.uint8).reshape(-1, 4)[:, :3].tobytes()


class PackedSamples:
    """The 24-bit samples of a file of `wave_head`'s layout without history and names, read where they lie, which is
    several times as quick as decoding what stands around them."""

    def __init__(self, stream: BinaryIO, channels: int) -> None:
        self._stream, self._width, self._one = stream, 3 * channels, threading.Lock()

    @classmethod
    def of(cls, path: Path, channels: int, rate: int = 0) -> "PackedSamples | None":
        """Those of a file; None where it is laid out otherwise, or has another rate than this one (0 = any)."""
        stream = path.open("rb", buffering=0)
        head = stream.read(HEAD_BYTES)
        if len(head) == HEAD_BYTES:
            name, _, kind, sides, its_rate, _, _, bits = _FORM.unpack(head[-32:-8])
            if rate in (0, its_rate) and (name, kind, sides, bits, head[-8:-4]) == (b"fmt ", 1, channels, 24, b"data"):
                return cls(stream, channels)
        stream.close()
        return None

    def _at(self, start: int, count: int) -> bytes:
        """So many bytes from there on, also where several threads read at once."""
        if hasattr(os, "pread"):
            return os.pread(self._stream.fileno(), count, start)
        with self._one:
            self._stream.seek(start)
            return self._stream.read(count)

    def read(self, first: int, last: int, *, side: int | None = None) -> np.ndarray:
        """Frames first to last, shape (frames, channels), float32; fewer where the file breaks off. side: that one
        alone, shape (frames, 1)."""
        # A byte before each sample makes it the upper three of an integer of four.
        data = self._at(HEAD_BYTES - 1 + first * self._width, (last - first) * self._width + 1)
        frames = max(0, len(data) - 1) // self._width
        shape, strides = (frames, self._width // 3), (self._width, 3)
        found = np.ndarray(shape, "<i4", buffer=data, strides=strides)
        samples = ((found if side is None else found[:, side : side + 1]) >> 8).astype(np.float32)
        samples *= np.float32(1 / FULL_SCALE)
        return samples


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
