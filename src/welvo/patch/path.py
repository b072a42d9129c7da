"""The whole chain of one item, hop by hop, with what agrees and what differs between each two."""

from __future__ import annotations

import re

from msgspec import Struct, field
from msgspec.structs import replace

from welvo.observed.values import Lamp, Observed
from welvo.patch.along import cable_order, piece_name, pixel_places
from welvo.patch.bus_plan import BusHere, bus_of, place_word
from welvo.patch.cable import Piece, Stream, place_in
from welvo.patch.gear import faults, seen_on
from welvo.patch.index import BY_PIXEL, Index, Span
from welvo.patch.lamps import lamp_lines, own_lamp
from welvo.patch.planned import compared
from welvo.patch.set_on import set_on
from welvo.patch.slot_words import slot_word
from welvo.patch.stream import boxes, stream_of
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.lookup import (
    call,
    called,
    feeds_of,
    mode_of,
    place_of_running,
    running_number,
    said_size,
    universe_by_number,
    used,
)
from welvo.rig.notation import plural, read_place, say_place, thousands
from welvo.rig.plan import device_at, feed_reaches, model_of, nothing_out, port_of_fixture, ports_taking
from welvo.rig.protocol import PROTOCOLS, every_way, say_wire
from welvo.rig.refs import BUS, NOWHERE, Goto, PortRef, SegmentRef, to_run
from welvo.rig.switches import say_setting
from welvo.settings.artnet import heard_port
from welvo.settings.compare import Mark, is_live


class Hop(Struct, frozen=True):
    """One station of the chain: its role, the number that matters there, one fact, where it is set."""

    role: str
    value: str
    fact: str = ""
    goes_to: Goto = NOWHERE
    ways: tuple[tuple[str, str], ...] = ()


class Joint(Struct, frozen=True):
    """What stands between two hops. Where the two differ, `sends` and `takes` say both sides."""

    mark: Mark
    sends: str = ""
    takes: str = ""
    word: str = ""


class Path(Struct, frozen=True):
    """`hops[i]` and `hops[i + 1]` are joined by `joints[i]`. `ways` says the target's place in every way."""

    target: str
    name: str
    hops: tuple[Hop, ...]
    joints: tuple[Joint, ...]
    ways: tuple[tuple[str, str], ...] = ()
    key: str = ""
    feeds: tuple[str, ...] = ()


class Target(Struct, frozen=True):
    """What a path is asked for: an item, one break or pixel of it, or a bare slot."""

    key: str = ""
    break_no: int = 0
    universe: str = ""
    address: int = 0
    label: str = ""
    pixel: int = 0
    extra: tuple[tuple[str, str], ...] = field(default=())


def find_target(index: Index, text: str) -> Target:
    """A place however it is said: `207`, `3.045`, `ribbon/27`, `304/2` (pixel of a fixture), `207:5` (slot within a
    item), `run 1169` (running number over the rig), `WEIR-2 run 145` (over a device's ports), `PENSTOCK 6 px 31` (a
    pixel
    of a port).

    Raises Refused with the reason.
    """
    rig = index.rig
    t = text.strip()
    if re.fullmatch(r"\d+", t):
        fid = next((k for k, f in rig.fixtures.items() if f.number == int(t)), "")
        if not fid:
            raise Refused(f"There is no fixture {t} in this rig.")
        return of_item(index, fid)
    if re.fullmatch(r"\d+\.\d+", t):
        number, address = read_place(t)
        uid = universe_by_number(rig, number)
        if not uid:
            raise Refused(f"There is no universe {number} in this rig.")
        return of_slot(index, uid, address)
    port_pixel = re.fullmatch(r"(.+?)\s+(\S+)\s+px\s*(\d+)", t, re.IGNORECASE)
    if port_pixel:
        return of_port_pixel(index, port_pixel[1], port_pixel[2], int(port_pixel[3]))
    running = re.fullmatch(r"(?:(.+?)\s+)?(?:run|running)\s+(\d+)", t, re.IGNORECASE)
    if running:
        return of_running(index, int(running[2]), (running[1] or "").strip())
    within = re.fullmatch(r"(.+?)\s*:\s*(\d+)", t)
    if within:
        return of_slot_within(index, within[1].strip(), int(within[2]))
    name, slash, pixel = t.rpartition("/")
    if slash and re.fullmatch(r"\d+", pixel) and re.fullmatch(r"\d+", name.strip()):
        return of_fixture_pixel(index, int(name), int(pixel))
    if slash and re.fullmatch(r"\d+", pixel):
        eid = next((k for k, e in rig.elements.items() if e.name.lower() == name.strip().lower()), "")
        if not eid:
            raise Refused(f"There is no element “{name}” in this rig.")
        return of_pixel(index, eid, int(pixel))
    eid = next((k for k, e in rig.elements.items() if e.name.lower() == t.lower()), "")
    if eid:
        return of_item(index, eid)
    raise Refused(
        f"“{t}” is no fixture number, no NAME/PIXEL, no universe.address, no NAME:SLOT and no running number (run "
        "1169)."
    )


def of_running(index: Index, running: int, box: str = "") -> Target:
    """The slot of a running number: over the whole rig, or over the ports of a device in the order printed on it."""
    rig = index.rig
    if running < 1:
        raise Refused("Running numbers count from 1.")
    if not box:
        number, address = place_of_running(rig, running)
        uid = universe_by_number(rig, number)
        if not uid:
            raise Refused(f"Running slot {running} would be in universe {number}, which is not there.")
        return of_slot(index, uid, address)
    device_id = next((k for k, d in rig.devices.items() if d.name.lower() == box.lower()), "")
    model = model_of(rig, device_id) if device_id else None
    if not device_id or model is None:
        raise Refused(f"There is no device “{box}” in this rig.")
    streams = [s for (d, _), s in index.cables.streams.items() if d == device_id]
    if streams:
        return _running_in_streams(index, device_id, streams, running)
    left = running
    for label in model.ports:
        uid = _universe_of_port(rig, device_id, label)
        size = rig.universes[uid].size if uid else SLOTS
        if left > size:
            left -= size
        elif uid:
            return of_slot(index, uid, left)
        else:
            raise Refused(f"Port {label} of {rig.devices[device_id].name} takes no universe.")
    count = plural(len(model.ports), "port")
    raise Refused(f"{rig.devices[device_id].name} has {count}; running slot {running} is behind the last.")


def _universe_of_port(rig: Rig, device_id: str, label: str) -> str:
    """The universe that a DMX port puts out, by its feed; empty when there is none."""
    port = rig.devices[device_id].ports.get(label)
    feed = rig.feeds.get(port.feed) if port else None
    return feed.universe if feed and feed.universe in rig.universes else ""


def of_port_pixel(index: Index, box: str, port: str, pixel: int) -> Target:
    """The first slot of data pixel `pixel` (from 1) of a device's port."""
    rig = index.rig
    device_id = next((k for k, d in rig.devices.items() if d.name.lower() == box.strip().lower()), "")
    stream = next(
        (s for (d, label), s in index.cables.streams.items() if d == device_id and label.lower() == port.lower()), None
    )
    if stream is None:
        raise Refused(f"There is no port {port} with pixels on a device “{box}”.")
    piece = next((p for p in stream.pieces if p.px <= pixel < p.px + p.pixels), None)
    place = piece.place((pixel - piece.px) * piece.k + 1) if piece else None
    uid = universe_by_number(rig, place[0]) if place else ""
    if not place or not uid:
        raise Refused(
            f"Port {stream.label} of {rig.devices[device_id].name} has {plural(stream.pixels, 'pixel')}; pixel "
            f"{pixel} has no universe."
        )
    return of_slot(index, uid, place[1])


def _running_in_streams(index: Index, device_id: str, streams: list[Stream], running: int) -> Target:
    """A running slot over the streams of a pixel device, port by port in the order printed on it."""
    left = running
    for stream in streams:
        for piece in stream.pieces:
            if left <= piece.slots:
                place = piece.place(left)
                uid = universe_by_number(index.rig, place[0]) if place else ""
                if not place or not uid:
                    raise Refused(f"Port {stream.label} of {index.rig.devices[device_id].name} has no universe there.")
                return of_slot(index, uid, place[1])
            left -= piece.slots
    raise Refused(f"{index.rig.devices[device_id].name} has {thousands(running - left)} slots in all.")


def of_segment(index: Index, device_id: str, label: str, n: int) -> Target:
    """The first slot of a segment that is no element: a bridge, a converter; null pixels and cables have none."""
    stream = index.cables.streams.get(PortRef(device_id, label))
    line = index.cables.lines.get(PortRef(device_id, label)) if stream is None else None
    if line and line.n == n and line.segment.fixtures:
        return replace(of_item(index, line.segment.fixtures[0]), label=line.segment.name or f"line on {label}")
    piece = stream.pieces[n] if stream and n < len(stream.pieces) else None
    place = piece.place(1) if piece and piece.slots else None
    uid = universe_by_number(index.rig, place[0]) if place else ""
    name = piece_name(index.rig, piece) if piece else ""
    return Target("", 0, uid, place[1] if place and uid else 0, name)


def of_slot_within(index: Index, name: str, within: int) -> Target:
    """Slot n (from 1) of a fixture by number or an element by name, counted through all its breaks."""
    rig = index.rig
    key = called(rig, name)
    if not key:
        raise Refused(f"There is no fixture or element “{name}” in this rig.")
    left = within
    for span in index.spans(key):
        width = span.last - span.first + 1
        if 1 <= left <= width:
            return replace(of_slot(index, span.universe, span.first + left - 1), key=key, break_no=span.break_no)
        left -= width
    raise Refused(f"{name} has {plural(within - left, 'slot')} with an address; there is no slot {within}.")


def of_fixture_pixel(index: Index, number: int, pixel: int) -> Target:
    """The first slot of a pixel of a fixture."""
    rig = index.rig
    key = next((k for k, f in rig.fixtures.items() if f.number == number), "")
    mode = mode_of(rig, rig.fixtures[key]) if key else None
    if mode is None:
        raise Refused(f"There is no fixture {number} in this rig.")
    slots = [(c.break_no, s) for c in mode.channels if c.pixel == pixel for s in c.slots]
    if not slots:
        raise Refused(f"{number} has {plural(mode.pixels, 'pixel')}; there is no pixel {pixel}.")
    break_no, first = min(slots)
    span = index.place(key, break_no)
    if span is None:
        return Target(key, break_no, "", 0, f"{number}/{pixel}", pixel)
    return replace(
        of_slot(index, span.universe, span.first + first - 1), key=key, break_no=break_no, label=f"{number}/{pixel}"
    )


def of_item(index: Index, key: str, break_no: int = 0) -> Target:
    span = index.place(key, break_no)
    label = call(index.rig, key)
    return Target(key, break_no, span.universe if span else "", span.first if span else 0, label)


def of_pixel(index: Index, eid: str, pixel: int) -> Target:
    rig = index.rig
    element = rig.elements[eid]
    if element.kind == "block" or not 1 <= pixel <= element.pixels:
        raise Refused(f"{element.name} has {plural(element.pixels, 'pixel')}; there is no pixel {pixel}.")
    spans = index.spans(eid)
    if not spans:
        return Target(eid, 0, "", 0, f"{element.name}/{pixel}", pixel)
    start = spans[0]
    first = rig.universes[start.universe]
    k = len(element.order)
    places = []
    on_cable = pixel_places(index.cables, eid, pixel) if element.at.origin == "run" else []
    if element.at.origin == "run":
        if not on_cable or not on_cable[0].places:
            return Target(eid, 0, "", 0, f"{element.name}/{pixel}", pixel)
        places = list(on_cable[0].places)
    if not places:
        parts, _ = index.cables.stretched(element, first.number, start.first)
        places = [w for c in range(k) if (w := place_in(parts, (pixel - 1) * k + c + 1))]
        if not places:
            return Target(eid, 0, "", 0, f"{element.name}/{pixel}", pixel)
    uid = universe_by_number(rig, places[0][0])
    extra = tuple((f"Component {c} · {letter}", say_place(*places[c - 1])) for c, letter in enumerate(element.order, 1))
    if places[0][0] != places[-1][0]:
        extra += (("Cut by the universe's end", f"{say_place(*places[0])} to {say_place(*places[-1])}"),)
    return Target(eid, 0, uid, places[0][1] if uid else 0, f"{element.name}/{pixel}", pixel, extra)


def of_slot(index: Index, universe: str, address: int) -> Target:
    here = index.at(universe, address)
    number = index.rig.universes[universe].number
    return Target(
        here[0].item if here else "",
        max(0, here[0].break_no) if here else 0,
        universe,
        address,
        say_place(number, address),
    )


def place_ways(index: Index, target: Target) -> tuple[tuple[str, str], ...]:
    """Every way the trade says the place of a target."""
    rig = index.rig
    if not target.universe:
        return (("Universe.address", "not patched"), *target.extra)
    universe = rig.universes[target.universe]
    ways = [("Universe.address", say_place(universe.number, target.address))]
    span = next((s for s in index.at(target.universe, target.address) if s.key == target.key), None)
    if span:
        within = span.offset + target.address - span.first + 1
        ways.append(("Slot in it", f"{within} · {slot_word(index, span, target.address)}"))
        ways += _what_it_is(rig, span, within)
        fixture = rig.fixtures.get(span.item)
        profile = rig.profiles.get(fixture.profile) if fixture else None
        if profile and profile.address:
            on = set_on(index, span.item, max(0, span.break_no))
            ways.append(("Set on it", say_setting(profile.address, on.address)))
    mixed = said_size(rig)
    ways.append(("Running in the rig", thousands(running_number(rig, universe.number, target.address)) + mixed))
    if span:
        ways.append(("If one grows", _if_one_grows(index, target)))
    port = _port(index, target)
    attached = on_cable(index, target)
    if attached:
        ways += _on_cable_ways(index, *attached)
    elif port:
        model = model_of(rig, port[0])
        if model and port[1] in model.ports:
            earlier = (_universe_of_port(rig, port[0], p) for p in model.ports[: model.ports.index(port[1])])
            before = sum(rig.universes[uid].size if uid else SLOTS for uid in earlier)
            ways.append(("Running in device", thousands(before + target.address)))
    feed = next((rig.feeds[f] for f in feeds_of(rig, target.universe)), None)
    if feed and PROTOCOLS[feed.protocol].carries == "octets" and span:
        octet = octet_of(index, (feed.to, feed.wire), span, target.address)
        if octet is not None:
            ways.append(("Octet in the stream", f"{thousands(octet)} (from 0)"))
    if feed:
        ways += every_way(feed.protocol, feed.wire)
    return (*ways, *target.extra)


def _on_cable_ways(index: Index, stream: Stream, piece: Piece, within: int) -> list[tuple[str, str]]:
    """Every number a slot has on its cable: in the stream, on the port, in the device, along the cable, behind a
    bridge."""
    px = (within - 1) // piece.k + 1
    slots = pixels = 0
    for (device_id, label), other in index.cables.streams.items():
        if device_id != stream.device_id:
            continue
        if label == stream.label:
            break
        slots, pixels = slots + other.slots, pixels + other.pixels
    ways = [
        ("Slot in the stream", thousands(piece.stream + within - 1)),
        ("Pixel on the port", f"{thousands(piece.px + px - 1)} of {thousands(stream.pixels)}"),
        (
            "Running in device",
            f"px {thousands(pixels + piece.px + px - 1)} · slot {thousands(slots + piece.stream + within - 1)}",
        ),
    ]
    if piece.leds:
        along = int((cable_order(piece.segment, piece.leds) == px).argmax())
        ways.append(("Place on the cable", thousands(piece.led + along)))
    if piece.segment.kind == "bridge":
        ways.append(("DMX behind the bridge", str(within)))
    return ways


def octet_of(index: Index, box: tuple[str, int], span: Span, address: int) -> int | None:
    """Where a slot of an item stands in the DDP stream to a device, in octets from 0."""
    feeds = boxes(index).get(box, [])
    for piece in stream_of(index, feeds)[0] if feeds else ():
        if (piece.key, piece.break_no, piece.universe, piece.first) == (
            span.key,
            span.break_no,
            span.universe,
            span.first,
        ):
            return piece.offset + address - span.first
    return None


def _what_it_is(rig: Rig, span: Span, within: int) -> list[tuple[str, str]]:
    """Pixel and component, and the default, of a slot of an item (counted from 1 within it)."""
    element = rig.elements.get(span.item)
    if element:
        if element.kind == "block":
            return []
        k = len(element.order)
        letter = element.order[(within - 1) % k]
        return [
            ("Pixel · component", f"{element.name}/{(within - 1) // k + 1} · {letter}, {(within - 1) % k + 1} of {k}")
        ]
    fixture = rig.fixtures.get(span.item)
    mode = mode_of(rig, fixture) if fixture and span.break_no != BY_PIXEL else None
    channel = next(
        (c for c in (mode.channels if mode else ()) if c.break_no == span.break_no and within in c.slots), None
    )
    if channel is None or mode is None:
        return []
    found = []
    if channel.pixel:
        parts = sorted(
            (c.slots[0], c) for c in mode.channels if c.break_no == span.break_no and c.pixel == channel.pixel
        )
        turn = next(n for n, (_, c) in enumerate(parts, 1) if c is channel)
        found.append(("Pixel · component", f"px {channel.pixel} · {channel.short}, {turn} of {len(parts)}"))
    default = str(channel.default) if len(channel.slots) == 1 else f"{channel.default} of {channel.top}"
    return [*found, ("Default", default)]


def _if_one_grows(index: Index, target: Target) -> str:
    """Whether a place shifts when something before it takes more slots."""
    rig = index.rig
    fixture, element = rig.fixtures.get(target.key), rig.elements.get(target.key)
    place = fixture.place(target.break_no) if fixture else element.at if element else None
    if place is None or place.origin == "typed":
        return "stays: locked" if place and place.locked else "stays: typed"
    if place.origin == "run":
        return "moves: from its cable"
    return f"moves: behind {call(rig, place.after)} + {place.gap}"


def on_cable(index: Index, target: Target) -> tuple[Stream, Piece, int] | None:
    """The segment that carries a target: its stream, its piece, and which slot of the piece (from 1) it is."""
    cables, rig = index.cables, index.rig
    universe = rig.universes.get(target.universe)
    number = universe.number if universe else 0
    own = cables.on_runs(target.key) if target.key else []
    for stream, piece in own:
        within = piece.within(number, target.address)
        if within:
            return stream, piece, within
    for stream in cables.streams.values() if universe and not own else ():
        if any(n == number for n, _ in stream.used):
            for piece in stream.pieces:
                within = piece.within(number, target.address)
                if within:
                    return stream, piece, within
    return None


def _port(index: Index, target: Target) -> tuple[str, str, int] | None:
    """The port an item is attached to: where a run lists it, else the port that takes its universe."""
    rig = index.rig
    found = on_cable(index, target)
    if found:
        return found[0].device_id, found[0].label, 0
    for ref in sorted(index.buses) if target.universe else ():
        here = bus_of(rig, ref)
        if here and here.universe == target.universe and here.first <= target.address < here.first + here.bus.footprint:
            return ref.device, ref.port, 0
    listed = port_of_fixture(rig, target.key) if target.key in rig.fixtures else None
    if listed:
        return listed
    for fid in feeds_of(rig, target.universe):
        ports = ports_taking(rig, fid)
        if ports:
            return (*ports[0], 0)
    return None


class Proof(Struct, frozen=True):
    """What was seen to leave a port at a target's place: the words for the hop there, and how that stands to what was
    sent. `lamp` is what reaches the lamp."""

    fact: str
    mark: Mark
    sends: str = ""
    takes: str = ""
    lamp: str = ""


NOT_LEAVING = "not sent"
"""What is said of a feed that is armed and kept from leaving."""


def path(
    index: Index,
    observed: Observed,
    target: Target,
    now: float,
    level: str = "",
    armed: bool = False,
    lamp: str = "",
    which_feed: int = 0,
    in_every_way: bool = True,
    proof: Proof | None = None,
) -> Path:
    """The chain level → universe → feed → device → port → line → lamp of one target.

    `level` is what the Bench holds there, `lamp` what the port was seen to put out, `proof` what
    was seen to leave for a place on a cable. A joint behind the first
    one that differs is never better than `upstream`. Without `in_every_way` places are not said in every way, which is
    half of the work when many are asked for.
    """
    rig = index.rig
    key = target.key
    said = place_ways(index, target) if in_every_way else ()
    attached = on_cable(index, target)
    name = (
        f"{rig.devices[attached[0].device_id].name}, port {attached[0].label}"
        if attached and not key
        else _name(rig, key)
    )
    hops = [Hop("level", level or "—", "armed" if armed else "not armed", Goto("bench", key))]
    joints: list[Joint] = []
    if not target.universe:
        hops.append(Hop("universe", "not patched", "has no address yet", Goto("patch", key)))
        joints.append(Joint("unknown", word="no address"))
        return Path(target.label, name, tuple(hops), tuple(joints), said, key)
    universe = rig.universes[target.universe]
    place = say_place(universe.number, target.address)
    off = "" if used(rig, "universes", target.universe) else "not in use"
    hops.append(Hop("universe", place, off or universe.name, Goto("universe", target.universe), said))
    feeds = feeds_of(rig, target.universe)
    joints.append(
        Joint(
            "matches" if armed and feeds and not off else "unknown", word=off or ("sending" if armed else "not armed")
        )
    )
    if not feeds:
        hops.append(Hop("feed", "no feed", "nothing carries this universe", Goto("universe", target.universe)))
        joints.append(Joint("unknown", word="no feed"))
        return Path(target.label, name, tuple(hops), tuple(joints), said, key)
    port = _port(index, target)
    chosen = feeds[which_feed % len(feeds)]
    if (
        port
        and not which_feed
        and port[1] in rig.devices[port[0]].ports
        and rig.devices[port[0]].ports[port[1]].feed in feeds
    ):
        chosen = rig.devices[port[0]].ports[port[1]].feed
    feed = rig.feeds[chosen]
    many = f" · {feeds.index(chosen) + 1} of {len(feeds)}" if len(feeds) > 1 else ""
    hops.append(
        Hop(
            "feed",
            say_wire(feed.protocol, feed.wire),
            f"{feed.to} · prio {feed.priority}{many}",
            Goto("feed", chosen),
            tuple(every_way(feed.protocol, feed.wire)),
        )
    )
    why = observed.stuck.get(chosen, "") if armed else ""
    joints.append(Joint("differs", "armed", NOT_LEAVING, why) if why else Joint("matches"))
    on_line = PROTOCOLS[feed.protocol].carries == "line"
    if not port and not PROTOCOLS[feed.protocol].numbered:
        box = device_at(rig, feed.to) if PROTOCOLS[feed.protocol].carries == "octets" else ""
        name_ = rig.devices[box].name if box else feed.to or "no address"
        word = "a line of its own" if on_line else "one stream"
        hops.append(
            Hop(
                "device",
                f"line {feed.wire}" if on_line else name_,
                word,
                Goto("device", box) if box else Goto("feed", chosen),
            )
        )
        joints.append(Joint("unknown", word="by cable" if on_line else "not heard"))
        return Path(target.label, name, tuple(hops), tuple(joints), said, key, tuple(feeds))
    if not port:
        hops.append(Hop("device", "none", "no port takes this feed", Goto("devices", "")))
        joints.append(Joint("unknown", word="nobody takes it"))
        return Path(target.label, name, tuple(hops), tuple(joints), said, key, tuple(feeds))
    device_id, label, nth = port
    device = rig.devices[device_id]
    heard = observed.heard.get(device.ip)
    live = is_live(heard, now)
    state = "heard" if live else ("silent" if heard else "not heard")
    where = f"line {feed.wire} · serial" if on_line else f"{device.ip or 'no address'} · {state}"
    hops.append(Hop("device", device.name, where, Goto("device", device_id)))
    reaches = feed_reaches(feed, device.ip)
    if not reaches:
        joints.append(Joint("differs", f"to {feed.to}", device.ip, "sent elsewhere"))
    else:
        joints.append(Joint("matches" if live else "unknown", word="by cable" if on_line else state))
    model = model_of(rig, device_id)
    takes = heard_port(model, heard, label) if model and heard and live else None
    says = say_wire(takes.protocol, takes.wire) if takes else "not known"
    has = "nothing to set" if on_line else f"set to {says}" if takes else "not read"
    hops.append(Hop("port", label, has, Goto("port", device_id, label)))
    on_run = bool(attached)  # its stream runs on over universes: the number the port is set to is that of the first
    lines = {line.key: line.mark for line in compared(index, observed, device_id, now)}
    own = {lines.get(f"{label}.universe", "unknown"), lines.get(f"{label}.protocol", "unknown")}
    wrong_feed = not attached and (
        rig.devices[device_id].ports.get(label) is None or rig.devices[device_id].ports[label].feed not in feeds
    )
    takes = None if attached and rig.devices[device_id].ports[label].feed not in feeds else takes
    dead = nothing_out(rig, device_id, label)
    if dead:
        joints.append(Joint("differs", "planned", dead, "nothing comes out"))
    elif takes and ("differs" in own if on_run else (takes.protocol, takes.wire) != (feed.protocol, feed.wire)):
        same = takes.protocol == feed.protocol
        joints.append(
            Joint(
                "differs",
                f"sends {feed.wire if same and feed.protocol == 'sacn' else say_wire(feed.protocol, feed.wire)}",
                f"takes {takes.wire if same and feed.protocol == 'sacn' else says}",
                "another universe",
            )
        )
    elif wrong_feed:
        joints.append(Joint("differs", say_wire(feed.protocol, feed.wire), "port takes another feed"))
    else:
        joints.append(Joint("claimed" if "claimed" in own else "matches" if takes else "unknown"))
    if attached:
        _along(index, attached, target, hops, joints, proof)
    on_bus = bus_of(rig, SegmentRef(device_id, label, BUS))
    if on_bus and target.universe == on_bus.universe:
        _behind_gateway(index, observed, PortRef(device_id, label), on_bus, target.address, hops, joints)
    if nth:
        hops.append(Hop("line", f"{_ordinal(nth)} on {label}", "in cable order", Goto("device", device_id)))
        joints.append(Joint("claimed", word="as drawn"))
    fixture = rig.fixtures.get(key)
    if fixture or key in rig.elements:
        at = str(set_on(index, key, target.break_no).address or target.address) if fixture else ""
        lamp = (proof.lamp if proof else "") or lamp
        goes, joint = Goto("patch", key), _before_lamp(proof, lamp)
        told = own_lamp(rig, observed, key) if not target.break_no else None
        if told:
            goes = Goto("lamps", device_id, label, told.uid)
            lamp, joint = _told(index, key, told, lamp, joint)
        hops.append(Hop("lamp", at if fixture else target.label, lamp or "not read", goes))
        joints.append(joint)
    return Path(target.label, name, tuple(hops), tuple(_after_break(joints)), said, key, tuple(feeds))


def _behind_gateway(
    index: Index, observed: Observed, ref: PortRef, here: BusHere, address: int, hops: list[Hop], joints: list[Joint]
) -> None:
    """The hop on a lamp bus: the gear or group that a slot speaks to, held against what a search found there."""
    within = address - here.first + 1
    if not 1 <= within <= here.bus.footprint:
        return
    place = (within - 1) // here.bus.width
    goes = Goto("bus", ref.device, ref.port, place if here.bus.addressing == "gear" else -1)
    seen = seen_on(index.rig, observed, ref)
    if here.bus.addressing != "gear":
        members = [g for g in (seen.gear if seen else ()) if here.bus.addressing == "broadcast" or place in g.groups]
        fact = f"{len(members)} gear in it" if seen else "not searched"
        hops.append(Hop("gear", place_word(here.bus, place), fact, goes))
        if seen and not members:
            joints.append(Joint("differs", place_word(here.bus, place), "nobody in it", "an empty group"))
        else:
            joints.append(Joint("matches" if members else "unknown"))
        return
    gear, planned = seen.gear_at(place) if seen else None, here.bus.at(place)
    name = planned.name if planned else ""
    if seen is None:
        hops.append(Hop("gear", f"gear {place}", name or "not searched", goes))
        joints.append(Joint("unknown", word="not searched"))
    elif gear is None or gear.doubled or faults(gear):
        has = "no answer" if gear is None else "several" if gear.doubled else faults(gear)[0]
        hops.append(Hop("gear", f"gear {place}", has, goes))
        joints.append(Joint("differs", f"gear {place}", has, "not as planned"))
    else:
        hops.append(Hop("gear", f"gear {place}", name or f"level {gear.level}", goes))
        joints.append(Joint("matches", word="it answered"))


def _before_lamp(proof: Proof | None, lamp: str) -> Joint:
    if proof:
        return Joint(proof.mark if proof.mark != "differs" else "upstream")
    return Joint("matches" if lamp else "unknown")


def _told(index: Index, key: str, told: Lamp, seen: str, joint: Joint) -> tuple[str, Joint]:
    """What a lamp says of itself by RDM is held against the plan: the words for its hop, and the joint before it. What
    was seen to reach it says more than that it stands right."""
    lines = {x.key: x for x in lamp_lines(index, key, told)}
    off = next((lines[k] for k in ("address", "personality") if lines[k].mark == "differs"), None)
    if off is None:
        return seen or f"says {told.address:03d} itself", Joint("matches", word="as it says") if not seen else joint
    what = "address" if off.key == "address" else "mode"
    return f"says {off.reported}", Joint("differs", f"plan {off.plan}", f"has {off.reported}", f"another {what}")


def _along(
    index: Index,
    attached: tuple[Stream, Piece, int],
    target: Target,
    hops: list[Hop],
    joints: list[Joint],
    proof: Proof | None,
) -> None:
    """The hops along the cable: the segment, and the bridge's DMX address where there is one."""
    stream, piece, within = attached
    s = piece.segment
    goes = to_run(stream.device_id, stream.label, piece.n)
    px = (within - 1) // piece.k + 1
    facts = [s.order or "straight"] if s.kind == "pixels" else []
    facts += [
        w
        for w in (
            "reversed" if s.reverse else "",
            f"fold {s.fold}" if s.fold else "",
            f"by {s.group}" if s.group > 1 else "",
        )
        if w
    ]
    name = piece_name(index.rig, piece)
    if proof and proof.fact:
        facts, name = [proof.fact], proof.fact
    if s.kind == "bridge":
        hops.append(Hop("bridge", f"DMX {within}", name, goes))
    elif s.kind == "lamps":
        hops.append(Hop("converter", f"lamp {px}", name, goes))
    else:
        hops.append(Hop("segment", f"px {thousands(piece.px + px - 1)}", " · ".join(facts), goes))
    if proof is None:
        joints.append(Joint("claimed", word="as drawn"))
    elif proof.mark == "differs":
        joints.append(Joint("differs", proof.sends, proof.takes, "another level leaves"))
    else:
        joints.append(Joint(proof.mark, word="seen" if proof.mark == "matches" else "as drawn"))


def _after_break(joints: list[Joint]) -> list[Joint]:
    """Behind the first joint that differs nothing agrees any more: it only suffers."""
    found: list[Joint] = []
    broken = False
    for joint in joints:
        if broken and joint.mark in ("matches", "differs"):
            joint = Joint("upstream", word="see before")
        broken = broken or joint.mark == "differs"
        found.append(joint)
    return found


def _name(rig: Rig, key: str) -> str:
    fixture = rig.fixtures.get(key)
    if fixture:
        return fixture.name
    return "element" if key in rig.elements else "free slot"


def _ordinal(n: int) -> str:
    suffix = "th" if 10 <= n % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{suffix}"
