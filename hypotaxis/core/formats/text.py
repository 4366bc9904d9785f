"""Bytes of a text file as text: UTF-8 or UTF-16 with its mark, any line ends; anything else is refused with its "
"line."""

import codecs

from hypotaxis.core.errors import UnreadableFile

MAX_TEXT_BYTES = 16 * 2**20
MAX_LINES = 200_000


def text_of(data: bytes, what: str = "file") -> str:
    """The text with plain line ends and without a byte-order mark. Raises UnreadableFile."""
    if len(data) > MAX_TEXT_BYTES:
        raise UnreadableFile(f"The {what} is larger than {MAX_TEXT_BYTES // 2**20} MB; that is no list of names.")
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
