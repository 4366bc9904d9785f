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
    asked = re.fullmatch(r"bytes=(\d{0,15})-(\d{0,15})", request.headers.get("Range", ""))
    if not asked or asked.groups() == ("", ""):
        answer = FileResponse(path.open("rb"), content_type="audio/wav")
        answer["Accept-Ranges"] = "bytes"
        return answer
    first, last = asked.groups()
    # Without a beginning the last so many bytes are meant.
    start = int(first) if first else max(0, size - int(last))
    end = min(size - 1, int(last) if first and last else size - 1)
    if start > end:
        return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
    stream = path.open("rb")
    stream.seek(start)
    answer = FileResponse(_Part(stream, end - start + 1), status=206, content_type="audio/wav")
    answer["Content-Range"] = f"bytes {start}-{end}/{size}"
    answer["Content-Length"] = end - start + 1
    answer["Accept-Ranges"] = "bytes"
    return answer


def sound_stream(
    request: HttpRequest, *, rate: int, frames: int, read: Callable[[int, int], np.ndarray]
) -> HttpResponse:
    """Stereo sound that is made while it is asked for, as a WAV file of 16 bits that is never whole anywhere: the range
    that is asked for, in pieces of at most PIECE bytes, so that nobody waits for what is not heard. read: the frames
    from one to another, shape (frames, 2), full scale ±1.0."""
    head = _wave_head(rate, frames)
    size = len(head) + 4 * frames
    asked = re.fullmatch(r"bytes=(\d{0,15})-(\d{0,15})", request.headers.get("Range", ""))
    first, last = asked.groups() if asked else ("", "")
    start = int(first) if first else max(0, size - int(last)) if last else 0
    end = min(size, start + PIECE, int(last) + 1 if first and last else size)
    if start >= end:
        return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
    low, high = (max(0, at - len(head)) for at in (start, end))
    sound = read(low // 4, -(-high // 4))
    made = head[start:end] + _as_16_bit(sound)[low % 4 :][: high - low]
    answer = HttpResponse(made, status=206, content_type="audio/wav")
    answer["Content-Range"] = f"bytes {start}-{end - 1}/{size}"
    answer["Accept-Ranges"] = "bytes"
    answer["Cache-Control"] = "no-store"
    return answer


def _wave_head(rate: int, frames: int) -> bytes:
    form = struct.pack("<4sIHHIIHH", b"fmt ", 16, 1, 2, rate, 4 * rate, 4, 16)
    return struct.pack("<4sI4s", b"RIFF", 36 + 4 * frames, b"WAVE") + form + struct.pack("<4sI", b"data", 4 * frames)


def _as_16_bit(sound: np.ndarray) -> bytes:
    return np.rint(np.clip(sound, -1, 1) * 32767).astype("<i2").tobytes()
