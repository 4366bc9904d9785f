"""The memory of a stand-in box as system exclusive messages: asked for, sent from its panel, taken back.

Our own invented messages under 7D, the number for what is not sold (MIDI 1.0 Detailed Specification): F0 7D model 10 F7
asks; F0 7D model 11 block data… sum F7 is a block. What is not of its model, or has another sum, it passes over.
"""

import zlib

import numpy as np

from hypotaxis.core.midi.messages import EXCLUSIVE, EXCLUSIVE_END
from hypotaxis.core.units import BYTE_US

MAKER, ASKED, BLOCK = 0x7D, 0x10, 0x11
BLOCKS, BLOCK_BYTES = 8, 64
NEEDS_NS = 30_000_000
"""What a slow box does with a block before it can take the next."""
WHEN_ASKED, HURRIED, BY_PANEL = DUMPS = (
    "when asked",
    "when asked, and loses what comes too fast",
    "from its panel only",
)
BYTE_NS = BYTE_US * 1000


class Memory:
    """Of one box, for a run. content: hexadecimal digits, "" = as delivered."""

    def __init__(self, uid: str, model: int, *, dumps: str, content: str) -> None:
        self._model, self._dumps = model & 0x7F, dumps
        rng = np.random.default_rng(zlib.crc32(f"memory {uid}".encode()))
        delivered = bytes(rng.integers(0, 128, BLOCKS * BLOCK_BYTES).astype(np.uint8))
        self.content = bytearray(bytes.fromhex(content) if content else delivered)
        self.changed = False
        self._busy_until_ns = -1

    def sent(self) -> list[bytes]:
        """All of it, as it leaves."""
        return [self._block(number) for number in range(BLOCKS)]

    def hear(self, ends_ns: int, message: bytes) -> list[bytes]:
        """What it answers to a message whose last byte has come at this time."""
        head = message[:4]
        if head == bytes([EXCLUSIVE, MAKER, self._model, ASKED]) and len(message) == 5:
            return self.sent() if self._dumps != BY_PANEL else []
        if head == bytes([EXCLUSIVE, MAKER, self._model, BLOCK]):
            self._take(ends_ns, message)
        return []

    def _take(self, ends_ns: int, message: bytes) -> None:
        begins_ns = ends_ns - len(message) * BYTE_NS
        if self._dumps == HURRIED and begins_ns < self._busy_until_ns:
            return
        self._busy_until_ns = ends_ns + NEEDS_NS
        number = message[4] if len(message) > 4 else BLOCKS
        if number >= BLOCKS or message != self._framed(number, message[5:-2]) or len(message) != len(self._block(0)):
            return
        self.content[number * BLOCK_BYTES : (number + 1) * BLOCK_BYTES] = message[5:-2]
        self.changed = True

    def _block(self, number: int) -> bytes:
        return self._framed(number, bytes(self.content[number * BLOCK_BYTES : (number + 1) * BLOCK_BYTES]))

    def _framed(self, number: int, data: bytes) -> bytes:
        total = -(number + sum(data)) & 0x7F
        return bytes([EXCLUSIVE, MAKER, self._model, BLOCK, number, *data, total, EXCLUSIVE_END])
