"""Packets that nobody sent: noise, damage of good ones, lies about lengths. Decoders and listener take them all."""

from __future__ import annotations

import random
from collections.abc import Callable

from welvo.live.interfaces import Interface
from welvo.live.listener import Listener
from welvo.protocols import artnet, ddp, sacn
from welvo.protocols.wire import WireError

CID = bytes(range(1, 17))
GOOD: tuple[tuple[Callable[[bytes], object], bytes], ...] = (
    (sacn.decode_sacn, sacn.encode_sacn(sacn.Data(CID, 3, bytes(64), "desk", sync=7000))),
    (sacn.decode_sacn, sacn.encode_sacn(sacn.SyncPacket(CID, 8000, 5))),
    (sacn.decode_sacn, sacn.encode_sacn(sacn.Discovery(CID, "desk", tuple(range(1, 40))))),
    (artnet.decode_artnet, artnet.encode_artnet(artnet.Dmx(5, bytes(64), 3))),
    (artnet.decode_artnet, artnet.encode_artnet(artnet.Poll())),
    (
        artnet.decode_artnet,
        artnet.encode_artnet(artnet.PollReply((127, 0, 0, 9), "BOX", port_types=(0x80,) * 4, sw_out=(1, 2))),
    ),
    (artnet.decode_artnet, artnet.encode_artnet(artnet.Address(2, 0x81, 0x82))),
    (ddp.decode_ddp, ddp.encode_ddp(ddp.Packet(bytes(64), 300, True, 4, timecode=77))),
)


def packet(chance: random.Random) -> tuple[Callable[[bytes], object], bytes]:
    decode, raw = GOOD[chance.randrange(len(GOOD))]
    kind = chance.randrange(10)
    if kind == 0:
        return decode, chance.randbytes(chance.randrange(200))
    if kind == 1:
        return decode, raw[: chance.randrange(20)] + chance.randbytes(chance.randrange(180))
    hurt = bytearray(raw)
    for _ in range(chance.choice((1, 1, 2, 3, 8))):
        at = chance.randrange(len(hurt))
        hurt[at] = hurt[at] ^ 1 << chance.randrange(8) if kind < 7 else chance.randrange(256)
    return decode, bytes(hurt[: chance.randrange(len(hurt))] if kind == 9 else hurt)


def knock(seed: int | str, count: int, go_on: Callable[[], bool]) -> tuple[int, str]:
    """How many packets were taken, and what broke; empty when nothing did."""
    chance = random.Random(seed)
    listener = Listener(Interface("lo", "127.0.0.78", "255.0.0.0"), poll=False, quiet=True)
    n = 0
    try:
        for n in range(1, count + 1):
            decode, raw = packet(chance)
            try:
                decode(raw)
            except WireError:
                pass
            except Exception as e:
                return n, f"{decode.__module__} raised {e!r} for {raw.hex()}"
            listener.take_datagram(raw, f"127.0.{n >> 8 & 3}.{n & 255}", 1000.0 + n * 1e-4)
            if listener.faults.count:
                return n, listener.faults.take_faults()[0].trace
            if n % 4096 == 0:
                listener.heard_sources(1000.0 + n * 1e-4)
                listener.heard_devices()
                if not go_on():
                    break
    finally:
        listener.close()
    return n, ""
