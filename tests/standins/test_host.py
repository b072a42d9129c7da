"""The stand-ins' own server: who went away is forgotten, and it ends at once."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Iterator

import pytest

from tests.standins.test_pixel import penstock
from welvo.standins import host
from welvo.standins.host import Host

QUESTION = b"GET /status HTTP/1.1\r\nHost: x\r\n\r\n"


@pytest.fixture
def quick(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setattr(host, "KEPT", 0.3)
    monkeypatch.setattr(host, "ASKS_WITHIN", 0.5)
    yield


async def ask(ip: str, port: int) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
    """A connection that was answered once, and from then on says nothing."""
    reader, writer = await asyncio.open_connection(ip, port)
    writer.write(QUESTION)
    assert (await reader.readline()).startswith(b"HTTP/1.1 200")
    return reader, writer


def test_connections_of_those_who_say_no_more_are_closed_and_the_end_comes_at_once(quick: None) -> None:
    async def run() -> None:
        device, _ = penstock()
        device.ip = "127.0.0.93"
        served = Host([device], [])
        await served.start_hosting()
        mine = await asyncio.gather(*(ask(device.ip, device.model.status_port) for _ in range(40)))
        async with asyncio.timeout(30):
            await asyncio.gather(*(reader.read() for reader, _ in mine))  # until it is closed at the far end
        late = await asyncio.open_connection(device.ip, device.model.status_port)
        late[1].write(QUESTION[:20])  # in the middle of a question
        begun = time.monotonic()
        await served.stop_hosting()
        assert time.monotonic() - begun < 5
        for _, writer in [*mine, late]:
            writer.close()

    asyncio.run(run())


def test_who_never_ends_a_question_is_let_go_and_who_asks_is_answered(quick: None) -> None:
    """Those who only connect, stop in the middle or drip octet by octet kept their descriptors for good."""

    async def drip(writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError):
            while True:
                writer.write(b"x")
                await writer.drain()
                await asyncio.sleep(0.05)

    async def run() -> None:
        device, _ = penstock()
        device.ip = "127.0.0.93"
        served = Host([device], [])
        await served.start_hosting()
        port = device.model.status_port
        try:
            some = [await asyncio.open_connection(device.ip, port) for _ in range(30)]
            for _, writer in some[:10]:
                writer.write(QUESTION[:25])
            dripping = asyncio.create_task(drip(some[-1][1]))
            async with asyncio.timeout(30):
                for reader, _ in some:
                    with contextlib.suppress(ConnectionError):
                        await reader.read()  # until the far end closes it; a 400 may have come before
            dripping.cancel()
            reader, writer = await ask(device.ip, port)
            writer.close()
            for _, writer in some:
                writer.close()
        finally:
            await served.stop_hosting()

    asyncio.run(run())
