"""Status pages of devices over HTTP: what their ports put out, asked ten times a second while it is wanted.

All devices are asked at the same time in one thread with an event loop of its own, and each answer has one limit for
the whole of it: a page that drips, or a device that is attached, holds up neither the window nor the other devices.
"""

from __future__ import annotations

import asyncio
import json
import threading
import time
from typing import TYPE_CHECKING, Any

from welvo.live.links import LinkError

if TYPE_CHECKING:
    from aiohttp import ClientSession

WHOLE_ANSWER = 0.5
"""Seconds that one request may take, from the connection to its last octet."""
MOST = 4 << 20
"""Octets of a status page at the most."""


async def _ask(session: ClientSession, ip: str, port: int) -> dict[str, Any]:
    from aiohttp import ClientError

    try:
        async with session.get(f"http://{ip}:{port}/status") as answer:
            if answer.status != 200:
                raise LinkError(f"{ip} answers with error {answer.status}.")
            body = await answer.content.read(MOST + 1)
            while len(body) <= MOST and (more := await answer.content.read(MOST + 1 - len(body))):
                body += more
    except (OSError, ClientError, TimeoutError) as e:
        raise LinkError(f"{ip} does not show its status on port {port} ({str(e) or 'it takes too long'}).") from e
    try:
        found = json.loads(body) if len(body) <= MOST else None
    except (ValueError, RecursionError) as e:
        raise LinkError(f"{ip} answers with something that is no status.") from e
    if not isinstance(found, dict) or not isinstance(found.get("ports"), list):
        raise LinkError(f"{ip} answers with something that is no status.")
    return found


def _session() -> ClientSession:
    from aiohttp import ClientSession, ClientTimeout  # heavy, and not needed before a device with a page was heard

    return ClientSession(timeout=ClientTimeout(total=WHOLE_ANSWER))


def read_status(ip: str, port: int) -> dict[str, Any]:
    """One device's status page as JSON, now. Whatever is wrong with the answer is a LinkError in words."""

    async def once() -> dict[str, Any]:
        async with _session() as session:
            return await _ask(session, ip, port)

    return asyncio.run(once())


class StatusWatch(threading.Thread):
    """Asks the pages in `wanted` (address, port) until it is told to stop; what they said stands in `found`, with
    when."""

    def __init__(self) -> None:
        super().__init__(name="status-watch", daemon=True)
        self.wanted: tuple[tuple[str, int], ...] = ()
        self.found: dict[str, tuple[float, dict[str, Any]]] = {}
        self.failed: dict[str, str] = {}
        self.done = threading.Event()

    def run(self) -> None:
        while not self.done.wait(0.1):
            if self.wanted:
                asyncio.run(self._watch())

    async def _watch(self) -> None:
        async with _session() as session:
            while self.wanted and not self.done.is_set():
                await asyncio.gather(*(self._one(session, ip, port) for ip, port in self.wanted))
                await asyncio.sleep(0.1)

    async def _one(self, session: ClientSession, ip: str, port: int) -> None:
        try:
            self.found[ip] = (time.time(), await _ask(session, ip, port))
            self.failed.pop(ip, None)
        except LinkError as e:
            self.failed[ip] = str(e)
            self.found.pop(ip, None)

    def stop(self) -> None:
        self.done.set()
        if self.is_alive():
            self.join(2.0)
