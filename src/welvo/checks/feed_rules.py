"""Findings about universes on their way out."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from welvo.checks.registry import Context, Finding, Fix, just, rule
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import add_feed, set_feed
from welvo.rig.lookup import used
from welvo.rig.notation import plural
from welvo.rig.protocol import PROTOCOLS, say_wire


@rule(
    "FEED-01", "error", "feed", "Two universes land on one wire universe",
    "One sender feeds two universes of the rig to the same number of the same protocol.",
    "Whoever listens gets both in turn: the light flickers between two universes.",
    "Give one of them another number on the wire.", among=lambda ctx: ctx.doubled,
)  # fmt: skip
def same_wire(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    alike = ctx.feeds_by_wire.get((feed.protocol, feed.wire), ())
    if len(alike) < 2 or not used(ctx.rig, "universes", feed.universe):
        return
    for other_id in alike:
        other = ctx.rig.feeds[other_id]
        if other_id >= fid or other.sender != feed.sender or other.universe == feed.universe:
            continue
        if not used(ctx.rig, "universes", other.universe):
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
        yield Finding(
            "FEED-01", "error", fid, wire, f"Universes {a} and {b} both go out as {wire}",
            f"Both are sent to {wire}, one after the other, many times a second.",
            {"first": a, "second": b, "wire": wire}, "Feeds", ("feed", fid), (),
            just(Fix(f"Send {b} as {say_wire(feed.protocol, free)}", ((f"universe {b} · wire", wire, say_wire(feed.protocol, free)),),
                 partial(set_feed, fid=fid, label=f"send universe {b} as {say_wire(feed.protocol, free)}", wire=free))),
        )  # fmt: skip


@rule(
    "FEED-02", "warning", "universe", "A universe with fixtures and no feed",
    "Fixtures or elements are patched in a universe that nothing carries out of the computer.",
    "They stay dark, whatever the levels are.",
    "Add a feed.", among=lambda ctx: [u for u in ctx.rig.universes if u not in ctx.feeds_by_universe],
)  # fmt: skip
def no_feed(ctx: Context, uid: str) -> Iterator[Finding]:
    if ctx.feeds_by_universe.get(uid) or not used(ctx.rig, "universes", uid):
        return
    things = {s.key for s in ctx.index.on(uid)}
    if not things:
        return
    number = ctx.rig.universes[uid].number

    def edit(rig: Rig) -> Edit:
        new, change = add_feed(rig, uid)
        return new, change

    yield Finding(
        "FEED-02", "warning", uid, f"universe {number}", f"Universe {number} has {plural(len(things), 'fixture')} and no feed",
        f"{plural(len(things), 'fixture')} in universe {number} get no levels: nothing sends it.",
        {"universe": number, "things": len(things)}, "Feeds", ("universe", uid), tuple(sorted(things)),
        just(Fix(f"Feed {number} by sACN {number}", ((f"universe {number} · feed", "none", f"sACN {number}"),), edit)),
    )  # fmt: skip


@rule(
    "FEED-03", "note", "feed", "A feed that carries nothing",
    "A universe is sent although nothing is patched in it.",
    "A leftover of an earlier job keeps a receiver busy, and may light what it should not.",
    "Remove the feed, or patch something.", among=lambda ctx: ctx.feeds_like(lambda f: ctx.index.is_empty(f.universe)),
)  # fmt: skip
def empty_feed(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if feed.universe not in ctx.rig.universes or ctx.index.on(feed.universe):
        return
    number = ctx.rig.universes[feed.universe].number
    yield Finding(
        "FEED-03", "note", fid, say_wire(feed.protocol, feed.wire), f"Universe {number} is fed and empty",
        f"{say_wire(feed.protocol, feed.wire)} carries universe {number}, in which nothing is patched.",
        {"universe": number, "wire": say_wire(feed.protocol, feed.wire)}, "Worth knowing", ("feed", fid),
    )  # fmt: skip


@rule(
    "FEED-04", "warning", "feed", "Art-Net levels sent as broadcast",
    "A feed sends ArtDmx to everyone on the network.",
    "Every box has to read every frame; Art-Net 4 wants levels unicast to subscribers only.",
    "Send to subscribers, or to one address. Keep broadcast only for old nodes that know nothing else.",
    among=lambda ctx: ctx.feeds_like(lambda f: f.to == "broadcast"),
)  # fmt: skip
def broadcast(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if feed.to != "broadcast":
        return
    wire = say_wire(feed.protocol, feed.wire)
    yield Finding(
        "FEED-04", "warning", fid, wire, f"{wire} goes to everyone", "Every box on the network must read each of its frames.",
        {"wire": wire}, "Feeds", ("feed", fid), (),
        just(Fix("Send to subscribers", ((f"{wire} · to", "broadcast", "subscribers"),),
             partial(set_feed, fid=fid, label=f"send {wire} to subscribers", to="subscribers"))),
    )  # fmt: skip


@rule(
    "FEED-05", "warning", "feed", "Art-Net address 0/0/0",
    "A feed uses Port-Address 0, which Art-Net 4 deprecates.",
    "sACN has no universe 0, so a box that switches between the two cannot name it; new boxes may refuse it.",
    "Use 0/0/1 or higher, in the box as well.", among=lambda ctx: ctx.feeds_like(lambda f: f.wire == 0),
)  # fmt: skip
def port_address_zero(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if feed.protocol == "artnet" and feed.wire == 0:
        number = ctx.rig.universes[feed.universe].number if feed.universe in ctx.rig.universes else 0
        yield Finding(
            "FEED-05", "warning", fid, "Art 0/0/0", f"Universe {number} goes out as Art-Net 0/0/0",
            "Address 0 is deprecated: a box that can also take sACN has no universe of that number.",
            {"universe": number}, "Feeds", ("feed", fid),
        )  # fmt: skip


@rule(
    "FEED-06", "warning", "feed", "Two senders plan to send one wire universe",
    "Two senders of the rig feed the same wire universe at the same priority.",
    "The receiver merges them or jumps between them: random flicker.",
    "Give one of them a lower priority, or take the feed from it.", among=lambda ctx: ctx.doubled,
)  # fmt: skip
def two_senders(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    alike = ctx.feeds_by_wire.get((feed.protocol, feed.wire), ())
    if len(alike) < 2 or not used(ctx.rig, "universes", feed.universe):
        return
    for other_id in alike:
        other = ctx.rig.feeds[other_id]
        if other_id >= fid or other.sender == feed.sender or other.priority != feed.priority:
            continue
        names = sorted(ctx.rig.senders[s].name if s in ctx.rig.senders else s for s in (feed.sender, other.sender))
        wire = say_wire(feed.protocol, feed.wire)
        lower = feed.priority - 10
        fixes = None
        if feed.protocol == "sacn" and lower >= 0:
            label = f"send {wire} from {ctx.rig.senders[feed.sender].name} at {lower}"
            fixes = just(Fix(f"Send at {lower} from {ctx.rig.senders[feed.sender].name}",
                         ((f"{wire} · priority", str(feed.priority), str(lower)),),
                         partial(set_feed, fid=fid, label=label, priority=lower)))  # fmt: skip
        yield Finding(
            "FEED-06", "warning", fid, wire, f"{names[0]} and {names[1]} both send {wire}",
            f"Both are planned at priority {feed.priority}, so no receiver can tell whose levels count.",
            {"wire": wire, "senders": " + ".join(names), "priority": feed.priority}, "Feeds", ("feed", fid), (), fixes,
        )  # fmt: skip


@rule(
    "FEED-07", "note", "feed", "A feed that no port takes",
    "A universe is sent, and no port of the rig is planned to take it.",
    "Its fixtures have no way to the light on paper; the path ends at the wire.",
    "In Devices, choose this feed at the port that gives it out.", among=lambda ctx: list(ctx.rig.feeds) if ctx.rig.devices else [],
)  # fmt: skip
def nobody_takes(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if not ctx.rig.devices or feed.universe not in ctx.rig.universes or not ctx.index.on(feed.universe):
        return
    if not PROTOCOLS[feed.protocol].numbered or not used(ctx.rig, "universes", feed.universe):
        return
    if any(f in ctx.ports_by_feed for f in ctx.feeds_by_universe[feed.universe]):
        return
    wire = say_wire(feed.protocol, feed.wire)
    number = ctx.rig.universes[feed.universe].number
    yield Finding(
        "FEED-07", "note", fid, wire, f"No port takes {wire}",
        f"Universe {number} is sent as {wire}, and no planned port gives it out.",
        {"wire": wire, "universe": number}, "Worth knowing", ("feed", fid),
    )  # fmt: skip
