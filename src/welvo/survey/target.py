"""What a path is asked for, however a person says it: by number, name, place, pixel, or by a running number."""

from __future__ import annotations

import re

from msgspec import Struct, field
from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.lookup import find_item_named, mode_of, name_of_item, place_of_running, universe_by_number
from welvo.rig.notation import read_place, say_count, say_place, say_thousands
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef
from welvo.runs.along import piece_name, pixel_places
from welvo.runs.cable import PortStream, place_in


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
    pixel of a port).

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


def of_running(index: Index, running: int, device_name: str = "") -> Target:
    """The slot of a running number: over the whole rig, or over the ports of a device in the order printed on it."""
    rig = index.rig
    if running < 1:
        raise Refused("Running numbers count from 1.")
    if not device_name:
        number, address = place_of_running(rig, running)
        uid = universe_by_number(rig, number)
        if not uid:
            raise Refused(f"Running slot {running} would be in universe {number}, which is not there.")
        return of_slot(index, uid, address)
    device_id = next((k for k, d in rig.devices.items() if d.name.lower() == device_name.lower()), "")
    model = model_of(rig, device_id) if device_id else None
    if not device_id or model is None:
        raise Refused(f"There is no device “{device_name}” in this rig.")
    streams = [s for (d, _), s in index.cables_and_sums.streams.items() if d == device_id]
    if streams:
        return _running_in_streams(index, device_id, streams, running)
    left = running
    for label in model.ports:
        uid = universe_of_port(rig, device_id, label)
        size = rig.universes[uid].size if uid else SLOTS
        if left > size:
            left -= size
        elif uid:
            return of_slot(index, uid, left)
        else:
            raise Refused(f"Port {label} of {rig.devices[device_id].name} takes no universe.")
    count = say_count(len(model.ports), "port")
    raise Refused(f"{rig.devices[device_id].name} has {count}; running slot {running} is behind the last.")


def universe_of_port(rig: Rig, device_id: str, label: str) -> str:
    """The universe that a DMX port puts out, by its feed; empty when there is none."""
    port = rig.devices[device_id].ports.get(label)
    feed = rig.feeds.get(port.feed) if port else None
    return feed.universe if feed and feed.universe in rig.universes else ""


def of_port_pixel(index: Index, device_name: str, port: str, pixel: int) -> Target:
    """The first slot of data pixel `pixel` (from 1) of a device's port."""
    rig = index.rig
    device_id = next((k for k, d in rig.devices.items() if d.name.lower() == device_name.strip().lower()), "")
    stream = next(
        (
            s
            for (d, label), s in index.cables_and_sums.streams.items()
            if d == device_id and label.lower() == port.lower()
        ),
        None,
    )
    if stream is None:
        raise Refused(f"There is no port {port} with pixels on a device “{device_name}”.")
    piece = next((p for p in stream.pieces if p.px <= pixel < p.px + p.pixels), None)
    place = piece.place_of_slot((pixel - piece.px) * piece.k + 1) if piece else None
    uid = universe_by_number(rig, place[0]) if place else ""
    if not place or not uid:
        raise Refused(
            f"Port {stream.label} of {rig.devices[device_id].name} has {say_count(stream.pixels, 'pixel')}; pixel "
            f"{pixel} has no universe."
        )
    return of_slot(index, uid, place[1])


def _running_in_streams(index: Index, device_id: str, streams: list[PortStream], running: int) -> Target:
    """A running slot over the streams of a pixel device, port by port in the order printed on it."""
    left = running
    for stream in streams:
        for piece in stream.pieces:
            if left <= piece.slots:
                place = piece.place_of_slot(left)
                uid = universe_by_number(index.rig, place[0]) if place else ""
                if not place or not uid:
                    raise Refused(f"Port {stream.label} of {index.rig.devices[device_id].name} has no universe there.")
                return of_slot(index, uid, place[1])
            left -= piece.slots
    raise Refused(f"{index.rig.devices[device_id].name} has {say_thousands(running - left)} slots in all.")


def of_segment(index: Index, device_id: str, label: str, n: int) -> Target:
    """The first slot of a segment that is no element: a bridge, a converter; null pixels and cables have none."""
    stream = index.cables_and_sums.streams.get(PortRef(device_id, label))
    line = index.cables_and_sums.lines.get(PortRef(device_id, label)) if stream is None else None
    if line and line.n == n and line.segment.fixtures:
        return replace(of_item(index, line.segment.fixtures[0]), label=line.segment.name or f"line on {label}")
    piece = stream.pieces[n] if stream and n < len(stream.pieces) else None
    place = piece.place_of_slot(1) if piece and piece.slots else None
    uid = universe_by_number(index.rig, place[0]) if place else ""
    name = piece_name(index.rig, piece) if piece else ""
    return Target("", 0, uid, place[1] if place and uid else 0, name)


def of_slot_within(index: Index, name: str, within: int) -> Target:
    """Slot n (from 1) of a fixture by number or an element by name, counted through all its breaks."""
    rig = index.rig
    key = find_item_named(rig, name)
    if not key:
        raise Refused(f"There is no fixture or element “{name}” in this rig.")
    left = within
    for span in index.spans_of(key):
        width = span.last - span.first + 1
        if 1 <= left <= width:
            return replace(of_slot(index, span.universe, span.first + left - 1), key=key, break_no=span.break_no)
        left -= width
    raise Refused(f"{name} has {say_count(within - left, 'slot')} with an address; there is no slot {within}.")


def of_fixture_pixel(index: Index, number: int, pixel: int) -> Target:
    """The first slot of a pixel of a fixture."""
    rig = index.rig
    key = next((k for k, f in rig.fixtures.items() if f.number == number), "")
    mode = mode_of(rig, rig.fixtures[key]) if key else None
    if mode is None:
        raise Refused(f"There is no fixture {number} in this rig.")
    slots = [(c.break_no, s) for c in mode.channels if c.pixel == pixel for s in c.slots]
    if not slots:
        raise Refused(f"{number} has {say_count(mode.count_pixels, 'pixel')}; there is no pixel {pixel}.")
    break_no, first = min(slots)
    span = index.span_of_break(key, break_no)
    if span is None:
        return Target(key, break_no, "", 0, f"{number}/{pixel}", pixel)
    return replace(
        of_slot(index, span.universe, span.first + first - 1), key=key, break_no=break_no, label=f"{number}/{pixel}"
    )


def of_item(index: Index, key: str, break_no: int = 0) -> Target:
    span = index.span_of_break(key, break_no)
    label = name_of_item(index.rig, key)
    return Target(key, break_no, span.universe if span else "", span.first if span else 0, label)


def of_pixel(index: Index, eid: str, pixel: int) -> Target:
    rig = index.rig
    element = rig.elements[eid]
    if element.kind == "block" or not 1 <= pixel <= element.pixels:
        raise Refused(f"{element.name} has {say_count(element.pixels, 'pixel')}; there is no pixel {pixel}.")
    spans = index.spans_of(eid)
    if not spans:
        return Target(eid, 0, "", 0, f"{element.name}/{pixel}", pixel)
    start = spans[0]
    first = rig.universes[start.universe]
    k = len(element.order)
    places = []
    on_cable = pixel_places(index.cables_and_sums, eid, pixel) if element.at.origin_of_place == "run" else []
    if element.at.origin_of_place == "run":
        if not on_cable or not on_cable[0].places:
            return Target(eid, 0, "", 0, f"{element.name}/{pixel}", pixel)
        places = list(on_cable[0].places)
    if not places:
        parts, _ = index.cables_and_sums.stretch_element(element, first.number, start.first)
        places = [w for c in range(k) if (w := place_in(parts, (pixel - 1) * k + c + 1))]
        if not places:
            return Target(eid, 0, "", 0, f"{element.name}/{pixel}", pixel)
    uid = universe_by_number(rig, places[0][0])
    extra = tuple((f"Component {c} · {letter}", say_place(*places[c - 1])) for c, letter in enumerate(element.order, 1))
    if places[0][0] != places[-1][0]:
        extra += (("Cut by the universe's end", f"{say_place(*places[0])} to {say_place(*places[-1])}"),)
    return Target(eid, 0, uid, places[0][1] if uid else 0, f"{element.name}/{pixel}", pixel, extra)


def of_slot(index: Index, universe: str, address: int) -> Target:
    here = index.spans_at_slot(universe, address)
    number = index.rig.universes[universe].number
    return Target(
        here[0].item_of_span if here else "",
        max(0, here[0].break_no) if here else 0,
        universe,
        address,
        say_place(number, address),
    )
