"""Recordings of one's own: is this file what it says it is, and may it be measured?

WAV (plain, extensible, RF64), AIFF and AIFF-C, FLAC and Ogg; 8 to 192 kHz, one or two channels, up to four hours. The
frame of each file is checked here, since decoders read a file that breaks off without a word; decoding is libsndfile's,
through soundfile. A WAV file that does not say how long its sound is (as streamed ones don't), or says more than is
there, is read to its end, with a remark. Hostile files are the reason why callers do this in a process of its own
(core/apart.py).
"""

import io
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
    """What a checked file is."""

    kind: str
    rate: int
    channels: int
    frames: int
    subtype: str
    time_reference: int = 0
    """Of a Broadcast Wave, in samples; 0 where there is none."""
    remark: str = ""
    """What was wrong with it and is done about it, a sentence; "" where it is as it says."""

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
        size = _sound_size(stream) if kind == "WAV" else None
        if kind in ("AIFF", "Ogg"):
            {"AIFF": _check_aiff, "Ogg": _check_ogg}[kind](stream)
    try:
        with open_sound(path) as sound:
            _check_facts(sound)
            facts = (sound.samplerate, sound.channels, sound.frames, sound.subtype)
    except (RuntimeError, ValueError, TypeError) as error:
        raise UnreadableFile(f"The {kind} file cannot be decoded: {_reason(error)}. Export it again.") from error
    return AudioFacts(kind, *facts, _time_reference(path, kind), size.remark if size else "")


def open_sound(source: Path | BinaryIO) -> soundfile.SoundFile:
    """The decoder of a file, or of a stream of one; a WAV file whose declared size cannot be relied on is read to its
    end. Raises soundfile's errors for what it cannot decode, UnreadableFile for a WAV file without sound."""
    stream = source.open("rb") if isinstance(source, Path) else source
    head = stream.read(12)
    riff = head[:4] in (b"RIFF", b"RF64") and head[8:12] == b"WAVE"
    size = _sound_size(stream) if riff else None
    stream.seek(0)
    if size and size.remark:
        return soundfile.SoundFile(_Mended(stream, size.at, size.field))
    if isinstance(source, Path):
        stream.close()
    return soundfile.SoundFile(source)


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


def _end(stream: BinaryIO) -> int:
    return stream.seek(0, os.SEEK_END)


def _chunks(stream: BinaryIO, order: str, at: int = 12) -> Iterator[tuple[bytes, int, int]]:
    """(name, declared length, position of the body) of each chunk; a chunk's head that breaks off ends them."""
    size = _end(stream)
    while at + 8 <= size:
        stream.seek(at)
        name, length = struct.unpack(f"{order}4sI", stream.read(8))
        yield name, length, at + 8
        at += 8 + length + length % 2


@dataclass(frozen=True)
class _SoundSize:
    """Where a WAV file's size of its sound is declared (position in the file) and what should stand there; remark: ""
    where it does."""

    at: int
    field: bytes
    remark: str


class _Mended(io.RawIOBase):
    """A stream that reads as if other bytes stood at one place of it."""

    def __init__(self, stream: BinaryIO, at: int, instead: bytes) -> None:
        self._stream, self._at, self._instead = stream, at, instead

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        return self._stream.seek(offset, whence)

    def tell(self) -> int:
        return self._stream.tell()

    def readinto(self, buffer) -> int:
        start = self.tell()
        read = self._stream.read(len(buffer))
        view = memoryview(buffer).cast("B")
        view[: len(read)] = read
        first, last = max(start, self._at), min(start + len(read), self._at + len(self._instead))
        if first < last:
            view[first - start : last - start] = self._instead[first - self._at : last - self._at]
        return len(read)


def _sound_size(stream: BinaryIO) -> _SoundSize:
    """Where the sound of a WAV file ends, whatever its header says of that."""
    end = _end(stream)
    long_at = None
    has_format = False
    for name, length, body in _chunks(stream, "<"):
        if name == b"ds64" and length >= 24:
            long_at = body + 8
        has_format = has_format or name == b"fmt "
        if name != b"data":
            continue
        if not has_format:
            raise UnreadableFile("The WAV file has no format before its data. Export it again.")
        at, kind = (long_at, "<Q") if length == 0xFFFFFFFF and long_at is not None else (body - 4, "<I")
        stream.seek(at)
        declared = struct.unpack(kind, stream.read(struct.calcsize(kind)))[0]
        unknown = declared == 2 ** (8 * struct.calcsize(kind)) - 1 or (declared == 0 and not _chunks_fill(stream, body))
        remark = ""
        if unknown:
            remark = "The file does not say how long its sound is, as streamed files do not; it is read to its end."
        elif declared > end - body:
            remark = (
                f"The file holds less than it declares: {declared:,} bytes of sound, {end - body:,} are there, and "
                "those are read. If the recording should be longer, copy or export it again."
            )
        return _SoundSize(at, struct.pack(kind, end - body), remark)
    raise UnreadableFile("The WAV file breaks off before its data. Copy or export it again.")


def _chunks_fill(stream: BinaryIO, at: int) -> bool:
    """Whether what follows a position is whole chunks up to the file's end, or nothing: then no sound stands there."""
    end = _end(stream)
    last = at
    for name, length, body in _chunks(stream, "<", at):
        if not name.isascii() or not name.decode("ascii").isprintable():
            return False
        last = body + length + length % 2
    return end in (last, last - 1)


def _check_aiff(stream: BinaryIO) -> None:
    size = _end(stream)
    for name, length, body in _chunks(stream, ">"):
        if name == b"SSND":
            _hold(size - body, length, "AIFF")
            return
    raise UnreadableFile("The AIFF file breaks off before its sound. Copy or export it again.")


def _check_ogg(stream: BinaryIO) -> None:
    size = _end(stream)
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
