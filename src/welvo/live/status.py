"""Status pages of devices over HTTP: what their ports put out, asked ten times a second while it is wanted.

Each device is asked by a task of its own, all of them in one thread with an event loop of its own, and each answer has
one limit for the whole of it: a page that drips, or a device that is slow, holds up neither the window nor the others.
"""

from __future__ import annotations

import contextlib
from typing import TYPE_CHECKING

from welvo.live.device_link import HttpLink
from welvo.live.device_link import open_session as settings_session
from welvo.live.links import LinkError, reason_of_error
from welvo.live.worker import Worker, WorkerFaults
from welvo.patience import patient, rest, steady
from welvo.protocols.status_page import StatusPage, decode_status_page
from welvo.protocols.wire import WireError

if TYPE_CHECKING:
    import asyncio

    from aiohttp import ClientSession

    from welvo.observed.values import DeviceAnswer

WHOLE_ANSWER = 0.5
"""Seconds that one request may take, from the connection to its last octet; more on a busy computer."""
MOST_A_SECOND = 100
"""Pages that are asked in a second at most, all together."""
SETTINGS_EVERY = 1.0
"""Seconds between two readings of one device's settings."""
SELDOM = 30.0
"""Seconds before a stranger that did not answer is asked again."""
MOST = 1 << 20
"""Octets of a status page at the most: reading it must not hold up the window either."""


async def _ask_status(session: ClientSession, ip: str, port: int) -> StatusPage:
    from aiohttp import ClientError

    try:
        async with patient(WHOLE_ANSWER), session.get(f"http://{ip}:{port}/status", allow_redirects=False) as answer:
            if answer.status != 200:
                raise LinkError(f"{ip} answers with error {answer.status}.")
            body = await answer.content.read(MOST + 1)
            while len(body) <= MOST and (more := await answer.content.read(MOST + 1 - len(body))):
                body += more
    except (OSError, ClientError, TimeoutError) as e:
        raise LinkError(f"{ip} does not show its status on port {port} ({reason_of_error(e)}).") from e
    try:
        return decode_status_page(body if len(body) <= MOST else b"")
    except WireError as e:
        raise LinkError(f"{ip} answers with something that is no status.") from e


def _open_session(interface: str = "") -> ClientSession:
    from aiohttp import ClientSession, ClientTimeout, TCPConnector  # heavy, and not needed before a page is there

    connector = TCPConnector(limit=0, local_addr=(interface, 0) if interface else None)
    return ClientSession(connector=connector, timeout=ClientTimeout(total=None))  # `_ask_status` has the limit


def read_status(ip: str, port: int) -> StatusPage:
    """One device's status page as JSON, now. Whatever is wrong with the answer is a LinkError in words."""

    import asyncio

    async def once() -> StatusPage:
        async with _open_session() as session:
            return await _ask_status(session, ip, port)

    return asyncio.run(once())


class StatusWatch:
    """Asks the pages in `wanted` (address, port) until it is told to stop; what they said stands in `found`, with
    when."""

    def __init__(self) -> None:
        self.wanted: tuple[tuple[str, int], ...] = ()
        self.asked: tuple[tuple[str, int, str], ...] = ()
        """Devices whose settings are read too: address, port, password."""
        self.strangers: frozenset[str] = frozenset()
        """Those of them that nobody planned: when they do not answer they are left alone for a while."""
        self.interface = ""
        """The address of the interface through which they are asked."""
        self.said: dict[str, DeviceAnswer] = {}
        self.silent: dict[str, str] = {}
        """Why settings of a device could not be read."""
        self.found: dict[str, tuple[float, StatusPage]] = {}
        self.failed: dict[str, str] = {}
        self.faults = WorkerFaults()
        self._worker = Worker("status pages", self._run_loop, self.faults)

    @property
    def seconds_between(self) -> float:
        """Seconds between two questions to one page: ten a second, of many devices less often."""
        return max(0.1, len(self.wanted) / MOST_A_SECOND)

    def start_watching(self) -> None:
        self._worker.start_thread()

    def _run_loop(self) -> None:
        while not self._worker.stopping.wait(0.1):
            if self.wanted or self.asked:
                import asyncio  # with no device to ask, it is not needed

                asyncio.run(self._watch_pages())

    async def _watch_pages(self) -> None:
        """A task for each page, for as long as it is wanted."""
        import asyncio

        tasks: dict[tuple[object, ...], asyncio.Task[None]] = {}
        interface = self.interface
        async with _open_session(interface) as session, settings_session(interface) as for_settings:
            while (self.wanted or self.asked) and interface == self.interface and not self._worker.stopping.is_set():
                for page in set(self.wanted) - tasks.keys():
                    tasks[page] = asyncio.create_task(self._watch_one_page(session, *page))
                for device in set(self.asked) - tasks.keys():
                    tasks[device] = asyncio.create_task(self._watch_settings(HttpLink(for_settings, *device)))
                for gone in tasks.keys() - set(self.wanted) - set(self.asked):
                    tasks.pop(gone).cancel()
                    for table in (self.said, self.silent) if len(gone) == 3 else (self.found, self.failed):
                        table.pop(str(gone[0]), None)
                for ended in [p for p, task in tasks.items() if task.done()]:
                    task = tasks.pop(ended)
                    error = None if task.cancelled() else task.exception()
                    if error:
                        self.faults.note_fault(f"the pages of {ended[0]}", error)
                await asyncio.sleep(0.1)
            for task in tasks.values():
                task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await asyncio.gather(*tasks.values(), return_exceptions=True)

    async def _watch_one_page(self, session: ClientSession, ip: str, port: int) -> None:
        while True:
            try:
                self.found[ip] = (steady(), await _ask_status(session, ip, port))
                self.failed.pop(ip, None)
            except LinkError as e:
                self.failed[ip] = str(e)
                self.found.pop(ip, None)
            await rest(self.seconds_between)

    async def _watch_settings(self, link: HttpLink) -> None:
        """Read one device's settings again and again; one that does not answer is asked less often."""
        while True:
            try:
                self.said[link.ip] = await link.read()
                self.silent.pop(link.ip, None)
                await rest(max(SETTINGS_EVERY, len(self.asked) / 50))
            except LinkError as e:
                self.silent[link.ip] = str(e)
                await rest(SELDOM if link.ip in self.strangers else 2 * SETTINGS_EVERY)

    def stop_watching(self) -> None:
        self._worker.stop_thread()
