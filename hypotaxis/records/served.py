"""Files as answers, also in parts: players seek in sound only where they may ask for a range of its bytes (RFC 9110,
section 14)."""

import re
import struct
from collections.abc import Callable
from pathlib import Path

import numpy as np
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase

PIECE = 2**20
"""Bytes that are made for one answer at most: some seconds of sound."""


class _Part:
    """So many bytes of a file from its place on."""

    def __init__(self, stream, count: int) -> None:
        self._stream, self._left = stream, count

    def read(self, size: int = -1) -> bytes:
        """The next bytes."""
        size = self._left if size < 0 else min(size, self._left)
        data = self._stream.read(size)
        self._left -= len(data)
        return data

    def close(self) -> None:
        """Let go of the file."""
        self._stream.close()


def sound_file(request: HttpRequest, path: Path) -> HttpResponseBase:
    """A WAV file, or the range of it that is asked for."""
    size = path.stat().st_size
    asked = _asked(request, size)
    if asked is None:
        answer = FileResponse(path.open("rb"), content_type="audio/wav")
        answer["Accept-Ranges"] = "bytes"
        return answer
    start, end = asked
    if start >= end:
        return _beyond(size)
    stream = path.open("rb")
    stream.seek(start)
    answer = FileResponse(_Part(stream, end - start), status=206, content_type="audio/wav")
    answer["Content-Length"] = end - start
    return _as_part(answer, start, end, size)


def _asked(request: HttpRequest, size: int) -> tuple[int, int] | None:
    """Which bytes are asked for, of so many: the first, and the one behind the last; None where all are."""
    asked = re.fullmatch(r"bytes=(\d{0,15})-(\d{0,15})", request.headers.get("Range", ""))
    if not asked or asked.groups() == ("", ""):
        return None
    first, last = asked.groups()
    # Without a beginning the last so many bytes are meant.
    start = int(first) if first else max(0, size - int(last))
    return start, min(size, int(last) + 1 if first and last else size)


def _beyond(size: int) -> HttpResponse:
    return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})


def _as_part(answer: HttpResponseBase, start: int, end: int, size: int) -> HttpResponseBase:
    answer["Content-Range"] = f"bytes {start}-{end - 1}/{size}"
    answer["Accept-Ranges"] = "bytes"
    return answer


def sound_stream(
    request: HttpRequest, *, rate: int, frames: int, read: Callable[[int, int], np.ndarray]
) -> HttpResponseBase:
    """Stereo sound that is made while it is asked for, as a WAV file of 16 bits that is never whole anywhere: the range
    that is asked for, in pieces of at most PIECE bytes, so that nobody waits for what is not heard. read: the frames
    from one to another, shape (frames, 2), full scale ±1.0."""
    head = _wave_head(rate, frames)
    size = len(head) + 4 * frames
    start, end = _asked(request, size) or (0, size)
    end = min(end, start + PIECE)
    if start >= end:
        return _beyond(size)
    low, high = (max(0, at - len(head)) for at in (start, end))
    sound = read(low // 4, -(-high // 4))
    made = head[start:end] + _as_16_bit(sound)[low % 4 :][: high - low]
    answer = HttpResponse(made, status=206, content_type="audio/wav")
    answer["Cache-Control"] = "no-store"
    return _as_part(answer, start, end, size)


def _wave_head(rate: int, frames: int) -> bytes:
    form = struct.pack("<4sIHHIIHH", b"fmt ", 16, 1, 2, rate, 4 * rate, 4, 16)
    return struct.pack("<4sI4s", b"RIFF", 36 + 4 * frames, b"WAVE") + form + struct.pack("<4sI", b"data", 4 * frames)


def _as_16_bit(sound: np.ndarray) -> bytes:
    return np.rint(np.clip(sound, -1, 1) * 32767).astype("<i2").tobytes()
