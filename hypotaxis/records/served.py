"""Files as answers, also in parts: players seek in sound only where they may ask for a range of its bytes (RFC 9110,
section 14)."""

import re
from pathlib import Path

from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase


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
