"""From feeds to streams: what the engine has to send for a rig."""

from __future__ import annotations

from typing import Any

from welvo.live.interfaces import Interface
from welvo.observed.values import Heard
from welvo.patch.index import Index
from welvo.patch.stream import boxes, stream_of
from welvo.protocols import sacn
from welvo.rig.document import Rig
from welvo.rig.lookup import bench_sender, used
from welvo.rig.protocol import PROTOCOLS


def rows_of(rig: Rig) -> dict[str, int]:
    """Which row of the frame each universe of the rig has, in order of their ids' entry."""
    return {uid: n for n, uid in enumerate(rig.universes)}


def subscribers(heard: dict[str, Heard], wire: int) -> list[str]:
    """Nodes that list a Port-Address among their outputs: Art-Net 4 unicasts to these and to no others."""
    return sorted(
        ip for ip, h in heard.items() if any(p.output and p.protocol == "artnet" and p.wire == wire for p in h.ports)
    )


def streams(
    rig: Rig, interface: Interface, heard: dict[str, Heard], defaults: dict[str, bytes], index: Index | None = None
) -> list[dict[str, Any]]:
    """One stream per feed of the Bench. `defaults` by universe id, for feeds that end on their defaults.

    Feeds by DDP need the index: all that go to one device are one stream.
    """
    bench = bench_sender(rig)
    rows = rows_of(rig)
    found = []
    for fid, feed in rig.feeds.items():
        if feed.sender != bench or feed.universe not in rig.universes or not PROTOCOLS[feed.protocol].numbered:
            continue
        if not used(rig, "universes", feed.universe):
            continue
        if feed.to == "multicast":
            to = [sacn.group(feed.wire)]
        elif feed.to == "broadcast":
            to = [interface.broadcast]
        elif feed.to == "subscribers":
            to = subscribers(heard, feed.wire)
        else:
            to = [feed.to]
        size = rig.universes[feed.universe].size
        last = {
            "hold": None,
            "zero": bytes(size).hex(),
            "defaults": defaults.get(feed.universe, bytes(size))[:size].hex(),
        }
        found.append(
            {
                "id": fid,
                "row": rows[feed.universe],
                "protocol": feed.protocol,
                "wire": feed.wire,
                "to": to,
                "priority": feed.priority,
                "rate": feed.rate,
                "rule": feed.rule,
                "slots": size,
                "sync": feed.sync,
                "sync_to": interface.broadcast if feed.sync and feed.protocol == "artnet" else "",
                "last": None if PROTOCOLS[feed.protocol].ends else last[feed.at_disarm],
            }
        )
    return [*found, *(_boxes(index, rows) if index else ())]


def _boxes(index: Index, rows: dict[str, int]) -> list[dict[str, Any]]:
    """One stream for each DDP device the Bench feeds. What is not in use keeps its place in it and stays dark."""
    rig = index.rig
    bench = bench_sender(rig)
    found = []
    for (ip, wire), fids in boxes(index).items():
        mine = [f for f in fids if rig.feeds[f].sender == bench]
        if not ip or not mine:
            continue
        pieces, length = stream_of(index, mine)
        parts = [
            [rows[p.universe], p.first - 1, p.octets, p.offset] for p in pieces if used(rig, "universes", p.universe)
        ]
        if not length or not parts:
            continue
        first = rig.feeds[mine[0]]
        found.append(
            {
                "id": f"ddp {ip} {wire}",
                "protocol": "ddp",
                "wire": wire,
                "to": [ip],
                "parts": parts,
                "length": length,
                "rate": first.rate,
                "rule": first.rule,
                "last": first.at_disarm,
                "row": parts[0][0],
            }
        )
    return found
