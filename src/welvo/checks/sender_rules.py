"""Findings about who sends what: senders and their limits, rates and rules of feeds, load on links, what is in use."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from welvo.checks.registry import Context, Finding, Fix, just, rule
from welvo.patch.capacity import universes_taken
from welvo.patch.limits import slots_of_port
from welvo.patch.traffic import dmx_rate, say_bits
from welvo.rig.abilities import ability
from welvo.rig.edits import set_feed, set_universe
from welvo.rig.lookup import used
from welvo.rig.notation import plural
from welvo.rig.plan import model_of
from welvo.rig.protocol import PROTOCOLS, say_protocol, say_wire
from welvo.rig.wiring import Feed, Sender


def _is_used(ctx: Context, feed: Feed) -> bool:
    return feed.universe in ctx.rig.universes and used(ctx.rig, "universes", feed.universe)


def shown_number(sender: Sender, feed: Feed) -> int:
    """The number the sender's own pages show for a wire universe: sACN starts at 1, Art-Net at 0, pages at either."""
    from_zero = PROTOCOLS[feed.protocol].from_zero(feed.wire)
    return from_zero + sender.counts_from


def _out_of_range(ctx: Context, feed: Feed) -> bool:
    sender = ctx.rig.senders.get(feed.sender)
    return sender is not None and not sender.lowest <= shown_number(sender, feed) <= sender.highest


def _other_size(ctx: Context, feed: Feed) -> bool:
    sender, universe = ctx.rig.senders.get(feed.sender), ctx.rig.universes.get(feed.universe)
    return sender is not None and universe is not None and sender.universe_size != universe.size


def _one_off(ctx: Context, feed: Feed) -> bool:
    universe = ctx.rig.universes.get(feed.universe)
    return universe is not None and abs(universe.number - feed.wire) == 1


@rule(
    "FEED-08", "error", "feed", "A universe that its sender cannot number",
    "The feed's number on the wire lies outside what its sender can be set to.",
    "It can never be sent from there; somebody will pick the nearest number instead.",
    "Choose a number within the sender's range, or another sender.", among=lambda ctx: ctx.feeds_like(partial(_out_of_range, ctx)),
)  # fmt: skip
def cannot_number(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    sender = ctx.rig.senders.get(feed.sender)
    if sender is None or not PROTOCOLS[feed.protocol].numbered or not _is_used(ctx, feed):
        return
    shown = shown_number(sender, feed)
    if sender.lowest <= shown <= sender.highest:
        return
    wire = say_wire(feed.protocol, feed.wire)
    yield Finding(
        "FEED-08", "error", fid, wire, f"{sender.name} cannot send {wire}",
        f"{sender.name} numbers universes from {sender.lowest} to {sender.highest}; this one would be {shown} there.",
        {"sender": sender.name, "wire": wire, "shown": shown, "lowest": sender.lowest, "highest": sender.highest},
        "Feeds", ("feed", fid),
    )  # fmt: skip


@rule(
    "FEED-09", "warning", "feed", "Sender and plan use another universe size",
    "The plan counts more or fewer slots in a universe than its sender uses.",
    "Everything that runs on into the next universe is shifted by the difference, each universe more.",
    "Give the universe the sender's size, or set the sender to the plan's.", among=lambda ctx: ctx.feeds_like(partial(_other_size, ctx)),
)  # fmt: skip
def another_size(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    sender = ctx.rig.senders.get(feed.sender)
    if sender is None or not _is_used(ctx, feed):
        return
    universe = ctx.rig.universes[feed.universe]
    if sender.universe_size == universe.size:
        return
    n = universe.number
    edit = partial(
        set_universe, uid=feed.universe, label=f"universe {n}: {sender.universe_size} slots", size=sender.universe_size
    )
    yield Finding(
        "FEED-09", "warning", fid, f"universe {n}", f"{sender.name} uses {sender.universe_size} slots of universe {n}, the plan {universe.size}",
        f"From universe to universe the two drift apart by {abs(sender.universe_size - universe.size)} slots.",
        {"sender": sender.name, "universe": n, "sender uses": sender.universe_size, "plan": universe.size},
        "Feeds", ("universe", feed.universe), (),
        just(Fix(f"Use {sender.universe_size} slots of universe {n}", ((f"universe {n} · slots", str(universe.size), str(sender.universe_size)),), edit)),
    )  # fmt: skip


@rule(
    "FEED-10", "note", "feed", "Two feeds meet at one port",
    "Two senders send one wire universe at different priorities, or one sender sends it twice to one place.",
    "With priorities only the higher one counts while it is there. Twice from one sender is traffic for nothing.",
    "Nothing, if one is the other's backup; else take one of them away.", among=lambda ctx: ctx.doubled,
)  # fmt: skip
def meet_at_a_port(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    alike = ctx.feeds_by_wire.get((feed.protocol, feed.wire), ())
    if len(alike) < 2 or not _is_used(ctx, feed):
        return
    wire = say_wire(feed.protocol, feed.wire)
    for other_id in alike:
        other = ctx.rig.feeds[other_id]
        if other_id >= fid or not _is_used(ctx, other):
            continue
        if other.sender != feed.sender and other.priority != feed.priority and PROTOCOLS[feed.protocol].has_priority:
            high, low = (feed, other) if feed.priority > other.priority else (other, feed)
            names = [ctx.rig.senders[f.sender].name if f.sender in ctx.rig.senders else "?" for f in (high, low)]
            yield Finding(
                "FEED-10", "note", fid, wire, f"{names[0]} comes before {names[1]} on {wire}",
                f"At {high.priority} against {low.priority} only {names[0]} counts; {names[1]} takes over when it ends.",
                {"wire": wire, "first": names[0], "second": names[1], "priorities": f"{high.priority} {low.priority}"},
                "Worth knowing", ("feed", fid),
            )  # fmt: skip
        elif other.sender == feed.sender and other.universe == feed.universe and other.to == feed.to:
            yield Finding(
                "FEED-10", "note", fid, wire, f"{wire} is sent twice to the same place",
                "Both feeds carry the same universe to the same receivers.", {"wire": wire, "to": feed.to},
                "Worth knowing", ("feed", fid),
            )  # fmt: skip


@rule(
    "FEED-11", "note", "universe", "A universe with several feeds",
    "One universe leaves in more than one way: split to several outputs, or mirrored to a backup.",
    "Each output must be set to its own number. A change of levels reaches all of them.",
    "Nothing, if it is meant.", among=lambda ctx: [u for u, f in ctx.feeds_by_universe.items() if len(f) > 1 and u in ctx.rig.universes],
)  # fmt: skip
def several_feeds(ctx: Context, uid: str) -> Iterator[Finding]:
    feeds = [ctx.rig.feeds[f] for f in ctx.feeds_by_universe.get(uid, ())]
    ways = {(f.protocol, f.wire) for f in feeds}
    if len(ways) < 2:
        return
    number = ctx.rig.universes[uid].number
    words = " and ".join(dict.fromkeys(say_wire(f.protocol, f.wire) for f in feeds))
    yield Finding(
        "FEED-11", "note", uid, f"universe {number}", f"Universe {number} goes out as {words}",
        f"The same levels leave in {len(ways)} ways.", {"universe": number, "feeds": words}, "Worth knowing", ("universe", uid),
    )  # fmt: skip


@rule(
    "FEED-12", "warning", "feed", "Frames come faster than DMX can follow",
    "A feed is planned at more frames a second than the DMX line behind it can give out.",
    "The node drops frames; fades stutter, and some nodes fall behind.",
    "Plan a rate the line can follow: 44 for 512 slots.", among=lambda ctx: ctx.feeds_like(lambda f: f.rate > 44),
)  # fmt: skip
def too_fast(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if feed.rate <= 44 or not _is_used(ctx, feed):
        return
    lines = (
        [("the line itself", min(512, ctx.rig.universes[feed.universe].size))]
        if PROTOCOLS[feed.protocol].carries == "line"
        else []
    )
    for did, label in ctx.ports_by_feed.get(fid, ()):
        model = model_of(ctx.rig, did)
        if model and model.kind in ("node", "serial"):
            lines.append((f"port {label} of {ctx.rig.devices[did].name}", slots_of_port(ctx.rig, did, label)))
    slow = [(dmx_rate(slots), who, slots) for who, slots in lines if feed.rate > dmx_rate(slots)]
    if not slow:
        return
    most, who, slots = min(slow)
    wire = say_wire(feed.protocol, feed.wire)
    to = int(most)
    edit = partial(set_feed, fid=fid, label=f"send {wire} at {to}", rate=float(to))
    yield Finding(
        "FEED-12", "warning", fid, wire, f"{wire} is sent at {feed.rate:g} frames a second; DMX follows at {to}",
        f"A frame of {slots} slots takes {1000 / most:.1f} ms on {who}.",
        {"wire": wire, "rate": f"{feed.rate:g}", "most": to}, "Feeds", ("feed", fid), (),
        just(Fix(f"Send {wire} at {to}", ((f"{wire} · frames a second", f"{feed.rate:g}", str(to)),), edit)),
    )  # fmt: skip


@rule(
    "FEED-13", "note", "feed", "One more or less than the universe's number",
    "A universe goes out under a number that differs by one from its own.",
    "Art-Net is counted from 0 and sACN from 1, and many pages show either: an off-by-one hides here.",
    "Nothing, if it is meant; say it aloud to whoever sets the other end.", among=lambda ctx: ctx.feeds_like(partial(_one_off, ctx)),
)  # fmt: skip
def off_by_one(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if not PROTOCOLS[feed.protocol].numbered or not _is_used(ctx, feed):
        return
    number = ctx.rig.universes[feed.universe].number
    if abs(feed.wire - number) != 1:
        return
    wire = say_wire(feed.protocol, feed.wire)
    other = [
        ctx.rig.universes[ctx.rig.feeds[f].universe].number
        for f in ctx.feeds_by_wire.get((feed.protocol, number), ())
        if _is_used(ctx, ctx.rig.feeds[f])
    ]
    more = f" Number {number} on the wire is universe {other[0]} of this rig." if other else ""
    yield Finding(
        "FEED-13", "note", fid, wire, f"Universe {number} goes out as {feed.wire} by {say_protocol(feed.protocol)}",
        f"The two differ by one: whoever counts from the other start gets another universe.{more}",
        {"universe": number, "wire": feed.wire, "protocol": feed.protocol}, "Worth knowing", ("feed", fid),
    )  # fmt: skip


@rule(
    "FEED-14", "warning", "feed", "Sent on change without keep-alive",
    "Frames go out only when a level changes, and never in between.",
    "Receivers forget after seconds (sACN: 2.5) and go dark when nothing changes; a lamp switched on later gets nothing. "
    "A serial line loses its light at once.",
    "Send on change with keep-alive.", among=lambda ctx: ctx.feeds_like(lambda f: f.rule == "bare"),
)  # fmt: skip
def no_keep_alive(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if feed.rule != "bare" or not _is_used(ctx, feed):
        return
    wire = say_wire(feed.protocol, feed.wire)
    serial = PROTOCOLS[feed.protocol].carries == "line"
    rule_, words = ("always", "always") if serial else ("change", "on change, keep-alive")
    edit = partial(set_feed, fid=fid, label=f"send {wire} {words}", rule=rule_)
    yield Finding(
        "FEED-14", "error" if serial else "warning", fid, wire, f"{wire} is sent only when something changes",
        "A serial line needs every frame: a lamp without frames for a second goes dark or does what it likes." if serial
        else "When nothing moves for some seconds the receivers take the source for gone.",
        {"wire": wire}, "Feeds", ("feed", fid), (),
        just(Fix(f"Send {wire} {words}", ((f"{wire} · sent", "on change only", words),), edit)),
    )  # fmt: skip


@rule(
    "FEED-15", "warning", "feed", "A synchronisation universe that carries levels",
    "The sACN universe that is to release the frames is itself sent with levels in it.",
    "Receivers may take its frames for the signal, or show its levels where none were meant.",
    "Use a number for it that nothing else uses.", among=lambda ctx: ctx.feeds_like(lambda f: f.sync),
)  # fmt: skip
def sync_carries(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if feed.protocol != "sacn" or not feed.sync or not ctx.feeds_by_wire.get(("sacn", feed.sync)):
        return
    wire = say_wire(feed.protocol, feed.wire)
    yield Finding(
        "FEED-15", "warning", fid, wire, f"{wire} waits for sACN {feed.sync}, which carries levels itself",
        f"sACN {feed.sync} is planned as a universe of levels.", {"wire": wire, "sync": feed.sync}, "Feeds", ("feed", fid),
    )  # fmt: skip


@rule(
    "FEED-16", "warning", "feed", "A DDP stream without a box",
    "A universe is fed by DDP, and nobody said to which address.",
    "DDP knows no multicast and no subscribers: without an address nothing is sent.",
    "Write the box's IP address at the feed.", among=lambda ctx: ctx.feeds_like(lambda f: PROTOCOLS[f.protocol].carries == "octets"),
)  # fmt: skip
def stream_to_nobody(ctx: Context, fid: str) -> Iterator[Finding]:
    feed = ctx.rig.feeds[fid]
    if PROTOCOLS[feed.protocol].carries != "octets" or feed.to or not _is_used(ctx, feed):
        return
    number = ctx.rig.universes[feed.universe].number
    yield Finding(
        "FEED-16", "warning", fid, f"universe {number}", f"Universe {number} is fed by DDP to nobody",
        "Its feed has no address yet.", {"universe": number}, "Feeds", ("feed", fid),
    )  # fmt: skip


@rule(
    "DEV-05", "error", "device", "More universes than the box can take",
    "The ports of a device are planned to take more different universes than it can.",
    "Those above its limit are dropped, mostly without a word.",
    "Take feeds from its ports, or use another box.",
)  # fmt: skip
def too_many_universes(ctx: Context, did: str) -> Iterator[Finding]:
    model = model_of(ctx.rig, did)
    device = ctx.rig.devices[did]
    most = min(
        (n for p in device.ports if (n := ability(ctx.rig, did, p).universes)), default=model.universes if model else 0
    )
    if model is None or not most or not used(ctx.rig, "devices", did):
        return
    taken = universes_taken(ctx.index, did)
    if taken > most:
        yield Finding(
            "DEV-05", "error", did, device.name, f"{device.name} takes {taken} universes and can take {most}",
            f"A {model.name} takes {plural(most, 'universe')} in all, however many ports it has.",
            {"device": device.name, "taken": taken, "most": most}, "Devices", ("device", did),
        )  # fmt: skip


LINK_FULL = 0.6
WIRELESS_MULTICAST = 2e6


@rule(
    "DEV-06", "warning", "device", "A link that carries too much",
    "What would reach a box needs most of its network link, or much multicast goes over a wireless one.",
    "Packets are dropped in bursts: stutter and flicker that come and go. Wireless links send multicast at their slowest rate.",
    "Unicast to the box, use a switch that filters multicast, or send fewer frames.",
)  # fmt: skip
def link_full(ctx: Context, did: str) -> Iterator[Finding]:
    load = ctx.traffic.boxes.get(did)
    device = ctx.rig.devices[did]
    if load is None:
        return
    everybodys = load.multicast + load.broadcast
    own_multicast = [
        f
        for f in (ctx.rig.feeds.get(p.feed) for p in device.ports.values())
        if f and f.to in ("multicast", "broadcast")
    ]
    if load.share > LINK_FULL:
        part = f"{100 * load.share:.0f} % of its {load.link} Mbit/s"
        yield Finding(
            "DEV-06", "warning", did, device.name, f"{device.name} would get {part}",
            f"{say_bits(load.own.bits)} of its own and {say_bits(everybodys.bits)} of others' multicast and broadcast "
            f"({load.worst.packets:.0f} packets a second) when no switch filters.",
            {"device": device.name, "load": say_bits(load.worst.bits), "link": load.link}, "Feeds", ("device", did),
        )  # fmt: skip
    elif load.wireless and (everybodys.bits > WIRELESS_MULTICAST or own_multicast):
        yield Finding(
            "DEV-06", "warning", did, device.name, f"{device.name} gets multicast over a wireless link",
            f"{say_bits(everybodys.bits)} of others' and {plural(len(own_multicast), 'feed')} of its own come as multicast or broadcast.",
            {"device": device.name, "others": say_bits(everybodys.bits), "own": len(own_multicast)}, "Feeds", ("device", did),
        )  # fmt: skip


@rule(
    "USE-01", "note", "rig", "A part of the rig is switched off",
    "The use in force leaves out universes or boxes.",
    "They are neither sent nor held against the plan. Worth knowing when something stays dark.",
    "Choose another use, or everything, when this one is over.",
)  # fmt: skip
def part_off(ctx: Context, _: str) -> Iterator[Finding]:
    use = ctx.rig.uses.get(ctx.rig.use)
    if use is None:
        return
    universes = sorted(ctx.rig.universes[u].number for u in use.universes_off if u in ctx.rig.universes)
    boxes = [ctx.rig.devices[d].name for d in use.devices_off if d in ctx.rig.devices]
    if not universes and not boxes:
        return
    parts = [f"universes {', '.join(map(str, universes[:8]))}{' …' if len(universes) > 8 else ''}"] if universes else []
    parts += [f"boxes {', '.join(boxes[:5])}{' …' if len(boxes) > 5 else ''}"] if boxes else []
    yield Finding(
        "USE-01", "note", ctx.rig.use, use.name, f"“{use.name}” leaves out {plural(len(universes), 'universe')} and {plural(len(boxes), 'box', 'boxes')}",
        f"Switched off: {' and '.join(parts)}.", {"use": use.name, "universes": len(universes), "boxes": len(boxes)},
        "Worth knowing", ("use", ctx.rig.use),
    )  # fmt: skip
