"""How each protocol's levels become packets. Whoever sends looks its protocol up here, so that one without an encoder
is never sent as another: a test goes through all records of protocols.
"""

from __future__ import annotations

from collections.abc import Container, Sequence
from typing import ClassVar

from welvo.live.messages import UniverseOut
from welvo.protocols import artnet, ddp, sacn
from welvo.rig.protocol import PROTOCOLS, Carries, Protocol

Target = tuple[str, int]
"""An IPv4 address and a UDP port."""
Packet = tuple[bytes, Target]


class UniverseEncoder:
    """One packet a universe, of which only sequence and slots change from frame to frame."""

    protocol: ClassVar[Protocol]
    own_port: ClassVar[bool] = False
    """Whether packets leave from the protocol's own UDP port, which the program listens on as well."""
    slots_at: ClassVar[int]
    sequence_at: ClassVar[int]
    lowest_sequence: ClassVar[int] = 0
    after_change: ClassVar[int] = 1
    """Packets at full rate that follow a change, before unchanged frames are only kept alive."""

    @property
    def port(self) -> int:
        return PROTOCOLS[self.protocol].port

    def empty_packet(self, out: UniverseOut, cid: bytes, name: str) -> bytearray:
        """The packet of a stream with all slots at 0."""
        raise NotImplementedError

    def mark_as_last(self, packet: bytearray) -> int:
        """Mark a packet as the end of its stream. Gives how often it is sent; 0: such streams have no end."""
        return 0

    def announce_universes(self, cid: bytes, name: str, wires: Sequence[int]) -> list[Packet]:
        """What tells everybody which universes are being sent, in order of `wires`."""
        return []

    def release_frames(self, out: UniverseOut, cid: bytes, sequence: int) -> Packet | None:
        """What has receivers show the frames that they hold."""
        return None


class SacnEncoder(UniverseEncoder):
    protocol = sacn.KEY
    slots_at = sacn.SLOTS_AT
    sequence_at = sacn.SEQUENCE_AT
    after_change = 4  # the change itself, and three more packets (E1.31, 6.6.2)

    def empty_packet(self, out: UniverseOut, cid: bytes, name: str) -> bytearray:
        options = sacn.FORCE_SYNC if out.sync else 0  # without the signal receivers show the frames as they come
        data = sacn.Data(cid, out.wire, bytes(out.slots), name, out.priority, options=options, sync=out.sync)
        return bytearray(sacn.encode_sacn(data))

    def mark_as_last(self, packet: bytearray) -> int:
        packet[sacn.OPTIONS_AT] |= sacn.TERMINATED
        return 3  # E1.31, 6.2.6

    def announce_universes(self, cid: bytes, name: str, wires: Sequence[int]) -> list[Packet]:
        """In pages of 512 (E1.31, 8). Nothing sent, nothing said."""
        pages = [tuple(wires[n : n + 512]) for n in range(0, len(wires), 512)]
        target = (sacn.group_of_universe(sacn.DISCOVERY_UNIVERSE), self.port)
        return [
            (sacn.encode_sacn(sacn.Discovery(cid, name, page, n, len(pages) - 1)), target)
            for n, page in enumerate(pages)
        ]

    def release_frames(self, out: UniverseOut, cid: bytes, sequence: int) -> Packet | None:
        return sacn.encode_sacn(sacn.SyncPacket(cid, out.sync, sequence)), (sacn.group_of_universe(out.sync), self.port)


class ArtnetEncoder(UniverseEncoder):
    protocol = artnet.KEY
    own_port = True
    slots_at = artnet.SLOTS_AT
    sequence_at = artnet.SEQUENCE_AT
    lowest_sequence = 1  # 0 says that nothing is counted

    def empty_packet(self, out: UniverseOut, cid: bytes, name: str) -> bytearray:
        return bytearray(artnet.encode_artnet(artnet.Dmx(out.wire, bytes(out.slots), 1)))

    def release_frames(self, out: UniverseOut, cid: bytes, sequence: int) -> Packet | None:
        return (artnet.encode_artnet(artnet.ArtSync()), (out.sync_to, self.port)) if out.sync_to else None


class OctetsEncoder:
    """One stream of octets to a device, cut into packets of which the last has the device show them."""

    protocol: ClassVar[Protocol]
    head: ClassVar[int]
    most: ClassVar[int]
    """Octets before the levels in a packet, and levels in it at the most."""
    sequence_at: ClassVar[int]
    highest_sequence: ClassVar[int]

    @property
    def port(self) -> int:
        return PROTOCOLS[self.protocol].port

    def packets_of_frame(self, levels: bytes, wire: int) -> list[bytearray]:
        raise NotImplementedError


class DdpEncoder(OctetsEncoder):
    protocol = ddp.KEY
    head = ddp.HEAD
    most = ddp.MOST
    sequence_at = ddp.SEQUENCE_AT
    highest_sequence = 15

    def packets_of_frame(self, levels: bytes, wire: int) -> list[bytearray]:
        return [bytearray(ddp.encode_ddp(p)) for p in ddp.packets_of_frame(levels, wire)]


UNIVERSES: dict[Protocol, UniverseEncoder] = {e.protocol: e for e in (SacnEncoder(), ArtnetEncoder())}
OCTETS: dict[Protocol, OctetsEncoder] = {e.protocol: e for e in (DdpEncoder(),)}
LINES: frozenset[Protocol] = frozenset({"serial"})
"""Protocols whose frames go out on a DMX line (E1.11)."""


def can_send(protocol: Protocol) -> bool:
    """Whether there is an encoder for what a protocol carries."""
    by_what: dict[Carries, Container[Protocol]] = {"universes": UNIVERSES, "octets": OCTETS, "line": LINES}
    return protocol in by_what[PROTOCOLS[protocol].carries]
