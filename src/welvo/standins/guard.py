"""Closes connections to a stand-in's page on which no whole question comes.

The web server lets a client take as long as it likes for its first question: a thousand that only connect, or drip,
would keep a thousand descriptors. A connection is let go when nothing was answered on it within some seconds after it
began, or after the last answer.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Awaitable, Callable
from typing import Any

from aiohttp import web
from aiohttp.http_exceptions import HttpProcessingError

Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


def quiet_logger() -> logging.Logger:
    """A log in which only faults of our own stand: what is no HTTP is answered with 400, and is nobody's news."""
    found = logging.getLogger("welvo.standins.pages")
    found.addFilter(_is_ours)
    return found


def _is_ours(record: logging.LogRecord) -> bool:
    return not (record.exc_info and isinstance(record.exc_info[1], HttpProcessingError))


class Guard(asyncio.Protocol):
    """Stands between a connection and the protocol that serves it."""

    def __init__(self, inner: Any, seconds: float, open_: dict[Any, Guard]) -> None:
        self._inner, self._seconds, self._open = inner, seconds, open_
        self._transport: asyncio.BaseTransport | None = None
        self._timer: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport
        self._open[transport] = self
        self.wait_for_question()
        self._inner.connection_made(transport)

    def wait_for_question(self) -> None:
        """Begin to wait for the next question."""
        self.begin_answer()
        if self._transport:
            self._timer = asyncio.get_running_loop().call_later(self._seconds, self._transport.close)

    def begin_answer(self) -> None:
        """A question is being answered, which may take its time."""
        if self._timer:
            self._timer.cancel()

    def data_received(self, data: bytes) -> None:
        self._inner.data_received(data)

    def eof_received(self) -> Any:
        return self._inner.eof_received()

    def pause_writing(self) -> None:
        self._inner.pause_writing()

    def resume_writing(self) -> None:
        self._inner.resume_writing()

    def connection_lost(self, exc: Exception | None) -> None:
        self.begin_answer()
        self._open.pop(self._transport, None)
        self._inner.connection_lost(exc)


class Door:
    """Guards every connection of one application; `middleware` goes into it, `guard_protocol` makes a connection's."""

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._open: dict[Any, Guard] = {}

    def guard_protocol(self, server: web.Server) -> Callable[[], Guard]:
        return lambda: Guard(server(), self._seconds, self._open)

    @property
    def middleware(self) -> Any:
        @web.middleware
        async def timed(request: web.Request, handler: Handler) -> web.StreamResponse:
            guard = self._open.get(request.transport)
            if guard:
                guard.begin_answer()
            try:
                return await handler(request)
            finally:
                if guard:
                    guard.wait_for_question()

        return timed
