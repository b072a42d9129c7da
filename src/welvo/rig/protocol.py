"""The protocols a feed can travel by, one record each: its words, its numbers, where it may be sent, what it carries.

Everything that differs from protocol to protocol and is no packet stands here. Whoever asks "is this number possible",
"how is it said", "where may it go" asks the record, so that a further protocol is a further record, a name in
`Protocol` and a codec. How packets look is the business of `welvo.protocols`.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Literal

from msgspec import Struct

from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_PORT_ADDRESS, HIGHEST_SACN, net_sub_universe, port_address

Protocol = Literal["sacn", "artnet", "ddp", "serial"]
Carries = Literal["universes", "octets", "line"]
"""Universes under numbers of their own, one running stream of octets to a device, or one DMX line without a network."""

MULTICAST, SUBSCRIBERS, BROADCAST = "multicast", "subscribers", "broadcast"
USUAL: Protocol = "sacn"
"""What a feed travels by, and what a number is meant in, where nobody says."""


class PacketSize(Struct, frozen=True):
    """How levels are packed: octets before them in a packet, the most it carries, and whether there are always an even
    number of them."""

    head: int
    most: int
    even: bool = False


class ProtocolRecord(Struct, frozen=True):
    """What is the same for every feed of one protocol.

    `number` is what its number on the wire is called, from `lowest` to `highest`; `base` is what the first one is
    counted as (1 for sACN, 0 for Art-Net). `destinations` are the words a feed may be sent to, a new feed to the first
    of them (empty: nobody yet); with `addresses` also one IPv4 address. `ends` says whether a stream can be ended, so
    that receivers know; without it they are left with a last frame. `port` is its UDP port, 0 for none.
    """

    key: Protocol
    word: str
    prefix: str
    number: str
    lowest: int
    highest: int
    base: int
    destinations: tuple[str, ...]
    addresses: bool
    port: int
    carries: Carries
    ends: bool
    has_priority: bool
    lost_after: float
    """Seconds without a packet after which receivers take a source for gone; 0: by cable, nobody says."""
    packets: PacketSize | None
    """None where no packets are sent over a network."""
    sync_universe: bool
    """Whether frames can wait for the signal of a universe that carries none itself."""
    deprecated: frozenset[int]
    """Numbers that its standard has given up, though packets can carry them."""
    means: str
    """What feeding a universe by it does, for whoever chooses one."""
    write: Callable[[int], str]
    """A number as it is typed and shown in its field."""
    parse: Callable[[str], int]
    """The number in a text; raises Refused in words when there is none. Bounds are looked at by `read_wire`."""
    ways: Callable[[int], list[tuple[str, str]]]

    @property
    def in_groups(self) -> bool:
        """Whether each number is a multicast group that a receiver has to join."""
        return MULTICAST in self.destinations

    @property
    def is_plain(self) -> bool:
        """Whether its numbers are written as what they are."""
        return self.write is str

    @property
    def has_universe_numbers(self) -> bool:
        """Whether its numbers are universes that a device can be set to."""
        return self.carries == "universes"

    def read_wire(self, text: str) -> int:
        n = self.parse(text)
        self.check_number(n)
        return n

    def say_wire(self, wire: int) -> str:
        """`sACN 3`, `Art 0/0/3`, `DDP 1` or `line 2`."""
        return f"{self.prefix} {self.write(wire)}"

    def check_number(self, wire: int) -> None:
        """Refuse a number that its wire cannot carry."""
        if not self.lowest <= wire <= self.highest:
            raise Refused(f"There is no {self.number} {wire}: they run from {self.lowest} to {self.highest}.")

    def can_carry_number(self, wire: int) -> bool:
        return self.lowest <= wire <= self.highest

    def nearest_number(self, wire: int) -> int:
        """The number closest to one that it can carry."""
        return min(self.highest, max(self.lowest, wire))

    def from_zero(self, wire: int) -> int:
        """The same number as a page shows it that counts from 0."""
        return wire - self.base


def _plain_reader(what: str, *prefixes: str) -> Callable[[str], int]:
    pattern = rf"\s*(?:(?:{'|'.join(prefixes)})\s*)?(\d{{1,9}})\s*"

    def parse(text: str) -> int:
        m = re.fullmatch(pattern, text.lower())
        if not m:
            raise Refused(f"“{text.strip()}” is no {what}. Write a number.")
        return int(m[1])

    return parse


def _parse_sacn(text: str) -> int:
    m = re.fullmatch(r"\s*(?:sacn\s*)?(\d{1,9})\s*", text.lower())
    if not m:
        raise Refused(f"“{text.strip()}” is no sACN universe. Write a number from 1 to {HIGHEST_SACN}.")
    return int(m[1])


def _parse_artnet(text: str) -> int:
    """`0/0/3` (net/sub-net/universe), `3` (the 15-bit number), `0x003` (hexadecimal) → Port-Address."""
    t = re.sub(r"^\s*art(-?net)?\s*", "", text.lower()).strip()
    if re.fullmatch(r"\d+\.\d+\.\d+\.\d+", t):
        raise Refused(f"“{text.strip()}” looks like a network mask. Art-Net's sub-net is a number from 0 to 15.")
    m = re.fullmatch(r"(\d{1,9})\s*[/:.]\s*(\d{1,9})\s*[/:.]\s*(\d{1,9})", t)
    if m:
        net, sub, uni = (int(g) for g in m.groups())
        for value, top, word in ((net, 127, "net"), (sub, 15, "sub-net"), (uni, 15, "universe")):
            if value > top:
                raise Refused(f"Art-Net's {word} runs from 0 to {top}; {value} is too high.")
        return port_address(net, sub, uni)
    m = re.fullmatch(r"0x([0-9a-f]{1,8})|(\d{1,9})", t)
    if not m:
        raise Refused(f"“{text.strip()}” is no Art-Net address. Write net/sub/universe (0/0/3), 3 or 0x003.")
    return int(m[1], 16) if m[1] else int(m[2])


def say_artnet(address: int) -> str:
    """A Port-Address as `net/sub-net/universe`, all counted from 0."""
    return "{}/{}/{}".format(*net_sub_universe(address))


def _sacn_ways(wire: int) -> list[tuple[str, str]]:
    return [
        ("sACN universe", str(wire)),
        ("Multicast group", f"239.255.{wire >> 8}.{wire & 255}"),
        ("Counted from 0", str(wire - 1)),
        ("Hexadecimal", f"0x{wire:04X}"),
        ("Art-Net of that number", f"{say_artnet(wire)} = {wire}" if wire <= HIGHEST_PORT_ADDRESS else "none"),
    ]


def _artnet_ways(wire: int) -> list[tuple[str, str]]:
    return [
        ("Art-Net net/sub/uni", say_artnet(wire)),
        ("One number, from 0", str(wire)),
        ("One number, from 1", str(wire + 1)),
        ("Hexadecimal", f"0x{wire:04X}"),
        ("sACN of that number", str(wire) if wire else "none: sACN has no 0"),
    ]


PROTOCOLS: dict[str, ProtocolRecord] = {
    record.key: record
    for record in (
        ProtocolRecord(
            key="sacn",
            word="sACN",
            prefix="sACN",
            number="sACN universe",
            lowest=1,
            highest=HIGHEST_SACN,
            base=1,
            destinations=(MULTICAST,),
            addresses=True,
            port=5568,
            carries="universes",
            ends=True,
            has_priority=True,
            sync_universe=True,
            deprecated=frozenset(),
            lost_after=2.5,  # E1.31, 6.7.1
            packets=PacketSize(126, 512),
            means="Sends this universe as sACN multicast under its own number.",
            write=str,
            parse=_parse_sacn,
            ways=_sacn_ways,
        ),
        ProtocolRecord(
            key="artnet",
            word="Art-Net",
            prefix="Art",
            number="Art-Net address",
            lowest=0,
            highest=HIGHEST_PORT_ADDRESS,
            base=0,
            destinations=(SUBSCRIBERS, BROADCAST),
            addresses=True,
            port=6454,
            carries="universes",
            ends=False,
            has_priority=False,
            sync_universe=False,
            deprecated=frozenset({0}),  # Art-Net 4: Port-Address 0
            lost_after=10.0,  # Art-Net 4, merging
            packets=PacketSize(18, 512, even=True),
            means="Sends this universe as Art-Net to the devices that ask for it.",
            write=say_artnet,
            parse=_parse_artnet,
            ways=_artnet_ways,
        ),
        ProtocolRecord(
            key="ddp",
            word="DDP",
            prefix="DDP",
            number="DDP destination",
            lowest=1,
            highest=249,
            base=1,
            destinations=("",),
            addresses=True,
            port=4048,
            carries="octets",
            ends=False,
            has_priority=False,
            sync_universe=False,
            deprecated=frozenset(),
            lost_after=0.0,
            packets=PacketSize(10, 1440),
            means="Makes this universe a part of one running stream to a DDP device, one behind the other in order "
            "of number.",
            write=str,
            parse=_plain_reader("DDP destination", "ddp"),
            ways=lambda wire: [("DDP destination id", f"{wire}{' (display)' if wire == 1 else ''}")],
        ),
        ProtocolRecord(
            key="serial",
            word="serial line",
            prefix="line",
            number="serial line",
            lowest=1,
            highest=999,
            base=1,
            destinations=("",),
            addresses=False,
            port=0,
            carries="line",
            ends=False,
            has_priority=False,
            sync_universe=False,
            deprecated=frozenset(),
            lost_after=0.0,
            packets=None,
            means="Puts it out on a serial DMX line of the sender's computer, without a network.",
            write=str,
            parse=_plain_reader("serial line", "line", "serial"),
            ways=lambda wire: [("Serial line", str(wire))],
        ),
    )
}
NUMBERED: tuple[Protocol, ...] = tuple(r.key for r in PROTOCOLS.values() if r.has_universe_numbers)
"""Protocols that carry universes under numbers a device can be set to."""
DESTINATION_WORDS = frozenset(w for r in PROTOCOLS.values() for w in r.destinations)
"""Every word that a feed can be sent to instead of an address."""


def read_protocol(text: str) -> Protocol:
    """A protocol's key, or the word it is called by."""
    t = text.strip().lower()
    for record in PROTOCOLS.values():
        if t in (record.key, record.word.lower()):
            return record.key
    raise Refused(f"“{text.strip()}” is no protocol. It is one of {', '.join(PROTOCOLS)}.")


def say_wire(protocol: str, wire: int) -> str:
    return PROTOCOLS[protocol].say_wire(wire)


def say_protocol(protocol: str) -> str:
    return PROTOCOLS[protocol].word


def every_way(protocol: str, wire: int) -> list[tuple[str, str]]:
    """All the ways the trade writes one wire universe, so that an off-by-one cannot hide."""
    return PROTOCOLS[protocol].ways(wire)
