"""Findings about universes on their way out."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from welvo.checks.registry import Context, Fix, Found, declare_rule
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import add_feed, set_feed
from welvo.rig.lookup import is_in_use
from welvo.rig.notation import say_count
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.refs import Goto


@declare_rule(
    "FEED-01",
    severity="error",
    scope="feed",
    group="Feeds",
    stage="feed",
    title="Two universes land on one wire universe",
    means="One sender feeds two universes of the rig to the same number of the same protocol.",
    matters="Whoever listens gets both in turn: the light flickers between two universes.",
    put_right="Give one of them another number on the wire.",
    candidates=lambda ctx: ctx.doubled_feeds,
)
def same_wire(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    alike = ctx.feeds_by_wire.get((feed.protocol, feed.wire), ())
    if len(alike) < 2 or not is_in_use(ctx.rig, "universes", feed.universe):
        return
    for other_id in alike:
        other = ctx.rig.feeds[other_id]
        if other_id >= fid or other.sender != feed.sender or other.universe == feed.universe:
            continue
        if not is_in_use(ctx.rig, "universes", other.universe):
            continue
        words = ("multicast", "broadcast", "subscribers")
        if feed.to not in words and other.to not in words and feed.to != other.to:
            continue
        if feed.universe not in ctx.rig.universes or other.universe not in ctx.rig.universes:
            continue
        a, b = ctx.rig.universes[other.universe].number, ctx.rig.universes[feed.universe].number
        taken = {f.wire for f in ctx.rig.feeds.values() if f.protocol == feed.protocol}
        free = next(n for n in range(max(1, feed.wire), feed.wire + len(taken) + 2) if n not in taken)
        wire = say_wire(feed.protocol, feed.wire)
        yield Found(
            title=f"Universes {a} and {b} both go out as {wire}",
            reason=f"Both are sent to {wire}, one after the other, many times a second.",
            facts={"first": a, "second": b, "wire": wire},
            where=wire,
            goes_to=Goto("feed", fid),
            fixes=[
                Fix(
                    f"Send {b} as {say_wire(feed.protocol, free)}",
                    ((f"universe {b} · wire", wire, say_wire(feed.protocol, free)),),
                    partial(
                        set_feed, fid=fid, label=f"send universe {b} as {say_wire(feed.protocol, free)}", wire=free
                    ),
                )
            ],
        )


@declare_rule(
    "FEED-02",
    severity="warning",
    scope="universe",
    group="Feeds",
    title="A universe with fixtures and no feed",
    means="Fixtures or elements are patched in a universe that nothing carries out of the computer.",
    matters="They stay dark, whatever the levels are.",
    put_right="Add a feed.",
    candidates=lambda ctx: [u for u in ctx.rig.universes if u not in ctx.feeds_by_universe],
    for_all="Feed {n} universes, each by the sACN of its number",
)
def no_feed(ctx: Context, uid: str) -> Iterator[Found]:
    if ctx.feeds_by_universe.get(uid) or not is_in_use(ctx.rig, "universes", uid):
        return
    takers = {s.key for s in ctx.index.spans_on_universe(uid)}
    if not takers:
        return
    items = ctx.index.items_on(uid)
    number = ctx.rig.universes[uid].number

    def edit(rig: Rig) -> Edit:
        new, change = add_feed(rig, uid)
        return new, change

    yield Found(
        title=f"Universe {number} has {say_count(len(takers), 'item')} and no feed",
        reason=f"What stands in universe {number} gets no levels: nothing sends it.",
        facts={"universe": number, "things": len(takers)},
        where=f"universe {number}",
        goes_to=Goto("universe", uid),
        items=tuple(sorted(items)),
        fixes=[
            Fix(f"Feed {number} by sACN {number}", ((f"universe {number} · feed", "none", f"sACN {number}"),), edit)
        ],
    )


@declare_rule(
    "FEED-03",
    severity="note",
    scope="feed",
    group="Worth knowing",
    title="A feed that carries nothing",
    means="A universe is sent although nothing is patched in it.",
    matters="A leftover of an earlier job keeps a receiver busy, and may light what it should not.",
    put_right="Remove the feed, or patch something.",
    candidates=lambda ctx: ctx.feeds_like(lambda f: ctx.index.is_empty(f.universe)),
)
def empty_feed(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if feed.universe not in ctx.rig.universes or ctx.index.spans_on_universe(feed.universe):
        return
    number = ctx.rig.universes[feed.universe].number
    yield Found(
        title=f"Universe {number} is fed and empty",
        reason=f"{say_wire(feed.protocol, feed.wire)} carries universe {number}, in which nothing is patched.",
        facts={"universe": number, "wire": say_wire(feed.protocol, feed.wire)},
        where=say_wire(feed.protocol, feed.wire),
        goes_to=Goto("feed", fid),
    )


@declare_rule(
    "FEED-04",
    severity="warning",
    scope="feed",
    group="Feeds",
    title="Art-Net levels sent as broadcast",
    means="A feed sends ArtDmx to everyone on the network.",
    matters="Every device has to read every frame; Art-Net 4 wants levels unicast to subscribers only.",
    put_right="Send to subscribers, or to one address. Keep broadcast only for old nodes that know nothing else.",
    candidates=lambda ctx: ctx.feeds_like(lambda f: f.to == "broadcast"),
    for_all="Send {n} feeds to subscribers",
)
def find_broadcast_feeds(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if feed.to != "broadcast":
        return
    wire = say_wire(feed.protocol, feed.wire)
    yield Found(
        title=f"{wire} goes to everyone",
        reason="Every device on the network must read each of its frames.",
        facts={"wire": wire},
        where=wire,
        goes_to=Goto("feed", fid),
        fixes=[
            Fix(
                "Send to subscribers",
                ((f"{wire} · to", "broadcast", "subscribers"),),
                partial(set_feed, fid=fid, label=f"send {wire} to subscribers", to="subscribers"),
            )
        ],
    )


@declare_rule(
    "FEED-05",
    severity="warning",
    scope="feed",
    group="Feeds",
    title="Art-Net address 0/0/0",
    means="A feed uses Port-Address 0, which Art-Net 4 deprecates.",
    matters="sACN has no universe 0, so a device that switches between the two cannot name it; new devices may "
    "refuse it.",
    put_right="Use 0/0/1 or higher, in the device as well.",
    candidates=lambda ctx: ctx.feeds_like(lambda f: f.wire in PROTOCOLS[f.protocol].deprecated),
)
def port_address_zero(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if feed.wire in PROTOCOLS[feed.protocol].deprecated:
        number = ctx.rig.universes[feed.universe].number if feed.universe in ctx.rig.universes else 0
        yield Found(
            title=f"Universe {number} goes out as Art-Net 0/0/0",
            reason="Address 0 is deprecated: a device that can also take sACN has no universe of that number.",
            facts={"universe": number},
            where="Art 0/0/0",
            goes_to=Goto("feed", fid),
        )


@declare_rule(
    "FEED-06",
    severity="warning",
    scope="feed",
    group="Feeds",
    title="Two senders plan to send one wire universe",
    means="Two senders of the rig feed the same wire universe at the same priority.",
    matters="The receiver merges them or jumps between them: random flicker.",
    put_right="Give one of them a lower priority, or take the feed from it.",
    candidates=lambda ctx: ctx.doubled_feeds,
)
def two_senders(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    alike = ctx.feeds_by_wire.get((feed.protocol, feed.wire), ())
    if len(alike) < 2 or not is_in_use(ctx.rig, "universes", feed.universe):
        return
    for other_id in alike:
        other = ctx.rig.feeds[other_id]
        if other_id >= fid or other.sender == feed.sender or other.priority != feed.priority:
            continue
        names = sorted(ctx.rig.senders[s].name if s in ctx.rig.senders else s for s in (feed.sender, other.sender))
        wire = say_wire(feed.protocol, feed.wire)
        lower = feed.priority - 10
        fixes = []
        if PROTOCOLS[feed.protocol].has_priority and lower >= 0:
            label = f"send {wire} from {ctx.rig.senders[feed.sender].name} at {lower}"
            fixes = [
                Fix(
                    f"Send at {lower} from {ctx.rig.senders[feed.sender].name}",
                    ((f"{wire} · priority", str(feed.priority), str(lower)),),
                    partial(set_feed, fid=fid, label=label, priority=lower),
                )
            ]
        yield Found(
            title=f"{names[0]} and {names[1]} both send {wire}",
            reason=f"Both are planned at priority {feed.priority}, so no receiver can tell whose levels count.",
            facts={"wire": wire, "senders": " + ".join(names), "priority": feed.priority},
            where=wire,
            goes_to=Goto("feed", fid),
            fixes=fixes,
        )


@declare_rule(
    "FEED-07",
    severity="note",
    scope="feed",
    group="Worth knowing",
    title="A feed that no port takes",
    means="A universe is sent, and no port of the rig is planned to take it.",
    matters="Its fixtures have no way to the light on paper; the path ends at the wire.",
    put_right="In Devices, choose this feed at the port that gives it out.",
    candidates=lambda ctx: list(ctx.rig.feeds) if ctx.rig.devices else [],
)
def nobody_takes(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if not ctx.rig.devices or feed.universe not in ctx.rig.universes or not ctx.index.spans_on_universe(feed.universe):
        return
    if not PROTOCOLS[feed.protocol].has_universe_numbers or not is_in_use(ctx.rig, "universes", feed.universe):
        return
    if any(f in ctx.ports_by_feed for f in ctx.feeds_by_universe[feed.universe]):
        return
    wire = say_wire(feed.protocol, feed.wire)
    number = ctx.rig.universes[feed.universe].number
    yield Found(
        title=f"No port takes {wire}",
        reason=f"Universe {number} is sent as {wire}, and no planned port listens to it.",
        facts={"wire": wire, "universe": number},
        where=wire,
        goes_to=Goto("feed", fid),
    )
