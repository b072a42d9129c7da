"""Looking further than replies to a poll: DDP queries, and pages of every address of the interface's own network.

Only on request, since it knocks at every door. A network too large to be walked through is looked at around this
computer's own address, and where new devices of known models are.
"""

from __future__ import annotations

import contextlib
import ipaddress
import socket
import time
from collections.abc import Iterable

import msgspec

from welvo.live.device_link import HttpLink, open_session
from welvo.live.interfaces import Interface
from welvo.live.links import LinkError, read_page
from welvo.observed.values import DeviceAnswer
from welvo.patience import steady
from welvo.protocols import ddp
from welvo.protocols.wire import WireError

MOST = 1022
"""Addresses that are asked at most: a network of four times 256."""
AT_ONCE = 64
KNOCK = 0.4
"""Seconds for a connection: whoever is in the same building answers within a few milliseconds."""


def addresses_to_ask(interface: Interface, also: Iterable[str] = ()) -> list[str]:
    """Which addresses are asked: all of the interface's network, or those around its own; and further ones in it."""
    network = ipaddress.IPv4Network(f"{interface.ip}/{interface.mask}", strict=False)
    near = network if network.num_addresses - 2 <= MOST else ipaddress.IPv4Network(f"{interface.ip}/24", strict=False)
    found = dict.fromkeys(str(a) for a in near.hosts())
    found |= dict.fromkeys(a for a in also if a and ipaddress.IPv4Address(a) in network)
    found.pop(interface.ip, None)
    return list(found)[: MOST + 256]


async def find_pages(interface: Interface, ports: Iterable[int], also: Iterable[str] = ()) -> dict[str, DeviceAnswer]:
    """Every device that speaks the settings protocol at one of the ports, by address."""
    import asyncio

    found: dict[str, DeviceAnswer] = {}
    doors = asyncio.Semaphore(AT_ONCE)
    async with open_session(interface.ip) as opened:

        async def knock(ip: str, port: int) -> None:
            async with doors:
                try:
                    local = (interface.ip, 0)
                    _, writer = await asyncio.wait_for(asyncio.open_connection(ip, port, local_addr=local), KNOCK)
                except (OSError, TimeoutError):
                    return
                writer.close()
                with contextlib.suppress(LinkError):
                    found[ip] = await HttpLink(opened, ip, port).read()

        await asyncio.gather(
            *(knock(ip, port) for ip in addresses_to_ask(interface, also) for port in dict.fromkeys(ports))
        )
    return found


class _Status(msgspec.Struct):
    man: str = ""
    mod: str = ""
    ver: str = ""
    mac: str = ""


class _StatusReply(msgspec.Struct):
    status: _Status


async def find_displays(
    interface: Interface, also: Iterable[str] = (), seconds: float = 1.0
) -> dict[str, DeviceAnswer]:
    """Every device that answers a DDP status query, by address: asked by broadcast, and at further addresses."""
    import asyncio

    found: dict[str, DeviceAnswer] = {}
    loop = asyncio.get_running_loop()
    with contextlib.closing(socket.socket(socket.AF_INET, socket.SOCK_DGRAM)) as sock:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        sock.setblocking(False)
        sock.bind((interface.ip, 0))
        query = ddp.encode_ddp(ddp.Packet(destination=ddp.STATUS, flags=ddp.QUERY))
        for to in dict.fromkeys((interface.broadcast_address, *also)):
            with contextlib.suppress(OSError):
                sock.sendto(query, (to, ddp.PORT))
        end = time.monotonic() + seconds
        while (left := end - time.monotonic()) > 0 and len(found) < 4096:
            try:
                raw, sender = await asyncio.wait_for(loop.sock_recvfrom(sock, 4096), left)
            except (TimeoutError, OSError):
                break
            with contextlib.suppress(WireError, ValueError, RecursionError):  # whatever else came is no status
                packet = ddp.decode_ddp(raw)
                if packet.flags & ddp.REPLY and packet.destination == ddp.STATUS:
                    s = msgspec.convert(read_page(packet.data), _StatusReply).status
                    found[sender[0]] = DeviceAnswer(
                        steady(), name=s.mod, maker=s.man, model=s.mod, mac=s.mac, firmware=s.ver
                    )
    return found


async def look_further(interface: Interface, ports: Iterable[int], also: Iterable[str] = ()) -> dict[str, DeviceAnswer]:
    """Both; what a page says counts for more than a display's few words."""
    import asyncio

    also = list(also)
    shown, told = await asyncio.gather(find_displays(interface, also), find_pages(interface, ports, also))
    return {**shown, **told}
