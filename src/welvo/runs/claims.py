"""Who wants which slots of the universes by hanging on a port: what is connected, and what is configured."""

from __future__ import annotations

from typing import NamedTuple

from welvo.patch.cable import Cables, lay
from welvo.rig.document import Rig


class Claim(NamedTuple):
    """Slots `first`…`last` of a universe wanted by a segment (`n`), or by a port's configured count (`n` −1)."""

    did: str
    label: str
    n: int
    first: int
    last: int
    before: int
    """Slots of the stream before these, from 0."""


class Meeting(NamedTuple):
    """Two claims on the same slots of one universe."""

    universe: int
    a: Claim
    b: Claim
    first: int
    last: int


def claims(cables: Cables) -> dict[int, list[Claim]]:
    """All claims by universe, in order of the first slot."""
    found: dict[int, list[Claim]] = {}
    for (did, label), stream in cables.streams.items():
        for piece in stream.pieces:
            for p in piece.parts:
                found.setdefault(p.universe, []).append(
                    Claim(did, label, piece.n, p.first, p.last, piece.stream - 1 + p.done)
                )
        port = cables.rig.devices[did].ports[label]
        if port.pixels > stream.pixels and stream.start:
            k = stream.pieces[0].k if stream.pieces else 3
            first = stream.start[0]
            parts, *_ = lay(
                *stream.start, port.pixels * k, k, lambda n, f=first: cables.size(n, f), stream.whole  # type: ignore[misc]
            )  # fmt: skip
            ends = stream.after or stream.start
            for p in parts:
                low = max(p.first, ends[1]) if p.universe == ends[0] else p.first
                if p.universe >= ends[0] and low <= p.last:
                    found.setdefault(p.universe, []).append(Claim(did, label, -1, low, p.last, p.done + low - p.first))
    for here in found.values():
        here.sort(key=lambda c: (c.first, c.last, c.did, c.label, c.n))
    return found


def meetings(all_claims: dict[int, list[Claim]], did: str, label: str, most: int = 20) -> list[Meeting]:
    """Where a port's claims meet others that begin before them, at most `most`: each pair is told once, by the later.

    Two ports of two boxes that take the same slots show the same light, which is a split and no fault; on one box, or
    within one port, it is one.
    """
    found: list[Meeting] = []
    for universe, here in all_claims.items():
        if not any((c.did, c.label) == (did, label) for c in here):
            continue
        open_: list[Claim] = []
        for c in here:
            open_ = [o for o in open_ if o.last >= c.first]
            for o in open_:
                if o.did == c.did == did and c.label == label:
                    found.append(Meeting(universe, o, c, c.first, min(o.last, c.last)))
                    if len(found) >= most:
                        return found
            open_.append(c)
    return found


def split_ports(rig: Rig, cables: Cables) -> dict[int, list[tuple[str, str]]]:
    """Universes that more than one port gives out as DMX: number to the ports."""
    found: dict[int, list[tuple[str, str]]] = {}
    for did, device in rig.devices.items():
        for label, port in device.ports.items():
            feed = rig.feeds.get(port.feed)
            universe = rig.universes.get(feed.universe) if feed else None
            if universe and (did, label) not in cables.streams:
                found.setdefault(universe.number, []).append((did, label))
    return {n: ports for n, ports in found.items() if len(ports) > 1}
