"""Who wants which slots of the universes by attaching to a port: what is connected, and what is configured."""

from __future__ import annotations

from functools import partial
from typing import NamedTuple

from welvo.rig.document import Rig
from welvo.rig.refs import PortRef
from welvo.runs.cable import Cables, lay_slots


class Claim(NamedTuple):
    """Slots `first`…`last` of a universe wanted by a segment (`n`), or by a port's configured count (`n` −1)."""

    device_id: str
    label: str
    n: int
    first: int
    last: int
    before: int
    """Slots of the stream before these, from 0."""


class ClaimMeeting(NamedTuple):
    """Two claims on the same slots of one universe."""

    universe: int
    a: Claim
    b: Claim
    first: int
    last: int


_EVERY = range(1 << 20)
"""Every universe there can be."""


def claims_of_ports(cables: Cables, device_id: str, universes: set[int] | range) -> dict[int, list[Claim]]:
    """The claims of a device's ports on some universes, by universe, in order of the first slot."""
    found: dict[int, list[Claim]] = {}
    for (d, label), stream in cables.streams.items():
        port = cables.rig.devices[d].ports[label]
        more = port.pixels > stream.pixels and stream.start is not None
        if d != device_id or not (more or any(n in universes for n, _ in stream.used)):
            continue
        for piece in stream.pieces:
            for p in piece.parts:
                if p.universe in universes:
                    found.setdefault(p.universe, []).append(
                        Claim(device_id, label, piece.n, p.first, p.last, piece.stream - 1 + p.done)
                    )
        if more and stream.start:
            k = stream.pieces[0].k if stream.pieces else 3
            first = stream.start[0]
            parts, *_ = lay_slots(
                *stream.start,
                port.pixels * k,
                k,
                partial(cables.size_of_universe, first=first),
                stream.whole,
            )
            ends = stream.after or stream.start
            for p in parts:
                low = max(p.first, ends[1]) if p.universe == ends[0] else p.first
                if p.universe in universes and p.universe >= ends[0] and low <= p.last:
                    found.setdefault(p.universe, []).append(
                        Claim(device_id, label, -1, low, p.last, p.done + low - p.first)
                    )
    for here in found.values():
        here.sort(key=lambda c: (c.first, c.last, c.label, c.n))
    return found


def meetings_of_claims(
    cables: Cables,
    device_id: str,
    label: str,
    universes: set[int],
    most: int = 20,
    known: dict[str, dict[int, list[Claim]]] | None = None,
) -> list[ClaimMeeting]:
    """Where a port's claims meet others of its device that begin before them in some universes, at most `most`.

    Each pair is told once, by the later. Two devices that take the same slots show the same light, which is a split and
    no fault; on one device, or within one port, it is one. `known` keeps the claims of whole devices for whoever asks
    for one port after the other.
    """
    found: list[ClaimMeeting] = []
    if known is None:
        wanted = claims_of_ports(cables, device_id, universes)
    else:
        if device_id not in known:
            known[device_id] = claims_of_ports(cables, device_id, _EVERY)
        wanted = known[device_id]
    for universe in sorted(universes & wanted.keys()):
        here = wanted[universe]
        open_: list[Claim] = []
        for c in here:
            open_ = [o for o in open_ if o.last >= c.first]
            for o in open_:
                if c.label == label:
                    found.append(ClaimMeeting(universe, o, c, c.first, min(o.last, c.last)))
                    if len(found) >= most:
                        return found
            open_.append(c)
    return found


def split_ports(rig: Rig, cables: Cables) -> dict[int, list[PortRef]]:
    """Universes that more than one port puts out as DMX: number to the ports."""
    found: dict[int, list[PortRef]] = {}
    for device_id, device in rig.devices.items():
        for label, port in device.ports.items():
            feed = rig.feeds.get(port.feed)
            universe = rig.universes.get(feed.universe) if feed else None
            if universe and (device_id, label) not in cables.streams:
                found.setdefault(universe.number, []).append(PortRef(device_id, label))
    return {n: ports for n, ports in found.items() if len(ports) > 1}
