"""Lamps that nobody built: gateways whose tables and answers are mutated by chance, and lines full of noise.

Every search and every reading ends, within what it may take, in lamps that can be, or in a refusal.
"""

from __future__ import annotations

import asyncio
import contextlib
import random
import time
from typing import Any

from tests.live.test_rdm_link import Wire
from tests.live.test_rdm_serial import Cable
from welvo.formats.models import shipped_models
from welvo.live import rdm_link
from welvo.live.links import LinkError
from welvo.live.rdm_link import Gateways, find_responders
from welvo.live.rdm_serial import SerialRdm
from welvo.patience import PatienceLimit
from welvo.protocols import artnet, rdm
from welvo.protocols.wire import WireError
from welvo.rig.base import Refused
from welvo.standins.lamps import LampPort, Responder
from welvo.standins.node import Node

SECONDS = 30.0


def _lamps(c: random.Random) -> list[Responder]:
    uids = c.sample(range(1, rdm.HIGHEST_UID), c.randrange(6))
    return [Responder(u, c.randint(1, 512), "Eel", "Osmer", [("one", c.randint(1, 40), [])]) for u in uids]


class Hostile(Wire):
    """A gateway that answers, but damages, repeats, invents or keeps back what it says."""

    def __init__(self, node: Node, c: random.Random) -> None:
        super().__init__(node)
        self.c, self.how = c, c.random()

    def send_artnet(self, packet: artnet.Packet, ip: str) -> None:
        for raw in self.node.take_artnet(artnet.decode_artnet(artnet.encode_artnet(packet)), "127.0.0.1"):
            for _ in range(self.c.choice((0, 1, 1, 1, 3)) if self.how < 0.8 else 1):
                self._say(raw, ip)

    def _say(self, raw: bytes, ip: str) -> None:
        hurt = bytearray(raw)
        if self.c.random() < self.how / 2:
            for _ in range(self.c.choice((1, 2, 6))):
                hurt[self.c.randrange(10, len(hurt))] = self.c.randrange(256)
        with contextlib.suppress(WireError):  # which the listener counts as noise
            answer = artnet.decode_artnet(bytes(hurt))
            if isinstance(answer, artnet.TodData | artnet.Rdm) and self.on_rdm:
                self.on_rdm(answer, ip)


class Noisy(Cable):
    """A line on which something of every answer is lost, turned or added."""

    def __init__(self, c: random.Random, *uids: int) -> None:
        super().__init__(*uids)
        self.c, self.how = c, c.choice((0.02, 0.3, 1.0))

    def write(self, octets: bytes) -> None:
        super().write(octets)
        if self.c.random() < self.how:
            kind = self.c.randrange(4)
            if kind == 0:
                self.came = self.c.randbytes(self.c.randrange(60))
            elif kind == 1 and self.came:
                at = self.c.randrange(len(self.came))
                self.came = self.came[:at] + bytes([self.c.randrange(256)]) + self.came[at + 1 :]
            elif kind == 2:
                self.came += self.c.randbytes(self.c.randrange(30))
            else:
                self.came = self.came[: self.c.randrange(len(self.came) + 1)]


def case(seed: str) -> tuple[int, str]:
    """One search with everything that is read of who was found."""
    c = random.Random(seed)
    rdm_link.ANSWER, rdm_link.TABLE_AGAIN = 0.005, 0.01
    limit, begun = PatienceLimit(SECONDS), time.monotonic()
    if c.random() < 0.5:
        node = Node("127.0.0.21", shipped_models()["weir-2"], {"A.universe": 3}, time.monotonic)
        node.lines = {"A": LampPort(_lamps(c))}
        node.search_takes = 0.01
        port: Any = Gateways(Hostile(node, c)).port_at("127.0.0.21", 3)  # type: ignore[arg-type]
    else:
        cable = Noisy(c, *(x.uid for x in _lamps(c)))
        port = SerialRdm("x", lambda _: cable, within=0.0)
    try:
        found = asyncio.run(find_responders(port, True))
    except (LinkError, Refused) as e:
        return 1, "" if len(str(e)) < 600 else f"a refusal that nobody reads: {str(e)[:300]!r}"
    if wrong := [x for x in found if not 0 < x.uid <= rdm.HIGHEST_UID or not 0 <= x.footprint <= 512]:
        return 1, f"no lamp can be this: {wrong[0]!r}"
    if len({x.uid for x in found}) != len(found):
        return 1, "a lamp stands there twice"
    return 1, "" if limit.lasts() else f"it took {time.monotonic() - begun:.0f} s"
