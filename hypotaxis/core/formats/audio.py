"""Recordings of one's own: is this file what it says it is, and may it be measured?

WAV (plain, extensible, RF64), AIFF and AIFF-C, FLAC and Ogg; 8 to 192 kHz, one or two channels, up to four hours. The
frame of each file is checked here, since decoders read a file that breaks off without a word; decoding is libsndfile's,
through soundfile. Hostile files are the reason why callers do this in a process of its own (core/timing/apart.py).
"""

import os
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import soundfile

from hypotaxis.core.errors import UnreadableFile, UnsupportedRecording
from hypotaxis.core.formats.wave import read_broadcast

RATES = (8_000, 192_000)
MAX_SECONDS = 4 * 3600
MAX_BYTES = 2 * 2**30
_OGG_TAIL = 70_000
"""An Ogg page has at most 65,307 bytes (RFC 3533), so the last one begins in such a tail."""
_LAST_PAGE = 0x04


@dataclass(frozen=True)
class AudioFacts:
    """What a checked file is. time_reference: of a Broadcast Wave, in samples; 0 where there is none."""

    kind: str
    rate: int
    channels: int
    frames: int
    subtype: str
    time_reference: int = 0

    @property
    def seconds(self) -> float:
        return self.frames / self.rate


def check_audio(path: Path) -> AudioFacts:
    """Facts of a file that can be measured.

    Raises UnreadableFile for a file that cannot be decoded or holds less than it declares, UnsupportedRecording for
    one that can be read but not measured.
    """
    if path.stat().st_size > MAX_BYTES:
        raise UnsupportedRecording(f"The recording has {path.stat().st_size / 2**30:.1f} GB; up to 2 GB can be used.")
    with path.open("rb") as stream:
        kind = _kind(stream.read(12))
        stream.seek(0)
        {"WAV": _check_riff, "AIFF": _check_aiff, "FLAC": lambda _: None, "Ogg": _check_ogg}[kind](stream)
    try:
        info = soundfile.info(path)
    except (RuntimeError, ValueError, TypeError) as error:
        raise UnreadableFile(f"The {kind} file cannot be decoded: {_reason(error)}. Export it again.") from error
    _check_facts(info)
    return AudioFacts(kind, info.samplerate, info.channels, info.frames, info.subtype, _time_reference(path, kind))


def _kind(head: bytes) -> str:
    if head[:4] in (b"RIFF", b"RF64") and head[8:12] == b"WAVE":
        return "WAV"
    if head[:4] == b"FORM" and head[8:12] in (b"AIFF", b"AIFC"):
        return "AIFF"
    if head[:4] == b"fLaC":
        return "FLAC"
    if head[:4] == b"OggS":
        return "Ogg"
    if head[:3] == b"ID3" or head[:2] in (b"\xff\xfb", b"\xff\xf3", b"\xff\xf2"):
        raise UnsupportedRecording("MP3 files begin late by an unknown padding. Record to WAV, AIFF or FLAC.")
    if not head:
        raise UnreadableFile("The recording is an empty file.")
    raise UnreadableFile("This is no WAV, AIFF, FLAC or Ogg file. Export the recording as WAV.")


def _check_facts(info) -> None:
    low, high = RATES
    if not low <= info.samplerate <= high:
        raise UnsupportedRecording(
            f"The file says it has {info.samplerate} samples a second; {low} to {high} can be used. Its header may be "
            "damaged."
        )
    if info.channels not in (1, 2):
        raise UnsupportedRecording(
            f"The recording has {info.channels} channels; one or two can be measured. Export the one that was recorded."
        )
    if info.frames <= 0:
        raise UnreadableFile("The recording holds no samples. Export it again.")
    if info.frames > MAX_SECONDS * info.samplerate:
        raise UnsupportedRecording(
            f"The recording lasts {info.frames / info.samplerate / 3600:.1f} hours; up to 4 can be used."
        )


def _chunks(stream: BinaryIO, order: str) -> Iterator[tuple[bytes, int, int]]:
    """(name, declared length, position of the body) of each chunk; a chunk's head that breaks off ends them."""
    size = os.fstat(stream.fileno()).st_size
    at = 12
    while at + 8 <= size:
        stream.seek(at)
        name, length = struct.unpack(f"{order}4sI", stream.read(8))
        yield name, length, at + 8
        at += 8 + length + length % 2


def _check_riff(stream: BinaryIO) -> None:
    size = os.fstat(stream.fileno()).st_size
    long_data, has_format = None, False
    for name, length, body in _chunks(stream, "<"):
        if name == b"ds64" and length >= 24:
            stream.seek(body)
            long_data = struct.unpack("<QQQ", stream.read(24))[1]
        has_format = has_format or name == b"fmt "
        if name == b"data":
            declared = long_data if length == 0xFFFFFFFF and long_data is not None else length
            _hold(size - body, declared, "WAV")
            if not has_format:
                raise UnreadableFile("The WAV file has no format before its data. Export it again.")
            return
    raise UnreadableFile("The WAV file breaks off before its data. Copy or export it again.")


def _check_aiff(stream: BinaryIO) -> None:
    size = os.fstat(stream.fileno()).st_size
    for name, length, body in _chunks(stream, ">"):
        if name == b"SSND":
            _hold(size - body, length, "AIFF")
            return
    raise UnreadableFile("The AIFF file breaks off before its sound. Copy or export it again.")


def _check_ogg(stream: BinaryIO) -> None:
    size = os.fstat(stream.fileno()).st_size
    stream.seek(max(0, size - _OGG_TAIL))
    tail = stream.read()
    at = tail.rfind(b"OggS")
    while at > 0 and at + 27 > len(tail):
        at = tail.rfind(b"OggS", 0, at)
    complete = False
    if at >= 0 and at + 27 <= len(tail):
        segments = tail[at + 26]
        body = sum(tail[at + 27 : at + 27 + segments])
        complete = bool(tail[at + 5] & _LAST_PAGE) and at + 27 + segments + body <= len(tail)
    if not complete:
        raise UnreadableFile("The Ogg file breaks off: its last page is missing. Copy or export it again.")


def _hold(there: int, declared: int, kind: str) -> None:
    if there < declared:
        raise UnreadableFile(
            f"The {kind} file holds less than it declares: {declared:,} bytes of sound, {there:,} are there. "
            "Copy or export it again."
        )


def _time_reference(path: Path, kind: str) -> int:
    if kind != "WAV":
        return 0
    try:
        chunk = read_broadcast(path)
    except UnreadableFile:
        return 0
    return chunk.time_reference if chunk else 0


def _reason(error: Exception) -> str:
    return str(error).rpartition(": ")[2].rstrip(".") or "its decoder refuses it"
