"""The second place where the application listens: an address of the room's network, beside loopback, while it is open.

It is a server of its own with threads of its own, so that what comes from the room never keeps the owner waiting; what
it hands on is marked, and the gate asks for that mark.
"""

import ipaddress
import secrets
import threading
from urllib.parse import urlsplit

import ifaddr
from django.conf import settings
from waitress import create_server
from xkcdpass import xkcd_password

from hypotaxis.core.errors import RoomTrouble
from hypotaxis.core.room import WORDS, Room

MARK = "hypotaxis.room"
THREADS, MOST_CONNECTIONS, IDLE_S = 4, 60, 20
MOST_BYTES = 2 * 1024 * 1024
"""Of a request from the room; where everything is allowed as much as from the owner."""


class Door:
    """Open or closed; there is one in a program."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._server = None
        self._address = ""
        """That is listened on."""
        self._thread: threading.Thread | None = None
        self.room: Room | None = None
        """Who is in; None while it is closed."""
        self.host = ""
        """As a browser of the room names it: address and port, or the proxy's host."""
        self.url = ""
        self.everything = False
        """Whether the room may change rig and files, too."""

    def open(self, address: str, port: int, application, *, everything: bool = False) -> None:
        """Listen there, with a new passphrase. address: one of `addresses`, or the proxy's. Raises RoomTrouble."""
        with self._lock:
            self._close()
            by_proxy = bool(settings.PROXY) and address == settings.PROXY
            if by_proxy:
                self.url, self.host = settings.PROXY, urlsplit(settings.PROXY).netloc
            elif address in addresses():
                self._listen(address, port, application, everything=everything)
                self.host = address if port == 80 else f"{address}:{port}"
                self.url = f"http://{self.host}"
                self._address = address
                settings.ALLOWED_HOSTS.append(address)
            else:
                raise RoomTrouble("This computer has no such address any more. Choose one of those that are shown.")
            self.everything, self.room = everything, Room(passphrase())

    def close(self) -> None:
        """Listen there no longer, and let nobody in."""
        with self._lock:
            self._close()

    def _close(self) -> None:
        if self._address in settings.ALLOWED_HOSTS:
            settings.ALLOWED_HOSTS.remove(self._address)
        self._address = ""
        server, self._server = self._server, None
        self.room, self.host, self.url, self.everything = None, "", "", False
        if server:
            sockets = server._map
            server.trigger.pull_trigger(lambda: [one.close() for one in list(sockets.values())])
            self._thread.join(timeout=5)
            server.task_dispatcher.shutdown(cancel_pending=True, timeout=1)

    def _listen(self, address: str, port: int, application, *, everything: bool) -> None:
        def from_room(environ, start_response):
            environ[MARK] = True
            return application(environ, start_response)

        try:
            self._server = create_server(
                from_room,
                map={},
                host=address,
                port=port,
                threads=THREADS,
                connection_limit=MOST_CONNECTIONS,
                channel_timeout=IDLE_S,
                cleanup_interval=5,
                max_request_body_size=settings.MAX_REQUEST_BYTES if everything else MOST_BYTES,
                ident="Hypotaxis",
            )
        except OSError as error:
            raise RoomTrouble(
                f"{address} cannot be listened on at port {port} ({error.strerror}). Another program may use it: start "
                "Hypotaxis with another PORT, or choose another address."
            ) from error
        self._thread = threading.Thread(target=self._server.run, daemon=True)
        self._thread.start()


door = Door()


def addresses() -> list[str]:
    """The computer's own addresses in networks of rooms: private ones, no loopback."""
    found = []
    for adapter in ifaddr.get_adapters():
        for ip in adapter.ips:
            one = ipaddress.ip_address(ip.ip if ip.is_IPv4 else ip.ip[0])
            if ip.is_IPv4 and one.is_private and not (one.is_loopback or one.is_link_local):
                found.append(str(one))
    return list(dict.fromkeys(found))


def passphrase() -> str:
    """Six plain words, drawn anew."""
    words = xkcd_password.generate_wordlist(wordfile="eff-long", min_length=4, max_length=7, valid_chars="[a-z]")
    return " ".join(secrets.choice(words) for _ in range(WORDS))
