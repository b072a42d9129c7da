"""What a device gets that is fed octets: one running octet stream out of all universes that are fed to it."""

from __future__ import annotations

from typing import NamedTuple

from welvo.patch.index import Index, Taker
from welvo.rig.kept import keep_last_two
from welvo.rig.protocol import PROTOCOLS, Protocol
from welvo.rig.wiring import Feed


class Octets(NamedTuple):
    """One stretch of one item in the stream: octets `offset` (from 0) to `offset + octets − 1`."""

    key: Taker
    break_no: int
    universe: str
    first: int
    offset: int
    octets: int


class StreamTo(NamedTuple):
    """Which stream of octets: its protocol, the device's address, and the number of its destination there."""

    protocol: Protocol
    to: str
    wire: int


def stream_key(feed: Feed) -> StreamTo:
    return StreamTo(feed.protocol, feed.to, feed.wire)


def octet_feeds(index: Index) -> dict[StreamTo, list[str]]:
    """The feeds that make up each stream of octets, in order of their universes' numbers."""
    rig = index.rig
    found: dict[StreamTo, list[str]] = {}
    for fid in _feeds_of_octets(rig.feeds):
        feed = rig.feeds[fid]
        if feed.universe in rig.universes:
            found.setdefault(stream_key(feed), []).append(fid)
    for fids in found.values():
        fids.sort(key=lambda f: (rig.universes[rig.feeds[f].universe].number, f))
    return found


@keep_last_two
def _feeds_of_octets(feeds: dict[str, Feed]) -> list[str]:
    return [fid for fid, feed in feeds.items() if PROTOCOLS[feed.protocol].carries == "octets"]


def stream_of(index: Index, feeds: list[str]) -> tuple[list[Octets], int]:
    """Pieces of the stream and its length in octets.

    Where running numbers are kept, a slot's octet is its running number over these universes (each as long as its
    sender uses of it); where they are not, only what items use enters, one behind the other.
    """
    rig = index.rig
    pieces: list[Octets] = []
    base = 0
    for fid in feeds:
        feed = rig.feeds[fid]
        size = rig.universes[feed.universe].size
        covered = 0  # the last slot already in the stream: what lies on it again takes no more octets
        start = base
        for s in index.spans_on_universe(feed.universe):
            last = min(s.last, size)
            if s.first > size:
                continue
            if feed.keeps:
                pieces.append(
                    Octets(s.key, s.break_no, feed.universe, s.first, start + s.first - 1, last - s.first + 1)
                )
                continue
            fresh = max(s.first, covered + 1)
            offset = base - (fresh - s.first)
            base += max(0, last - fresh + 1)
            covered = max(covered, last)
            pieces.append(Octets(s.key, s.break_no, feed.universe, s.first, offset, last - s.first + 1))
        if feed.keeps:
            base = start + size
    return pieces, base
