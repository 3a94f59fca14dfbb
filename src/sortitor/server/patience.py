"""Connections that say nothing are ended: nobody holds one open without asking for something."""

from __future__ import annotations

import asyncio
from typing import Any

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

#: How long the first line and the headers of a request may take.
HEADER_SECONDS = 15.0
#: How long a connection stays open between two requests: longer than most clients and proxies keep
#: one for the next, or a request meets a connection that is being closed.
KEEP_ALIVE_SECONDS = 75


class PatientHttp(HttpToolsProtocol):
    """HTTP/1.1 by httptools, with a time limit for the headers of every request. (Between two
    requests uvicorn has its own.)
    """

    _waiting: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        """Somebody connects, and has to say what for."""
        super().connection_made(transport)
        self._await_headers()

    def on_message_begin(self) -> None:
        """The first bytes of a request are there; its headers follow."""
        super().on_message_begin()
        self._await_headers()

    def on_headers_complete(self) -> None:
        """The request is known; bodies have limits of their own."""
        self._stop_waiting()
        super().on_headers_complete()

    def connection_lost(self, exc: Exception | None) -> None:
        """The connection has ended."""
        self._stop_waiting()
        super().connection_lost(exc)

    def _await_headers(self) -> None:
        self._stop_waiting()
        self._waiting = self.loop.call_later(HEADER_SECONDS, self._give_up)

    def _stop_waiting(self) -> None:
        if self._waiting is not None:
            self._waiting.cancel()
            self._waiting = None

    def _give_up(self) -> None:
        self.transport.close()
