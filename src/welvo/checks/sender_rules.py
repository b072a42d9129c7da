"""Findings about who sends what: senders and their limits, rates and rules of feeds, load on links, what is in use."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from welvo.checks.registry import Context, Fix, Found, declare_rule
from welvo.patch.limits import slots_of_port
from welvo.rig.abilities import ability_of_port
from welvo.rig.edits import set_feed, set_universe
from welvo.rig.lookup import is_in_use, universe_by_number
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of
from welvo.rig.protocol import PROTOCOLS, say_protocol, say_wire
from welvo.rig.refs import Goto
from welvo.rig.wiring import Feed, Sender
from welvo.survey.capacity import universes_taken
from welvo.survey.traffic import dmx_rate, say_bits


def _is_used(ctx: Context, feed: Feed) -> bool:
    return feed.universe in ctx.rig.universes and is_in_use(ctx.rig, "universes", feed.universe)


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


@declare_rule(
    "FEED-08",
    severity="error",
    scope="feed",
    group="Feeds",
    stage="feed",
    title="A universe that its sender cannot number",
    means="The feed's number on the wire lies outside what its sender can be set to.",
    matters="It can never be sent from there; somebody will pick the nearest number instead.",
    put_right="Choose a number within the sender's range, or another sender.",
    candidates=lambda ctx: ctx.feeds_like(partial(_out_of_range, ctx)),
)
def cannot_number(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    sender = ctx.rig.senders.get(feed.sender)
    if sender is None or not PROTOCOLS[feed.protocol].has_universe_numbers or not _is_used(ctx, feed):
        return
    shown = shown_number(sender, feed)
    if sender.lowest <= shown <= sender.highest:
        return
    wire = say_wire(feed.protocol, feed.wire)
    yield Found(
        title=f"{sender.name} cannot send {wire}",
        reason=f"{sender.name} numbers universes from {sender.lowest} to {sender.highest}; this one would be {shown} "
        "there.",
        facts={"sender": sender.name, "wire": wire, "shown": shown, "lowest": sender.lowest, "highest": sender.highest},
        where=wire,
        goes_to=Goto("feed", fid),
    )


@declare_rule(
    "FEED-09",
    severity="warning",
    scope="feed",
    group="Feeds",
    title="Sender and plan use another universe size",
    means="The plan counts more or fewer slots in a universe than its sender uses.",
    matters="Everything that runs on into the next universe is shifted by the difference, each universe more.",
    put_right="Give the universe the sender's size, or set the sender to the plan's.",
    candidates=lambda ctx: ctx.feeds_like(partial(_other_size, ctx)),
)
def another_size(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    sender = ctx.rig.senders.get(feed.sender)
    if sender is None or not _is_used(ctx, feed):
        return
    universe = ctx.rig.universes[feed.universe]
    if sender.universe_size == universe.size:
        return
    n = universe.number
    if universe.size < sender.universe_size and not universe_by_number(ctx.rig, n + 1):
        return  # a short last one: nothing follows that could be shifted, and what it lacks nobody uses
    edit = partial(
        set_universe, uid=feed.universe, label=f"universe {n}: {sender.universe_size} slots", size=sender.universe_size
    )
    yield Found(
        title=f"{sender.name} uses {sender.universe_size} slots of universe {n}, the plan {universe.size}",
        reason=f"From universe to universe the two drift apart by {abs(sender.universe_size - universe.size)} slots.",
        facts={"sender": sender.name, "universe": n, "sender uses": sender.universe_size, "plan": universe.size},
        where=f"universe {n}",
        goes_to=Goto("universe", feed.universe),
        fixes=[
            Fix(
                f"Use {sender.universe_size} slots of universe {n}",
                ((f"universe {n} · slots", str(universe.size), str(sender.universe_size)),),
                edit,
            )
        ],
    )


@declare_rule(
    "FEED-10",
    severity="note",
    scope="feed",
    group="Worth knowing",
    title="Two feeds meet at one port",
    means="Two senders send one wire universe at different priorities, or one sender sends it twice to one place.",
    matters="With priorities only the higher one counts while it is there. Twice from one sender is traffic for "
    "nothing.",
    put_right="Nothing, if one is the other's backup; else take one of them away.",
    candidates=lambda ctx: ctx.doubled_feeds,
)
def meet_at_a_port(ctx: Context, fid: str) -> Iterator[Found]:
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
            yield Found(
                title=f"{names[0]} comes before {names[1]} on {wire}",
                reason=f"At {high.priority} against {low.priority} only {names[0]} counts; {names[1]} takes over "
                "when it ends.",
                facts={
                    "wire": wire,
                    "first": names[0],
                    "second": names[1],
                    "priorities": f"{high.priority} {low.priority}",
                },
                where=wire,
                goes_to=Goto("feed", fid),
            )
        elif other.sender == feed.sender and other.universe == feed.universe and other.to == feed.to:
            yield Found(
                title=f"{wire} is sent twice to the same place",
                reason="Both feeds carry the same universe to the same receivers.",
                facts={"wire": wire, "to": feed.to},
                where=wire,
                goes_to=Goto("feed", fid),
            )


@declare_rule(
    "FEED-11",
    severity="note",
    scope="universe",
    group="Worth knowing",
    title="A universe with several feeds",
    means="One universe leaves in more than one way: split to several outputs, or mirrored to a backup.",
    matters="Each output must be set to its own number. A change of levels reaches all of them.",
    put_right="Nothing, if it is meant.",
    candidates=lambda ctx: [u for u, f in ctx.feeds_by_universe.items() if len(f) > 1 and u in ctx.rig.universes],
)
def several_feeds(ctx: Context, uid: str) -> Iterator[Found]:
    feeds = [ctx.rig.feeds[f] for f in ctx.feeds_by_universe.get(uid, ())]
    ways = {(f.protocol, f.wire) for f in feeds}
    if len(ways) < 2:
        return
    number = ctx.rig.universes[uid].number
    words = " and ".join(dict.fromkeys(say_wire(f.protocol, f.wire) for f in feeds))
    yield Found(
        title=f"Universe {number} goes out as {words}",
        reason=f"The same levels leave in {len(ways)} ways.",
        facts={"universe": number, "feeds": words},
        where=f"universe {number}",
        goes_to=Goto("universe", uid),
    )


@declare_rule(
    "FEED-12",
    severity="warning",
    scope="feed",
    group="Feeds",
    title="Frames come faster than DMX can follow",
    means="A feed is planned at more frames a second than the DMX line behind it can put out.",
    matters="The node drops frames; fades stutter, and some nodes fall behind.",
    put_right="Plan a rate the line can follow: 44 for 512 slots.",
    candidates=lambda ctx: ctx.feeds_like(lambda f: f.rate > 44),
    for_all="Send {n} feeds more slowly",
)
def too_fast(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if feed.rate <= 44 or not _is_used(ctx, feed):
        return
    lines = (
        [("the line itself", min(512, ctx.rig.universes[feed.universe].size))]
        if PROTOCOLS[feed.protocol].carries == "line"
        else []
    )
    for device_id, label in ctx.ports_by_feed.get(fid, ()):
        model = model_of(ctx.rig, device_id)
        if model and model.kind in ("node", "serial"):
            lines.append(
                (f"port {label} of {ctx.rig.devices[device_id].name}", slots_of_port(ctx.rig, device_id, label))
            )
    slow = [(dmx_rate(slots), who, slots) for who, slots in lines if feed.rate > dmx_rate(slots)]
    if not slow:
        return
    most, who, slots = min(slow)
    wire = say_wire(feed.protocol, feed.wire)
    to = int(most)
    edit = partial(set_feed, fid=fid, label=f"send {wire} at {to}", rate=float(to))
    yield Found(
        title=f"{wire} is sent at {feed.rate:g} frames a second; DMX follows at {to}",
        reason=f"A frame of {slots} slots takes {1000 / most:.1f} ms on {who}.",
        facts={"wire": wire, "rate": f"{feed.rate:g}", "most": to},
        where=wire,
        goes_to=Goto("feed", fid),
        fixes=[Fix(f"Send {wire} at {to}", ((f"{wire} · frames a second", f"{feed.rate:g}", str(to)),), edit)],
    )


@declare_rule(
    "FEED-13",
    severity="note",
    scope="feed",
    group="Worth knowing",
    title="One more or less than the universe's number",
    means="A universe goes out under a number that differs by one from its own.",
    matters="Art-Net is counted from 0 and sACN from 1, and many pages show either: an off-by-one hides here.",
    put_right="Nothing, if it is meant; say it aloud to whoever sets the other end.",
    candidates=lambda ctx: ctx.feeds_like(partial(_one_off, ctx)),
)
def off_by_one(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if not PROTOCOLS[feed.protocol].has_universe_numbers or not _is_used(ctx, feed):
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
    yield Found(
        title=f"Universe {number} goes out as {feed.wire} by {say_protocol(feed.protocol)}",
        reason=f"The two differ by one: whoever counts from the other start gets another universe.{more}",
        facts={"universe": number, "wire": feed.wire, "protocol": feed.protocol},
        where=wire,
        goes_to=Goto("feed", fid),
    )


def _feeds_on_change_only(ctx: Context, line: bool) -> list[str]:
    """Feeds that are sent on change only: serial lines, or all others."""
    return ctx.feeds_like(lambda f: f.rule == "bare" and (PROTOCOLS[f.protocol].carries == "line") == line)


def _send_otherwise(fid: str, wire: str, rule_: str, words: str) -> list[Fix]:
    edit = partial(set_feed, fid=fid, label=f"send {wire} {words}", rule=rule_)
    return [Fix(f"Send {wire} {words}", ((f"{wire} · sent", "on change only", words),), edit)]


@declare_rule(
    "FEED-14",
    severity="warning",
    scope="feed",
    group="Feeds",
    stage="feed",
    title="Sent on change without keep-alive",
    means="Frames go out only when a level changes, and never in between.",
    matters="Receivers forget after seconds (sACN: 2.5) and go dark when nothing changes; "
    "a lamp switched on later gets nothing.",
    put_right="Send on change with keep-alive.",
    candidates=lambda ctx: _feeds_on_change_only(ctx, line=False),
    for_all="Send {n} feeds all the time",
)
def no_keep_alive(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if feed.rule == "bare" and PROTOCOLS[feed.protocol].carries != "line" and _is_used(ctx, feed):
        wire = say_wire(feed.protocol, feed.wire)
        yield Found(
            title=f"{wire} is sent only when something changes",
            reason="When nothing moves for some seconds the receivers take the source for gone.",
            facts={"wire": wire},
            where=wire,
            goes_to=Goto("feed", fid),
            fixes=_send_otherwise(fid, wire, "change", "on change, keep-alive"),
        )


@declare_rule(
    "FEED-17",
    severity="error",
    scope="feed",
    group="Feeds",
    stage="feed",
    title="A serial line that is not sent all the time",
    means="A serial DMX line gets frames only when a level changes.",
    matters="A lamp without frames for a second goes dark or does what it likes.",
    put_right="Send it always.",
    candidates=lambda ctx: _feeds_on_change_only(ctx, line=True),
)
def line_without_frames(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if feed.rule == "bare" and PROTOCOLS[feed.protocol].carries == "line" and _is_used(ctx, feed):
        wire = say_wire(feed.protocol, feed.wire)
        yield Found(
            title=f"{wire} is sent only when something changes",
            reason="A serial line needs every frame: a lamp without frames for a second goes dark or does what it "
            "likes.",
            facts={"wire": wire},
            where=wire,
            goes_to=Goto("feed", fid),
            fixes=_send_otherwise(fid, wire, "always", "always"),
        )


@declare_rule(
    "FEED-15",
    severity="warning",
    scope="feed",
    group="Feeds",
    title="A synchronisation universe that carries levels",
    means="The sACN universe that is to release the frames is itself sent with levels in it.",
    matters="Receivers may take its frames for the signal, or show its levels where none were meant.",
    put_right="Use a number for it that nothing else uses.",
    candidates=lambda ctx: ctx.feeds_like(lambda f: f.sync),
)
def sync_carries(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if not PROTOCOLS[feed.protocol].sync_universe or not feed.sync:
        return
    if not ctx.feeds_by_wire.get((feed.protocol, feed.sync)):
        return
    wire = say_wire(feed.protocol, feed.wire)
    yield Found(
        title=f"{wire} waits for {say_wire(feed.protocol, feed.sync)}, which carries levels itself",
        reason=f"{say_wire(feed.protocol, feed.sync)} is planned as a universe of levels.",
        facts={"wire": wire, "sync": feed.sync},
        where=wire,
        goes_to=Goto("feed", fid),
    )


@declare_rule(
    "FEED-16",
    severity="warning",
    scope="feed",
    group="Feeds",
    title="A DDP stream without a device",
    means="A universe is fed by DDP, and nobody said to which address.",
    matters="DDP knows no multicast and no subscribers: without an address nothing is sent.",
    put_right="Write the device's IP address at the feed.",
    candidates=lambda ctx: ctx.feeds_like(lambda f: PROTOCOLS[f.protocol].carries == "octets"),
)
def stream_to_nobody(ctx: Context, fid: str) -> Iterator[Found]:
    feed = ctx.rig.feeds[fid]
    if PROTOCOLS[feed.protocol].carries != "octets" or feed.to or not _is_used(ctx, feed):
        return
    number = ctx.rig.universes[feed.universe].number
    yield Found(
        title=f"Universe {number} is fed by DDP to nobody",
        reason="Its feed has no address yet.",
        facts={"universe": number},
        where=f"universe {number}",
        goes_to=Goto("feed", fid),
    )


@declare_rule(
    "DEV-05",
    severity="error",
    scope="device",
    group="Devices",
    stage="device",
    title="More universes than the device can take",
    means="The ports of a device are planned to take more different universes than it can.",
    matters="Those above its limit are dropped, mostly without a word.",
    put_right="Take feeds from its ports, or use another device.",
)
def too_many_universes(ctx: Context, device_id: str) -> Iterator[Found]:
    model = model_of(ctx.rig, device_id)
    device = ctx.rig.devices[device_id]
    most = min(
        (n for p in device.ports if (n := ability_of_port(ctx.rig, device_id, p).universes)),
        default=model.universes if model else 0,
    )
    if model is None or not most or not is_in_use(ctx.rig, "devices", device_id):
        return
    taken = universes_taken(ctx.index, device_id)
    if taken > most:
        yield Found(
            title=f"{device.name} takes {taken} universes and can take {most}",
            reason=f"A {model.name} takes {say_count(most, 'universe')} in all, however many ports it has.",
            facts={"device": device.name, "taken": taken, "most": most},
            where=device.name,
            goes_to=Goto("device", device_id),
        )


LINK_FULL = 0.6
WIRELESS_MULTICAST = 2e6


@declare_rule(
    "DEV-06",
    severity="warning",
    scope="device",
    group="Feeds",
    stage="device",
    title="A link that carries too much",
    means="What would reach a device needs most of its network link, or much multicast goes over a wireless one.",
    matters="Packets are dropped in bursts: stutter and flicker that come and go. Wireless links send multicast at "
    "their slowest rate.",
    put_right="Unicast to the device, use a switch that filters multicast, or send fewer frames.",
)
def link_full(ctx: Context, device_id: str) -> Iterator[Found]:
    load = ctx.traffic_of_rig.devices.get(device_id)
    device = ctx.rig.devices[device_id]
    if load is None:
        return
    everybodys = load.multicast + load.broadcast
    own_multicast = [
        f
        for f in (ctx.rig.feeds.get(p.feed) for p in device.ports.values())
        if f and f.to in ("multicast", "broadcast")
    ]
    if load.share_of_link > LINK_FULL:
        part = f"{100 * load.share_of_link:.0f} % of its {load.link} Mbit/s"
        yield Found(
            title=f"{device.name} would get {part}",
            reason=f"{say_bits(load.own.bits)} of its own and {say_bits(everybodys.bits)} of others' multicast and "
            "broadcast "
            f"({load.worst_load.packets:.0f} packets a second) when no switch filters.",
            facts={"device": device.name, "load": say_bits(load.worst_load.bits), "link": load.link},
            where=device.name,
            goes_to=Goto("device", device_id),
        )
    elif load.wireless and (everybodys.bits > WIRELESS_MULTICAST or own_multicast):
        yield Found(
            title=f"{device.name} gets multicast over a wireless link",
            reason=f"{say_bits(everybodys.bits)} of others' and {say_count(len(own_multicast), 'feed')} of its own "
            f"come "
            "as multicast or broadcast.",
            facts={"device": device.name, "others": say_bits(everybodys.bits), "own": len(own_multicast)},
            where=device.name,
            goes_to=Goto("device", device_id),
        )


@declare_rule(
    "USE-01",
    severity="note",
    scope="rig",
    group="Worth knowing",
    title="A part of the rig is switched off",
    means="The show in force leaves out universes or devices.",
    matters="They are neither sent nor held against the plan. Worth knowing when something stays dark.",
    put_right="Choose another show, or everything, when this one is over.",
)
def part_off(ctx: Context, _: str) -> Iterator[Found]:
    use = ctx.rig.uses.get(ctx.rig.use)
    if use is None:
        return
    universes = sorted(ctx.rig.universes[u].number for u in use.universes_off if u in ctx.rig.universes)
    boxes = [ctx.rig.devices[d].name for d in use.devices_off if d in ctx.rig.devices]
    if not universes and not boxes:
        return
    parts = [f"universes {', '.join(map(str, universes[:8]))}{' …' if len(universes) > 8 else ''}"] if universes else []
    parts += [f"devices {', '.join(boxes[:5])}{' …' if len(boxes) > 5 else ''}"] if boxes else []
    yield Found(
        title=f"“{use.name}” leaves out {say_count(len(universes), 'universe')} and "
        f"{say_count(len(boxes), 'device', 'devices')}",
        reason=f"Switched off: {' and '.join(parts)}.",
        facts={"use": use.name, "universes": len(universes), "boxes": len(boxes)},
        subject=ctx.rig.use,
        where=use.name,
        goes_to=Goto("use", ctx.rig.use),
    )
