"""Universes that the Bench sends by another sender's routes, while it is armed and no longer.

A rig that another program drives has no feed from the Bench, and planning a second one for each universe only to test a
lamp would change the rig. So the Bench may borrow: the numbers, receivers and priority of the feed that is there.
"""

from __future__ import annotations

from collections.abc import Iterable

from welvo.observed.values import SourceSeen
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.kept import keep_last_two
from welvo.rig.lookup import bench_sender, feeds_of, universe_by_number, universes_in_order
from welvo.rig.notation import read_numbers, say_count, say_numbers
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.wiring import Feed


@keep_last_two
def lent_universes(rig: Rig) -> dict[str, str]:
    """Universes that can be borrowed, in order of their numbers, each with the sender that feeds it."""
    bench = bench_sender(rig)
    found: dict[str, str] = {}
    for uid in universes_in_order(rig):
        senders = [rig.feeds[f].sender for f in feeds_of(rig, uid)]
        if senders and bench not in senders:
            found[uid] = senders[0]
    return found


def choose_borrowed(rig: Rig, typed: str) -> frozenset[str]:
    """The universes that `3, 5–7` or `all` means. Raises Refused for a universe that cannot be borrowed."""
    there = lent_universes(rig)
    if typed.strip().lower() == "all":
        return frozenset(there)
    found = set()
    for number in read_numbers(typed):
        uid = universe_by_number(rig, number)
        if not uid:
            raise Refused(f"There is no universe {number}.")
        if uid not in there:
            own = any(rig.feeds[f].sender == bench_sender(rig) for f in feeds_of(rig, uid))
            raise Refused(
                f"Universe {number} has a feed from the Bench already: it is sent without borrowing."
                if own
                else f"Universe {number} has no feed to borrow. Add one in Patch."
            )
        found.add(uid)
    return frozenset(found)


def say_borrowed(rig: Rig, borrowed: Iterable[str]) -> str:
    """`3, 5–7`, the way it is typed."""
    return say_numbers(sorted(rig.universes[u].number for u in borrowed if u in rig.universes))


def say_arming(rig: Rig, sent: Iterable[Feed], sources: Iterable[SourceSeen]) -> str:
    """What is to be known when output begins: whose routes are borrowed, and who else is heard on what is sent.

    Empty when the Bench sends by its own feeds and nobody else is heard there.
    """
    bench = bench_sender(rig)
    feeds = list(sent)
    by_wire = {(f.protocol, f.wire): f for f in feeds}
    words = []
    whose = {f.sender: 0 for f in feeds if f.sender != bench}
    for f in {f.universe: f for f in feeds if f.sender != bench}.values():
        whose[f.sender] += 1
    for sid, count in whose.items():
        name = rig.senders[sid].name if sid in rig.senders else "another sender"
        words.append(f"{say_count(count, 'universe')} borrowed from {name}.")
    others: dict[tuple[str, str], list[tuple[SourceSeen, Feed]]] = {}
    for s in sources:
        feed = by_wire.get((s.protocol, s.wire))
        if feed and not s.own and not s.preview:
            others.setdefault((s.name or s.ip, _followed_sender(s, feed)), []).append((s, feed))
    for (name, follows), seen in others.items():
        wires = list(dict.fromkeys(say_wire(s.protocol, s.wire) for s, _ in seen))
        more = f" and {len(wires) - 3} more" if len(wires) > 3 else ""
        words.append(f"{name} sends there now ({', '.join(wires[:3])}{more}): {follows}.")
    if whose and not others:
        words.append("Nobody else is heard on them now.")
    return " ".join(words)


def _followed_sender(source: SourceSeen, feed: Feed) -> str:
    """Whom a receiver follows when both send."""
    if not PROTOCOLS[feed.protocol].has_priority:
        return "receivers merge the two, or show the one that came first"
    if source.priority > feed.priority:
        return f"receivers follow it (priority {source.priority}), not the Bench ({feed.priority})"
    if source.priority < feed.priority:
        return f"receivers follow the Bench (priority {feed.priority}), not it ({source.priority})"
    return f"both at priority {feed.priority}, so receivers merge the two, or show the one that came first"
