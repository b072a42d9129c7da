"""Pages of devices that nobody wrote, for our client; and clients that nobody wrote, for the pages of the stand-ins."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import random
import socket
import threading
from collections.abc import Iterator

from tests.fuzz.files import mutated
from tests.standins.test_pixel import penstock
from welvo.live.device_link import read_settings
from welvo.live.links import LinkError
from welvo.live.status import read_status
from welvo.patience import patient
from welvo.standins.host import Host

DEVICE, PORT = "127.0.0.95", 8495
PAGE = {"ports": [{"label": "1", "levels": [1, 2, 3], "octets": "00ff", "protocol": "sacn", "wire": 3}], "name": "x",
        "settings": {"ip": "127.0.0.95", "1.universe": 3}, "firmware": "1.2", "mac": "02:00:00:00:00:01"}  # fmt: skip


def answer(c: random.Random) -> bytes:
    """What a device says to a question: good, mutated, damaged, lying about its length, or no HTTP at all."""
    body = json.dumps(mutated(c, PAGE)).encode() if c.random() < 0.7 else c.randbytes(c.choice((0, 5, 400)))
    if c.random() < 0.1:
        body = b"[" * 100_000
    if c.random() < 0.1:
        return c.randbytes(c.choice((0, 1, 300)))
    status = c.choice((b"200 OK", b"200 OK", b"404 No", b"302 Found", b"401 No", b"500 Oh", b"999 ?", b"x", b"100 C"))
    length = c.choice((len(body), len(body), len(body) + 5, max(0, len(body) - 3), -1, 10**12))
    heads = [b"Content-Length: %d" % length]
    if c.random() < 0.2:
        heads = [b"Transfer-Encoding: chunked"]
        body = c.choice((b"%x\r\n%s\r\n0\r\n\r\n" % (len(body), body), b"zz\r\n" + body, b"ffffffffff\r\n" + body))
    heads += c.choice(
        ([], [b"Location: http://127.0.0.96:80/"], [b"Content-Encoding: gzip"], [b"X: " + b"y" * 9000], [b": "],
         [b"Content-Type: application/json; charset=" + c.choice((b"utf-7", b"nonsense"))], [b"Set-Cookie: a=b"])
    )  # fmt: skip
    return b"HTTP/1.1 " + status + b"\r\n" + b"\r\n".join(heads) + b"\r\n\r\n" + body


@contextlib.contextmanager
def device(said: bytes) -> Iterator[None]:
    """A device that says the same to everybody, and closes."""
    server = socket.create_server((DEVICE, PORT))
    server.settimeout(0.05)
    stop = threading.Event()

    def serve() -> None:
        while not stop.is_set():
            try:
                peer, _ = server.accept()
            except OSError:
                continue
            with peer, contextlib.suppress(OSError):
                peer.settimeout(2.0)
                peer.recv(4000)
                peer.sendall(said)

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    try:
        yield
    finally:
        stop.set()
        thread.join()
        server.close()


def ask(seed: str) -> tuple[int, str]:
    """Ask one hostile device for its status and its settings."""
    c = random.Random(seed)
    said = answer(c)
    with device(said):
        for read in (lambda: read_status(DEVICE, PORT), lambda: asyncio.run(read_settings(DEVICE, PORT))):
            try:
                read()
            except LinkError as e:
                if len(str(e)) > 600:
                    return 1, f"a refusal that nobody reads: {str(e)[:300]!r}"
    return 1, ""


QUESTION = b"GET /status HTTP/1.1\r\nHost: x\r\n\r\n"


def question(c: random.Random) -> bytes:
    path = c.choice((b"/", b"/status", b"/api/settings", b"/" + b"a" * 9000, b"/..%2f", b"http://x/", b"*", b"\xff"))
    method = c.choice((b"GET", b"PUT", b"POST", b"DELETE", b"G" * 100, b""))
    body = json.dumps(mutated(c, PAGE)).encode() if c.random() < 0.6 else c.randbytes(c.choice((0, 3, 3000)))
    length = c.choice((len(body), len(body) + 9, -5, 10**15))
    return method + b" " + path + b" HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n" % length + body


async def _knock(c: random.Random) -> str:
    made, _ = penstock()
    made.ip = "127.0.0.97"
    served = Host([made], [])
    await served.start_hosting()
    port = made.model.status_port
    before = len(os.listdir("/proc/self/fd"))
    try:
        for _ in range(40):
            with contextlib.suppress(OSError):
                reader, writer = await asyncio.open_connection(made.ip, port)
                writer.write(question(c))
                if c.random() < 0.5:
                    with contextlib.suppress(TimeoutError):
                        async with asyncio.timeout(0.2):
                            await reader.read(4000)
                writer.close()
        async with patient(10.0):
            reader, writer = await asyncio.open_connection(made.ip, port)
            writer.write(QUESTION)
            first = await reader.readline()
            writer.close()
        if not first.startswith(b"HTTP/1.1 200"):
            return f"a good question is answered by {first!r}"
        await asyncio.sleep(0.2)
        left = len(os.listdir("/proc/self/fd")) - before
        return f"{left} descriptors are left" if left > 60 else ""
    except TimeoutError:
        return "a good question is not answered any more"
    finally:
        await served.stop_hosting()


def serve(seed: str) -> tuple[int, str]:
    """Forty hostile clients, then a good one."""
    return 40, asyncio.run(_knock(random.Random(seed)))
