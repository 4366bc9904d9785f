"""Bytes of a text file as text: UTF-8 or UTF-16 with its mark, any line ends.

Lists of names also come in the Western code pages that spreadsheets and old programs write; which one it is shows in
where its letters stand. Anything else is refused with its line.
"""

import codecs
import json
import re
import unicodedata
from typing import Any

from hypotaxis.core.errors import UnreadableFile

MAX_TEXT_BYTES = 16 * 2**20
MAX_LINES = 200_000
_MAY_BE_HALF = re.compile(r"\\u[dD][89a-fA-F]|[\ud800-\udfff]")


CODE_PAGES = {"cp1252": "Windows 1252", "mac_roman": "Mac Roman", "cp850": "DOS 850", "cp437": "DOS 437"}
"""Western code pages, the commonest first, and how they are spoken of."""
_USUAL = frozenset("àáâäãåæçèéêëìíîïñòóôöõøœùúûüýßÀÁÂÄÃÅÆÇÈÉÊËÌÍÎÏÑÒÓÔÖÕØŒÙÚÛÜ")
_SIGNS = frozenset("°º²³½¼£€©®™…–—‘’“”«»•·´±µ§¡¿")


def western_text(data: bytes, what: str = "file") -> tuple[str, str]:
    """(the text, a remark where it is in none of the Unicode encodings and was read in a Western code page). Raises
    UnreadableFile."""
    try:
        return text_of(data, what), ""
    except UnreadableFile as error:
        if not isinstance(error.__cause__, UnicodeDecodeError) or b"\x00" in data:
            raise
        if sum(byte < 32 and byte not in (9, 10, 12, 13) for byte in data[:MAX_TEXT_BYTES]) > len(data) / 100:
            raise
        beyond, letters = sum(byte > 127 for byte in data), sum(65 <= byte & 223 <= 90 for byte in data)
        if 2 * beyond > letters:
            # No Western words: their letters beyond ASCII stand among plain ones.
            raise
    found = {}
    for page in CODE_PAGES:
        try:
            found[page] = data.decode(page)
        except UnicodeDecodeError:
            continue
    best = max(found, key=lambda page: _likeliness(found[page]))
    text = text_of(found[best].encode(), what)
    line = data[: next(at for at, byte in enumerate(data) if byte > 127)].count(b"\n") + 1
    shown = text.split("\n")[line - 1].strip()[:60]
    remark = f"It is not in UTF-8; it was read as {CODE_PAGES[best]}, first on line {line}: “{shown}”. Is that right?"
    return text, remark


def _likeliness(text: str) -> float:
    """How much the letters beyond ASCII look like those of Western words: usual ones, small ones inside words, signs
    where signs stand."""
    total = 0.0
    for found in re.finditer(r"[^\x00-\x7f]", text):
        sign, at = found[0], found.start()
        before, after = text[at - 1] if at else " ", text[at + 1] if at + 1 < len(text) else " "
        inside = before.isalpha() or after.isalpha()
        if sign in _USUAL:
            total += 1.0 if sign.islower() or not before.islower() else -1.0
        elif sign in _SIGNS:
            total += 0.5 if not (before.isalpha() and after.isalpha()) or sign in "’´" else -1.0
        else:
            total += -0.5 if unicodedata.category(sign)[0] == "L" and inside else -1.0
    return total


def text_of(data: bytes, what: str = "file") -> str:
    """The text with plain line ends and without a byte-order mark. Raises UnreadableFile."""
    if len(data) > MAX_TEXT_BYTES:
        raise UnreadableFile(f"The {what} is larger than {MAX_TEXT_BYTES // 2**20} MB: too large for a list of names.")
    if not data.strip():
        raise UnreadableFile(f"The {what} is empty.")
    encoding = "utf-8-sig"
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        encoding = "utf-16"
    elif b"\x00" in data[:4000]:
        raise UnreadableFile(f"The {what} is no text: it holds zero bytes. Save it as text in UTF-8.")
    try:
        text = data.decode(encoding)
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise UnreadableFile(
            f"Line {line} of the {what} is not UTF-8: byte {data[error.start]:02X} cannot be read. Save it as UTF-8."
        ) from error
    text = text.replace("\r\n", "\n").replace("\r", "\n")
    if text.count("\n") > MAX_LINES:
        raise UnreadableFile(f"The {what} has more than {MAX_LINES} lines.")
    return text


def json_of(text: str, what: str) -> Any:
    """JSON from outside as plain data. Raises UnreadableFile: too deep, no JSON, numbers of thousands of digits, halves
    of characters, which no file and no row can hold. what: how it is spoken of, at the beginning of a sentence."""
    try:
        plain = json.loads(text)
    except RecursionError as error:
        raise UnreadableFile(f"{what} is nested too deeply.") from error
    except ValueError as error:
        raise UnreadableFile(f"{what} is not JSON: {error}.") from error
    if _MAY_BE_HALF.search(text):
        try:
            json.dumps(plain, ensure_ascii=False).encode()
        except UnicodeEncodeError as error:
            raise UnreadableFile(
                f"{what} holds half a character (a lone surrogate), which stands for nothing. Save it again as UTF-8."
            ) from error
    return plain
