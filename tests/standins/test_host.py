"""The stand-ins' own server: who went away is forgotten, and it ends at once."""

from __future__ import annotations

import asyncio
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
        await served.start()
        mine = await asyncio.gather(*(ask(device.ip, device.model.status_port) for _ in range(40)))
        async with asyncio.timeout(30):
            await asyncio.gather(*(reader.read() for reader, _ in mine))  # until it is closed at the far end
        late = await asyncio.open_connection(device.ip, device.model.status_port)
        late[1].write(QUESTION[:20])  # in the middle of a question
        begun = time.monotonic()
        await served.stop()
        assert time.monotonic() - begun < 5
        for _, writer in [*mine, late]:
            writer.close()

    asyncio.run(run())
