"""Who is there? The identity request and its reply, as bytes.

Universal non-real-time system exclusive, general information (MIDI 1.0 Detailed Specification, "Identity Request" and
"Identity Reply"): F0 7E device 06 01 F7, answered by F0 7E device 06 02, the maker's number (one byte, or 00 and two
more), family and model (14 bits each, low seven bits first), four bytes of version, F7.
"""

from dataclasses import dataclass

from hypotaxis.core.midi.messages import EXCLUSIVE, EXCLUSIVE_END

ALL_DEVICES = 0x7F
REQUEST = bytes([EXCLUSIVE, 0x7E, ALL_DEVICES, 0x06, 0x01, EXCLUSIVE_END])
_REPLY = bytes([0x06, 0x02])
_MOST = 0x3FFF


@dataclass(frozen=True)
class Identity:
    """What a box says of itself. device: 0–127; maker: one or three bytes; family, model: 0–16383; version: 4 bytes."""

    device: int
    maker: bytes
    family: int
    model: int
    version: bytes = bytes(4)

    @property
    def kind(self) -> str:
        """Maker, family and model as they are written and kept: the same for every box of its kind.

        >>> Identity(0, bytes([0x7D]), 5, 300).kind
        '7D 5.300'
        """
        return f"{self.maker.hex(' ').upper()} {self.family}.{self.model}"


def is_request(data: bytes) -> bool:
    """Whether a message asks who is there, one device or all."""
    return len(data) == 6 and data[:2] == REQUEST[:2] and data[3:] == REQUEST[3:]


def reply_bytes(identity: Identity) -> bytes:
    """The reply of a box with this identity."""
    numbers = [part for value in (identity.family, identity.model) for part in (value & 0x7F, value >> 7)]
    return bytes(
        [EXCLUSIVE, 0x7E, identity.device, *_REPLY, *identity.maker, *numbers, *identity.version, EXCLUSIVE_END]
    )


def read_reply(data: bytes) -> Identity | None:
    """The identity in a message; None where it is no whole reply."""
    if len(data) < 15 or data[:2] != REQUEST[:2] or data[3:5] != _REPLY or data[-1] != EXCLUSIVE_END:
        return None
    maker = data[5:8] if data[5] == 0 else data[5:6]
    rest = data[5 + len(maker) : -1]
    if len(rest) != 8 or any(byte > 0x7F for byte in data[2:-1]):
        return None
    family, model = (low | high << 7 for low, high in (rest[:2], rest[2:4]))
    return Identity(data[2], bytes(maker), family, model, bytes(rest[4:]))
