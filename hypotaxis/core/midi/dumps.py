"""A box's memory as system exclusive messages: taken apart, checked, and paced as the box bears it.

A message is F0, data bytes below 80, F7 (MIDI 1.0 Detailed Specification); a .syx file is such messages one after the
other. The byte behind F0 is the maker's number, or 00 and two more. Universal messages (7E, 7F) belong to nobody.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from hypotaxis.core.errors import BadDump
from hypotaxis.core.midi.messages import EXCLUSIVE, EXCLUSIVE_END, FIRST_STATUS, REAL_TIME
from hypotaxis.core.units import BYTE_US

MOST_BYTES = 4 * 2**20
"""Of a dump: 22 minutes on a DIN wire."""
LONGEST_REQUEST = 512
UNIVERSAL = (0x7E, 0x7F)
USUAL_PAUSE_MS = 20.0
"""Left between messages where nothing else is said of a box (common practice: 20 to 100 ms)."""


def request_of(text: str) -> bytes:
    """A request as it stands in a box's handbook: hexadecimal digits, in pairs, with or without blanks, commas, 0x and
    a closing H; several messages may follow each other. Raises BadDump.

    >>> request_of("F0 7D 05 10 F7") == request_of("0xF0,0x7d,05h,10h,F7")
    True
    """
    words = text.replace(",", " ").replace("$", " ").split()
    plain = "".join(word.casefold().removeprefix("0x").removesuffix("h") for word in words)
    try:
        data = bytes.fromhex(plain)
    except ValueError as error:
        raise BadDump(f"“{text[:40]}” is no row of hexadecimal bytes, like F0 7D 05 10 F7: {error}.") from error
    if not data:
        raise BadDump("The request is empty. It stands in the box's handbook, like F0 7D 05 10 F7.")
    if len(data) > LONGEST_REQUEST:
        raise BadDump(f"The request has {len(data)} bytes; up to {LONGEST_REQUEST} are sent. Is it a dump?")
    return b"".join(messages_in(data))


def messages_in(data: bytes) -> tuple[bytes, ...]:
    """The messages of a dump, whole, real-time bytes between their bytes taken out. Raises BadDump with the place of
    what is no such message."""
    if len(data) > MOST_BYTES:
        raise BadDump(f"The dump has {len(data):,} bytes; up to {MOST_BYTES:,} are kept.")
    data = bytes(byte for byte in data if byte < REAL_TIME)
    found, at = [], 0
    while at < len(data):
        if data[at] != EXCLUSIVE:
            raise BadDump(f"Byte {at + 1} is {data[at]:02X}, and a system exclusive message begins with F0.")
        end = next((place for place in range(at + 1, len(data)) if data[place] >= FIRST_STATUS), len(data))
        if end == len(data):
            raise BadDump(f"Message {len(found) + 1} breaks off behind {end - at} bytes: its F7 is missing.")
        if data[end] != EXCLUSIVE_END:
            raise BadDump(
                f"Message {len(found) + 1} breaks off at byte {end + 1}: {data[end]:02X} stands where data or F7 "
                "should."
            )
        if end == at + 1:
            raise BadDump(f"Message {len(found) + 1} is empty.")
        found.append(data[at : end + 1])
        at = end + 1
    if not found:
        raise BadDump("The dump is empty.")
    return tuple(found)


def maker_of(message: bytes) -> bytes:
    """Its maker's number, one byte or three; of universal messages none.

    >>> maker_of(bytes.fromhex("f000210510f7")).hex(), maker_of(bytes.fromhex("f07e7f0601f7"))
    ('002105', b'')
    """
    if message[1] in UNIVERSAL:
        return b""
    return message[1:4] if message[1] == 0 else message[1:2]


def check_maker(messages: Sequence[bytes], known: bytes, box: str) -> None:
    """Raises BadDump where a message is another maker's than the box's (known, b"" = not known)."""
    for number, one in enumerate(messages, start=1):
        maker = maker_of(one)
        if known and maker and maker != known:
            raise BadDump(
                f"Message {number} is of maker {maker.hex(' ').upper()}, and {box} is of {known.hex(' ').upper()}: it "
                "is another box's dump. Nothing was kept or sent."
            )


@dataclass(frozen=True)
class Pacing:
    """How fast a box bears it. pause_ms: from the end of a message to the next; bytes_a_second: on the average, 0 = as
    the wire carries them."""

    pause_ms: float = USUAL_PAUSE_MS
    bytes_a_second: int = 0

    def after_us(self, message: bytes) -> float:
        """From the beginning of a message to that of the next, on a DIN wire."""
        wire = len(message) * BYTE_US
        slow = len(message) * 1e6 / self.bytes_a_second if self.bytes_a_second else 0.0
        return max(wire + self.pause_ms * 1000, slow)


def paced(messages: Sequence[bytes], pacing: Pacing) -> list[tuple[int, bytes]]:
    """(when it leaves in ns from the first one, message)."""
    found, at = [], 0.0
    for one in messages:
        found.append((round(at * 1000), one))
        at += pacing.after_us(one)
    return found


def seconds_of(messages: Sequence[bytes], pacing: Pacing) -> float:
    """How long sending them takes.

    >>> round(seconds_of([bytes(3125)], Pacing(pause_ms=0)), 6)
    1.0
    """
    return sum(pacing.after_us(one) for one in messages) / 1e6


@dataclass(frozen=True)
class Held:
    """A dump against another one of the same box. same: they are equal to the byte; told: in a sentence."""

    same: bool
    told: str


def held_against(sent: Sequence[bytes], came: Sequence[bytes], pacing: Pacing) -> Held:
    """What a box says it holds beside what it was sent."""
    if list(sent) == list(came):
        return Held(True, f"Asked again, it holds the same: {sum(map(len, sent)):,} bytes.")
    if not came:
        return Held(False, "It was sent, and did not answer when it was asked again.")
    other = sum(one != two for one, two in zip(sent, came, strict=False)) + abs(len(sent) - len(came))
    slower = max(50.0, 2 * pacing.pause_ms)
    return Held(
        False,
        f"Asked again, {other} of {max(len(sent), len(came))} messages differ: it loses some when they come too fast. "
        f"Leave {slower:.0f} ms between them in its settings, and send it again.",
    )
