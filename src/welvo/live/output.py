"""From feeds to streams: what the engine has to send for a rig."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from welvo.live.encoders import can_send
from welvo.live.interfaces import Interface
from welvo.live.messages import LineOut, OctetPart, OctetsOut, Out, UniverseOut
from welvo.observed.values import SILENT_AFTER, Heard
from welvo.patch.index import Index
from welvo.protocols import artnet, sacn
from welvo.rig.document import Rig
from welvo.rig.lookup import bench_sender, is_in_use
from welvo.rig.protocol import BROADCAST, MULTICAST, PROTOCOLS, SUBSCRIBERS, Protocol, say_protocol, say_wire
from welvo.rig.wiring import Feed
from welvo.survey.octets import octet_feeds, stream_of


def rows_of(rig: Rig) -> dict[str, int]:
    """Which row of the frame each universe of the rig has, in order of their ids' entry."""
    return {uid: n for n, uid in enumerate(rig.universes)}


def subscribed_nodes(heard: dict[str, Heard], wire: int, now: float = 0.0) -> list[str]:
    """Nodes that list a Port-Address among their outputs: Art-Net 4 unicasts to these and to no others.

    A node that was silent for three polls at `now` is no longer one of them.
    """
    return sorted(
        ip
        for ip, h in heard.items()
        if now - h.at <= SILENT_AFTER and any(p.output and p.protocol == artnet.KEY and p.wire == wire for p in h.ports)
    )


NONE: frozenset[str] = frozenset()


def _is_sent_here(rig: Rig, feed: Feed, bench: str, borrowed: frozenset[str]) -> bool:
    return feed.sender == bench or feed.universe in borrowed


def sent_feeds(rig: Rig, borrowed: frozenset[str] = NONE) -> Iterator[tuple[str, Feed]]:
    """The feeds that the Bench sends under numbers of their own, in order of entry.

    `borrowed` are universes it sends by the feeds of others, having none of its own there.
    """
    bench = bench_sender(rig)
    for fid, feed in rig.feeds.items():
        if (
            _is_sent_here(rig, feed, bench, borrowed)
            and feed.universe in rig.universes
            and PROTOCOLS[feed.protocol].has_universe_numbers
        ):
            if is_in_use(rig, "universes", feed.universe):
                yield fid, feed


def kept_back(rig: Rig, borrowed: frozenset[str] = NONE) -> dict[str, str]:
    """Feeds of the Bench that cannot leave beside an earlier one, and why.

    A sender has one identity, and counts the packets of a universe once: two universes under one number, or one at two
    priorities, would reach receivers as one stream that jumps.
    """
    bench = bench_sender(rig)
    found = {
        fid: f"this program cannot send {say_protocol(feed.protocol)}"
        for fid, feed in rig.feeds.items()
        if _is_sent_here(rig, feed, bench, borrowed) and not can_send(feed.protocol)
    }
    first: dict[tuple[str, int], Feed] = {}
    for fid, feed in sent_feeds(rig, borrowed):
        if fid in found:
            continue
        other = first.setdefault((feed.protocol, feed.wire), feed)
        wire = say_wire(feed.protocol, feed.wire)
        if feed.universe != other.universe:
            found[fid] = f"{wire} carries universe {rig.universes[other.universe].number} already"
        elif PROTOCOLS[feed.protocol].has_priority and feed.priority != other.priority:
            found[fid] = f"{wire} goes out at priority {other.priority} already, not at {feed.priority}"
    return found


def streams_to_send(
    rig: Rig,
    interface: Interface,
    heard: dict[str, Heard],
    defaults: dict[str, bytes],
    index: Index | None = None,
    now: float = 0.0,
    borrowed: frozenset[str] = NONE,
    lines: dict[str, str] | None = None,
) -> list[Out]:
    """One stream for each wire universe the Bench feeds. `defaults` by universe id, for feeds that end on them.

    Feeds of one universe under one number are one stream to all their targets; what cannot be part of one is left out
    (see `kept_back`). Feeds by DDP need the index: all that go to one device are one stream. `lines` says by number
    which serial port of this computer is which line.
    """
    rows = rows_of(rig)
    back = kept_back(rig, borrowed)
    found: dict[tuple[Protocol, int], UniverseOut] = {}
    for fid, feed in sent_feeds(rig, borrowed):
        if fid in back:
            continue
        if feed.to == MULTICAST:
            to: tuple[str, ...] = (sacn.group_of_universe(feed.wire),)
        elif feed.to == BROADCAST:
            to = (interface.broadcast_address,)
        elif feed.to == SUBSCRIBERS:
            to = tuple(subscribed_nodes(heard, feed.wire, now))
        else:
            to = (feed.to,)
        key = (feed.protocol, feed.wire)
        same = found.get(key)
        if same:
            both = tuple(dict.fromkeys((*same.to, *to)))
            found[key] = replace(same, feeds=(*same.feeds, fid), to=both, rate=max(same.rate, feed.rate))
            continue
        found[key] = UniverseOut(
            fid,
            feed.protocol,
            feed.wire,
            to,
            row=rows[feed.universe],
            feeds=(fid,),
            priority=feed.priority,
            rate=feed.rate,
            rule=feed.rule,
            slots=rig.universes[feed.universe].size,
            sync=feed.sync,
            sync_to=interface.broadcast_address if feed.sync else "",
            last=_last_frame(rig, feed, defaults),
        )
    return [
        *found.values(),
        *(_to_devices(index, rows, borrowed) if index else ()),
        *_line_streams(rig, rows, defaults, borrowed, lines or {}),
    ]


def _last_frame(rig: Rig, feed: Feed, defaults: dict[str, bytes]) -> bytes | None:
    """The frame that receivers are left with; None for the one they have, or where the stream can be ended."""
    size = rig.universes[feed.universe].size
    if PROTOCOLS[feed.protocol].ends or feed.at_disarm == "hold":
        return None
    return bytes(size) if feed.at_disarm == "zero" else defaults.get(feed.universe, bytes(size))[:size]


def _line_streams(
    rig: Rig, rows: dict[str, int], defaults: dict[str, bytes], borrowed: frozenset[str], ports: dict[str, str]
) -> Iterator[LineOut]:
    """One stream for each serial line the Bench feeds."""
    bench = bench_sender(rig)
    for fid, feed in rig.feeds.items():
        if PROTOCOLS[feed.protocol].carries != "line" or not can_send(feed.protocol):
            continue
        mine = _is_sent_here(rig, feed, bench, borrowed)
        if mine and feed.universe in rig.universes and is_in_use(rig, "universes", feed.universe):
            yield LineOut(
                fid,
                feed.wire,
                rows[feed.universe],
                line=ports.get(str(feed.wire), ""),
                feeds=(fid,),
                rate=feed.rate,
                rule=feed.rule,
                slots=rig.universes[feed.universe].size,
                last=_last_frame(rig, feed, defaults),
            )


def _to_devices(index: Index, rows: dict[str, int], borrowed: frozenset[str]) -> Iterator[OctetsOut]:
    """One stream of octets for each device the Bench feeds. What is not in use keeps its place in it and stays dark."""
    rig = index.rig
    bench = bench_sender(rig)
    for (protocol, ip, wire), fids in octet_feeds(index).items():
        mine = [f for f in fids if _is_sent_here(rig, rig.feeds[f], bench, borrowed) and can_send(protocol)]
        if not ip or not mine:
            continue
        pieces, length = stream_of(index, mine)
        parts = tuple(
            OctetPart(rows[p.universe], p.first - 1, p.octets, p.offset)
            for p in pieces
            if is_in_use(rig, "universes", p.universe)
        )
        if not length or not parts:
            continue
        first = rig.feeds[mine[0]]
        yield OctetsOut(
            f"{protocol} {ip} {wire}",
            protocol,
            wire,
            (ip,),
            parts,
            length,
            feeds=tuple(mine),
            rate=first.rate,
            rule=first.rule,
            dark_at_end=first.at_disarm == "zero",
        )
