"""The place of a target in every way the trade says it, and what it is attached to."""

from __future__ import annotations

from welvo.buses.plan import bus_of
from welvo.patch.index import BY_PIXEL, Index, Span
from welvo.patch.set_on import set_on
from welvo.patch.slot_words import slot_word
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.lookup import feeds_of, mode_of, name_of_item, running_number, said_size
from welvo.rig.notation import say_place, say_thousands
from welvo.rig.plan import model_of, port_of_fixture, ports_taking
from welvo.rig.profile import AddressSetting
from welvo.rig.protocol import PROTOCOLS, every_way
from welvo.rig.switches import say_switches
from welvo.runs.along import cable_order
from welvo.runs.cable import Piece, PortStream
from welvo.survey.octets import StreamTo, octet_feeds, stream_key, stream_of
from welvo.survey.target import Target, universe_of_port


def place_ways(index: Index, target: Target) -> tuple[tuple[str, str], ...]:
    """Every way the trade says the place of a target."""
    rig = index.rig
    if not target.universe:
        return (("Universe.address", "not patched"), *target.extra)
    universe = rig.universes[target.universe]
    ways = [("Universe.address", say_place(universe.number, target.address))]
    span = next((s for s in index.spans_at_slot(target.universe, target.address) if s.key == target.key), None)
    if span:
        within = span.offset + target.address - span.first + 1
        ways.append(("Slot in it", f"{within} · {slot_word(index, span, target.address)}"))
        ways += _what_it_is(rig, span, within)
        fixture = rig.fixtures.get(span.item_of_span)
        profile = rig.profiles.get(fixture.profile) if fixture else None
        if profile and profile.address:
            ways += _ways_set(index, span.item_of_span, profile.address)
    mixed = said_size(rig)
    ways.append(("Running in the rig", say_thousands(running_number(rig, universe.number, target.address)) + mixed))
    if span:
        ways.append(("If one grows", _if_one_grows(index, target)))
    port = port_of_target(index, target)
    attached = on_cable(index, target)
    if attached:
        ways += _on_cable_ways(index, *attached)
    elif port:
        model = model_of(rig, port[0])
        if model and port[1] in model.ports:
            earlier = (universe_of_port(rig, port[0], p) for p in model.ports[: model.ports.index(port[1])])
            before = sum(rig.universes[uid].size if uid else SLOTS for uid in earlier)
            ways.append(("Running in device", say_thousands(before + target.address)))
    feed = next((rig.feeds[f] for f in feeds_of(rig, target.universe)), None)
    if feed and PROTOCOLS[feed.protocol].carries == "octets" and span:
        octet = octet_in_stream(index, stream_key(feed), span, target.address)
        if octet is not None:
            ways.append(("Octet in the stream", f"{say_thousands(octet)} (from 0)"))
    if feed:
        ways += every_way(feed.protocol, feed.wire)
    return (*ways, *target.extra)


def _ways_set(index: Index, key: str, how: AddressSetting) -> list[tuple[str, str]]:
    """What is set on a lamp, for each of its breaks."""
    mode = mode_of(index.rig, index.rig.fixtures[key])
    breaks = mode.breaks if mode else ()
    if len(breaks) < 2:
        return [("Set on it", say_switches(how, set_on(index, key).address))]
    found = [(b.name or f"break {n + 1}", set_on(index, key, n).address) for n, b in enumerate(breaks) if b.slots]
    return [(f"Set on it · {name}", say_switches(how, address) if address else "–") for name, address in found]


def _on_cable_ways(index: Index, stream: PortStream, piece: Piece, within: int) -> list[tuple[str, str]]:
    """Every number a slot has on its cable: in the stream, on the port, in the device, along the cable, behind a
    bridge."""
    px = (within - 1) // piece.k + 1
    slots = pixels = 0
    for (device_id, label), other in index.cables_and_sums.streams.items():
        if device_id != stream.device_id:
            continue
        if label == stream.label:
            break
        slots, pixels = slots + other.slots, pixels + other.pixels
    ways = [
        ("Slot in the stream", say_thousands(piece.stream + within - 1)),
        ("Pixel on the port", f"{say_thousands(piece.px + px - 1)} of {say_thousands(stream.pixels)}"),
        (
            "Running in device",
            f"px {say_thousands(pixels + piece.px + px - 1)} · slot {say_thousands(slots + piece.stream + within - 1)}",
        ),
    ]
    if piece.leds:
        along = int((cable_order(piece.segment, piece.leds) == px).argmax())
        ways.append(("Place on the cable", say_thousands(piece.led + along)))
    if piece.segment.kind == "bridge":
        ways.append(("DMX behind the bridge", str(within)))
    return ways


def octet_in_stream(index: Index, stream: StreamTo, span: Span, address: int) -> int | None:
    """Where a slot of an item stands in a stream of octets to a device, in octets from 0."""
    feeds = octet_feeds(index).get(stream, [])
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
    element = rig.elements.get(span.item_of_span)
    if element:
        if element.kind == "block":
            return []
        k = len(element.order)
        letter = element.order[(within - 1) % k]
        return [
            ("Pixel · component", f"{element.name}/{(within - 1) // k + 1} · {letter}, {(within - 1) % k + 1} of {k}")
        ]
    fixture = rig.fixtures.get(span.item_of_span)
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
    default = str(channel.default) if len(channel.slots) == 1 else f"{channel.default} of {channel.highest_value}"
    return [*found, ("Default", default)]


def _if_one_grows(index: Index, target: Target) -> str:
    """Whether a place shifts when something before it takes more slots."""
    rig = index.rig
    fixture, element = rig.fixtures.get(target.key), rig.elements.get(target.key)
    place = fixture.place_of_break(target.break_no) if fixture else element.at if element else None
    if place is None or place.origin_of_place == "typed":
        return "stays: locked" if place and place.locked else "stays: typed"
    if place.origin_of_place == "run":
        return "moves: from its cable"
    return f"moves: behind {name_of_item(rig, place.after)} + {place.gap}"


def on_cable(index: Index, target: Target) -> tuple[PortStream, Piece, int] | None:
    """The segment that carries a target: its stream, its piece, and which slot of the piece (from 1) it is."""
    cables, rig = index.cables_and_sums, index.rig
    universe = rig.universes.get(target.universe)
    number = universe.number if universe else 0
    own = cables.on_runs(target.key) if target.key else []
    for stream, piece in own:
        within = piece.slot_at_place(number, target.address)
        if within:
            return stream, piece, within
    for stream in cables.streams.values() if universe and not own else ():
        if any(n == number for n, _ in stream.used):
            for piece in stream.pieces:
                within = piece.slot_at_place(number, target.address)
                if within:
                    return stream, piece, within
    return None


def port_of_target(index: Index, target: Target) -> tuple[str, str, int] | None:
    """The port an item is attached to: where a run lists it, else the port that takes its universe."""
    rig = index.rig
    found = on_cable(index, target)
    if found:
        return found[0].device_id, found[0].label, 0
    for ref in sorted(index.buses) if target.universe else ():
        here = bus_of(rig, ref)
        if (
            here
            and here.universe == target.universe
            and here.first <= target.address < here.first + here.bus.slots_needed
        ):
            return ref.device, ref.port, 0
    listed = port_of_fixture(rig, target.key) if target.key in rig.fixtures else None
    if listed:
        return listed
    for fid in feeds_of(rig, target.universe):
        ports = ports_taking(rig, fid)
        if ports:
            return (*ports[0], 0)
    return None
