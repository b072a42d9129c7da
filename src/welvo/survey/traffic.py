"""Packets and bits per second of every feed, and what each device would have to listen to."""

from __future__ import annotations

from functools import lru_cache

from msgspec import Struct

from welvo.patch.index import Index
from welvo.rig.lookup import is_in_use
from welvo.rig.plan import model_of
from welvo.rig.protocol import PROTOCOLS, Protocol
from welvo.survey.octets import octet_feeds, stream_of

AROUND = 14 + 20 + 8 + 4 + 20
"""Octets around a UDP payload on Ethernet: header, IPv4, UDP, checksum, and the pause and preamble between frames."""
DMX_BREAK, DMX_SLOT, DMX_SHORTEST = 92 + 12, 44, 1204
"""Microseconds of a DMX512-A packet (E1.11): break and mark after it, one slot, and the shortest packet allowed."""


class Rate(Struct, frozen=True):
    """Frames and bits a second, both at the planned rate: what goes out while everything moves."""

    packets: float
    bits: float

    def __add__(self, other: Rate) -> Rate:
        return Rate(self.packets + other.packets, self.bits + other.bits)

    def multiplied_by(self, n: int) -> Rate:
        return Rate(self.packets * n, self.bits * n)


NOTHING = Rate(0, 0)


class FeedLoad(Struct, frozen=True):
    """One feed: `one` copy of it, `copies` that leave the sender, and how it travels."""

    feed: str
    one: Rate
    copies: int
    how: str


class DeviceTraffic(Struct, frozen=True):
    """What one device gets: `own` what it needs, `unwanted` what comes along because the network does not filter.

    `if_broadcast` is what it would get if every feed were broadcast.
    """

    device: str
    own: Rate
    multicast: Rate
    broadcast: Rate
    if_broadcast: Rate
    link: int
    wireless: bool

    @property
    def worst_load(self) -> Rate:
        """Without filtering switches: its own unicast and multicast, everybody's multicast and broadcast."""
        return self.own + self.multicast + self.broadcast

    @property
    def share_of_link(self) -> float:
        """The worst load as a part of its link, 0..1 and above."""
        return self.worst_load.bits / (self.link * 1e6) if self.link else 0.0


def dmx_rate(slots: int) -> float:
    """Frames a second that a DMX line of so many slots can carry: 44.1 of 512."""
    return 1e6 / max(DMX_SHORTEST, DMX_BREAK + DMX_SLOT * (slots + 1))


def frame_octets(protocol: Protocol, slots: int) -> tuple[int, int]:
    """Packets and octets on the cable for one frame of so many slots (octets of stream for DDP)."""
    size = PROTOCOLS[protocol].packets
    if size is None:
        return 0, 0
    packets = max(1, -(-slots // size.most))
    return packets, slots + (slots % 2 if size.even else 0) + packets * (size.head + AROUND)


@lru_cache(256)
def _rate_of_one(protocol: Protocol, slots: int, rate: float) -> Rate:
    """One copy of a feed: most of a rig's feeds are alike."""
    packets, octets = frame_octets(protocol, slots) if slots or PROTOCOLS[protocol].has_universe_numbers else (0, 0)
    return Rate(packets * rate, octets * 8 * rate)


class Traffic(Struct, frozen=True):
    feeds: dict[str, FeedLoad]
    devices: dict[str, DeviceTraffic]
    total: Rate


class _Same:
    """Wraps a part of a rig so that it is equal to itself only: parts are never looked through."""

    def __init__(self, part: object) -> None:
        self.part = part

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and self.part is other.part

    __hash__ = None  # type: ignore[assignment]


def traffic_facts(index: Index) -> tuple[object, ...]:
    """What the loads depend on: while it stays equal, they need not be reckoned again."""
    rig = index.rig
    devices_ = tuple((k, d.ip, d.model, *(p.feed for p in d.ports.values())) for k, d in rig.devices.items())
    through = tuple((k, tuple(n for n, _ in s.used)) for k, s in index.cables_and_sums.streams.items())
    ddp = any(PROTOCOLS[f.protocol].carries == "octets" and not f.keeps for f in rig.feeds.values())
    items = (_Same(rig.fixtures), _Same(rig.elements)) if ddp else ()
    return (
        _Same(rig.feeds),
        _Same(rig.universes),
        _Same(rig.uses),
        rig.use,
        _Same(rig.device_models),
        *items,
        devices_,
        through,
    )


def _takers_of_wires(index: Index) -> dict[tuple[str, int], set[str]]:
    """Which devices in use take each universe on the wire: by what their ports are set to, and by what their cables
    need."""
    rig = index.rig
    takers: dict[tuple[str, int], set[str]] = {}
    in_use = {k for k in rig.devices if is_in_use(rig, "devices", k)}
    for device_id in in_use:
        for port in rig.devices[device_id].ports.values():
            feed = rig.feeds.get(port.feed)
            if feed:
                takers.setdefault((feed.protocol, feed.wire), set()).add(device_id)
    by_number: dict[int, list[tuple[str, int]]] = {}
    for feed in rig.feeds.values() if index.cables_and_sums.streams else ():
        if feed.universe in rig.universes:
            by_number.setdefault(rig.universes[feed.universe].number, []).append((feed.protocol, feed.wire))
    for (device_id, _), stream in index.cables_and_sums.streams.items():
        for number, _last in stream.used if device_id in in_use else ():
            for wire in by_number.get(number, ()):
                takers.setdefault(wire, set()).add(device_id)
    return takers


def _octets_of_feeds(index: Index) -> dict[str, int]:
    """How many octets the feeds of streams to a device carry."""
    lengths = {}
    for fids in octet_feeds(index).values():
        octets = stream_of(index, fids)[1]
        for n, fid in enumerate(fids):
            lengths[fid] = octets if n == 0 else 0  # the device's stream is one; its first feed carries the sum
    return lengths


def traffic_of_rig(index: Index) -> Traffic:
    """All loads of a rig at the planned rates. Universes and devices that are not in use do not count."""
    rig = index.rig
    takers, lengths = _takers_of_wires(index), _octets_of_feeds(index)
    at_ip: dict[str, str] = {d.ip: device_id for device_id, d in rig.devices.items() if d.ip}
    loads: dict[str, FeedLoad] = {}
    own: dict[str, Rate] = {}
    multicast, broadcast, everything = NOTHING, NOTHING, NOTHING
    mine: dict[str, Rate] = {}
    for fid, feed in rig.feeds.items():
        if feed.universe not in rig.universes or not is_in_use(rig, "universes", feed.universe):
            continue
        slots = (
            lengths.get(fid, 0) if PROTOCOLS[feed.protocol].carries == "octets" else rig.universes[feed.universe].size
        )
        one = _rate_of_one(feed.protocol, slots, feed.rate)
        here = takers.get((feed.protocol, feed.wire), set())
        if not PROTOCOLS[feed.protocol].port:
            loads[fid] = FeedLoad(fid, NOTHING, 0, "serial line")
            continue
        everything += one
        if feed.to == "subscribers":
            loads[fid] = FeedLoad(fid, one, len(here), f"unicast to {len(here)}")
            for device_id in here:
                own[device_id] = own.get(device_id, NOTHING) + one
        elif feed.to == "multicast":
            loads[fid] = FeedLoad(fid, one, 1, "multicast")
            multicast += one
            for device_id in here:
                mine[device_id] = mine.get(device_id, NOTHING) + one
        elif feed.to == "broadcast":
            loads[fid] = FeedLoad(fid, one, 1, "broadcast")
            broadcast += one
        else:
            loads[fid] = FeedLoad(fid, one, 1, "unicast")
            if feed.to in at_ip:
                own[at_ip[feed.to]] = own.get(at_ip[feed.to], NOTHING) + one
    total = NOTHING
    for load in loads.values():
        total += load.one.multiplied_by(load.copies)
    found: dict[str, DeviceTraffic] = {}
    for device_id in rig.devices:
        model = model_of(rig, device_id)
        if not is_in_use(rig, "devices", device_id) or (model and not model.link):
            continue
        wanted = mine.get(device_id, NOTHING)
        rest = Rate(multicast.packets - wanted.packets, multicast.bits - wanted.bits)
        found[device_id] = DeviceTraffic(
            device_id,
            own.get(device_id, NOTHING) + wanted,
            rest,
            broadcast,
            everything,
            model.link if model else 100,
            bool(model and model.wireless),
        )
    return Traffic(loads, found, total)


def say_bits(bits: float) -> str:
    return f"{bits / 1e6:.1f} Mbit/s" if bits >= 1e6 else f"{bits / 1e3:.0f} kbit/s"
