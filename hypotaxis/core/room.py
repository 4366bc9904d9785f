"""Who of the room may come in, and what may they do? A passphrase, tries that are limited, devices that can be ended.

Times are seconds of a clock that only goes forward. Keys of devices are kept as their digests.
"""

import hashlib
import hmac
import re
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

from hypotaxis.core.errors import NotLetIn

TRIES, TRIES_OF_ALL, WITHIN_S = 5, 40, 600.0
"""Wrong passphrases that an address, and all addresses together, may send within so long (common practice)."""
LASTS_S = 12 * 3600.0
"""So long a device may stay in."""
MOST_DEVICES = 12
LONGEST_NAME = 40
WORDS = 6
PLAYS = frozenset({"stand:home", "stand:state", "stand:act", "stand:choice", "room:enter", "room:leave", "panic"})
"""Addresses (by name) that play and record, and change neither rig nor files."""
OWNERS = frozenset({"room", "admin"})
"""Namespaces that stay the owner's, whatever is allowed."""


@dataclass
class Device:
    """A device that was let in. name: as its owner calls it; address: where it was let in from; since, seen: times."""

    uid: str
    name: str
    address: str
    since: float
    seen: float


def may(name: str, *, everything: bool) -> bool:
    """Whether a device of the room may open an address (its name, with its namespace).

    >>> may("stand:act", everything=False), may("rig:home", everything=False), may("rig:home", everything=True)
    (True, False, True)
    >>> may("room:home", everything=True)
    False
    """
    return name in PLAYS or (everything and name.partition(":")[0] not in OWNERS)


def plain_words(text: str) -> str:
    """A passphrase as it is compared: small letters, one space between words.

    >>> plain_words("  Tidal-Reed  MARSH ")
    'tidal reed marsh'
    """
    return " ".join(re.findall(r"[a-z]+", text.casefold()))


class Room:
    """One opening: from when it is opened until it is closed nothing of it is stored."""

    def __init__(self, words: str, *, clock: Callable[[], float] = time.monotonic) -> None:
        self.words = plain_words(words)
        self._clock, self._lock = clock, threading.Lock()
        self._devices: dict[str, Device] = {}
        self._wrong: list[tuple[float, str]] = []

    @property
    def devices(self) -> list[Device]:
        """Those that are in, the newest last."""
        with self._lock:
            self._forget()
            return list(self._devices.values())

    def enter(self, words: str, *, name: str, address: str) -> str:
        """Let a device in; its key, which only it keeps. Raises NotLetIn."""
        with self._lock:
            self._forget()
            now = self._clock()
            self._wrong = [one for one in self._wrong if now - one[0] < WITHIN_S]
            mine = [at for at, where in self._wrong if where == address]
            for tried, most in ((mine, TRIES), ([at for at, _ in self._wrong], TRIES_OF_ALL)):
                if len(tried) >= most:
                    minutes = max(1, -int(-(WITHIN_S - (now - tried[-most])) // 60))
                    raise NotLetIn(
                        f"The passphrase was wrong {len(tried)} times. It can be tried again in {minutes} "
                        f"minute{'' if minutes == 1 else 's'}; a right one is not looked at before."
                    )
            if not hmac.compare_digest(plain_words(words).encode(), self.words.encode()):
                self._wrong.append((now, address))
                left = TRIES - len(mine) - 1
                told = f"{left} more {'try' if left == 1 else 'tries'}" if left else "no more tries for ten minutes"
                raise NotLetIn(
                    f"That is not the passphrase of this opening: six words, as the owner's screen shows them; {told}."
                )
            if len(self._devices) >= MOST_DEVICES:
                raise NotLetIn(f"{MOST_DEVICES} devices are in already. The owner can end one of them.")
            key = secrets.token_urlsafe(32)
            called = " ".join(name.split())[:LONGEST_NAME] or "a device"
            self._devices[_digest(key)] = Device(secrets.token_hex(8), called, address, now, now)
            return key

    def device(self, key: str) -> Device | None:
        """The device of a key, seen now; None where there is none any more."""
        with self._lock:
            self._forget()
            found = self._devices.get(_digest(key))
            if found:
                found.seen = self._clock()
            return found

    def end(self, uid: str) -> None:
        """Let a device in no longer."""
        with self._lock:
            self._devices = {key: one for key, one in self._devices.items() if one.uid != uid}

    def ago_s(self, at: float) -> float:
        """How long ago a time of its clock is."""
        return max(0.0, self._clock() - at)

    def _forget(self) -> None:
        now = self._clock()
        self._devices = {key: one for key, one in self._devices.items() if now - one.since < LASTS_S}


def _digest(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()
