"""The listening socket: who may hold a connection, and how much a stranger may send.

A *stranger* is a connection whose last request did not bear the passphrase (where there is none,
one that has not sent its first request yet). A stranger's request has a body of `STRANGER_BYTES`
at most, is there within `STRANGER_S`, and its connection is the first to go when there are too many.
"""

import time
from collections.abc import Callable, Mapping
from copy import copy
from typing import Any

from waitress import wasyncore
from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import TcpWSGIServer
from waitress.task import ThreadedTaskDispatcher

STRANGER_BYTES = 10_000
STRANGER_S = 10.0
LOOK_EVERY_S = 1
CONNECTIONS = 240
"""Open sockets, the listening one and its trigger included."""

LARGEST_BODY = 16 << 30
IDLE_S = 600

IsKnown = Callable[[Mapping[str, str]], bool]
"""Whether a request with these headers (names in capitals with underscores) bears the passphrase."""


class _Request(HTTPRequestParser):
    """A request that is held to a stranger's bounds unless its headers bear the passphrase."""

    def __init__(self, adjustments: Adjustments, is_known: IsKnown) -> None:
        super().__init__(adjustments)
        self._is_known = is_known
        self.began = time.monotonic()
        self.is_known = False

    def parse_header(self, header_plus: bytes) -> None:
        super().parse_header(header_plus)
        self.is_known = self._is_known(self.headers)
        if not self.is_known:
            bounds = copy(self.adj)
            bounds.max_request_body_size = STRANGER_BYTES
            self.adj: Adjustments = bounds


class _Channel(HTTPChannel):
    """A connection."""

    server: "Listener"
    is_known = False

    def parser_class(self, adjustments: Adjustments) -> _Request:
        return _Request(adjustments, self.server.is_known)

    def received(self, data: bytes) -> bool:
        taken: bool = super().received(data)
        for request in (*self.requests, self.request):
            if request is not None and request.headers_finished:
                self.is_known = request.is_known
        return taken

    @property
    def is_quiet(self) -> bool:
        """Whether nothing is being worked on or sent."""
        return not self.requests and not self.total_outbufs_len

    def is_late(self, now: float) -> bool:
        """Whether a stranger has taken too long over a request, or has none."""
        if self.is_known:
            return False
        if self.request is not None:
            return bool(now - self.request.began > STRANGER_S)
        return time.time() - self.last_activity > STRANGER_S


class Listener(TcpWSGIServer):
    """One listening socket; drops the connections of strangers that are late or too many."""

    channel_class = _Channel
    is_known: IsKnown

    def readable(self) -> bool:
        # Channels close themselves in their turn: a descriptor that is free while events are being
        # gathered would be a new connection's when they are handed out.
        now = time.monotonic()
        quiet = [c for c in self._map.values() if isinstance(c, _Channel) and c.is_quiet]
        idle = []
        for channel in quiet:
            if channel.is_late(now):
                channel.will_close = True
            else:
                idle.append(channel)
        too_many = len(self._map) - (len(quiet) - len(idle)) - (CONNECTIONS - 1)
        if too_many > 0:
            # The one that has been idle longest first; who has said the passphrase last.
            idle.sort(key=lambda c: (c.is_known, c.last_activity))
            for channel in idle[:too_many]:
                channel.will_close = True
        return bool(super().readable())


def listen(
    application: Callable[..., Any], host: str, port: int, threads: int, is_known: IsKnown
) -> None:
    """Answer requests until stopped, on every address that the host has here."""
    adjustments = Adjustments(
        host=host,
        port=port,
        threads=threads,
        ident=None,
        max_request_body_size=LARGEST_BODY,
        channel_timeout=IDLE_S,
        cleanup_interval=30,
        connection_limit=CONNECTIONS,
        asyncore_loop_timeout=LOOK_EVERY_S,
        asyncore_use_poll=True,
        # Reading on while a request is worked on is how it learns that who asked has gone.
        channel_request_lookahead=1,
    )
    dispatcher = ThreadedTaskDispatcher()
    dispatcher.set_thread_count(adjustments.threads)
    sockets: dict[int, Any] = {}
    for address in adjustments.listen:
        listener = Listener(
            application, sockets, dispatcher=dispatcher, adj=adjustments, sockinfo=address
        )
        listener.is_known = is_known
    try:
        wasyncore.loop(timeout=LOOK_EVERY_S, map=sockets, use_poll=True)
    except (SystemExit, KeyboardInterrupt):
        dispatcher.shutdown()
