"""Edits of runs: attach, move, detach, change, split, feed. Each gives the new rig and what it touched."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from msgspec.structs import replace

from welvo.rig.abilities import ability_of_port, port_gives_what
from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_SACN as _HIGHEST
from welvo.rig.document import Change, Edit, Rig, fresh_id, join_changes, put_entries, put_rig
from welvo.rig.edits import add_feed, add_universe, names_of_few, set_port, take_out
from welvo.rig.lookup import feeds_of, main_sender, mode_of, name_of_item, universe_by_number, universe_ids
from welvo.rig.notation import say_count, say_place
from welvo.rig.patched import NOWHERE, Element, Fixture, Place
from welvo.rig.plan import model_of, nothing_out
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.refs import PortRef, SegmentRef
from welvo.rig.runs import PixelType, Segment, Supply, dmx_owner
from welvo.rig.wiring import Device, DeviceModel, Feed, Port, Sender, Universe
from welvo.runs.cable import Cables, PortStream
from welvo.runs.cut import cut_segments
from welvo.runs.pixels import streams_of, universes_of


def _port_of_device(rig: Rig, device_id: str, label: str) -> tuple[Device, Port]:
    """A port of a device; one that it lacks is refused by name."""
    device = rig.devices[device_id]
    model = model_of(rig, device_id)
    if model and label not in model.ports:
        raise Refused(f"A {model.name} has no port {label}; it has {', '.join(model.ports) or 'none'}.")
    return device, device.ports.get(label, Port())


def _put_run(
    rig: Rig, device_id: str, runs: dict[str, tuple[Segment, ...]], label: str, **parts: Mapping[str, object]
) -> Edit:
    device = rig.devices[device_id]
    ports = {**device.ports, **{p: replace(device.ports.get(p, Port()), run=run) for p, run in runs.items()}}
    ports = begin_ports(rig, device_id, ports)
    return keep_locked(rig, put_entries(rig, label, devices={device_id: replace(device, ports=ports)}, **parts))


def keep_locked(rig: Rig, edit: Edit) -> Edit:
    """The edit, when nothing locked that follows a cable moves by it. Raises Refused with who would, and where to.

    A lock is a promise that only the operator's own hand moves a lamp; along a cable it is what stands before it that
    would.
    """
    made, _ = edit
    listed = {
        k for d in rig.devices.values() for p in d.ports.values() for s in p.run for k in (s.element, *s.fixtures)
    }
    locked = [(k, b) for k in listed for b, p in enumerate(_places_of_item(rig, k)) if p.locked and p.from_run]
    locked = [(k, b) for k, b in locked if b < len(_places_of_item(made, k)) and _places_of_item(made, k)[b].locked]
    if not locked:
        return edit
    old, new = Cables(rig), Cables(made)
    for key, break_no in sorted(locked, key=lambda x: name_of_item(rig, x[0])):
        a, b = old.start_on_cable(key, break_no), new.start_on_cable(key, break_no)
        if a and a != b and new.ports_of_item(key):  # what is taken down was taken down by hand
            to = say_place(made.universes[b[0]].number, b[1]) if b else "nowhere"
            raise Refused(
                f"{name_of_item(rig, key)} is locked at {say_place(rig.universes[a[0]].number, a[1])} and would go to "
                f"{to}. Unlock it first."
            )
    return edit


def _places_of_item(rig: Rig, key: str) -> tuple[Place, ...]:
    fixture, element = rig.fixtures.get(key), rig.elements.get(key)
    return fixture.at if fixture else (element.at,) if element else ()


def begin_ports(rig: Rig, device_id: str, ports: dict[str, Port]) -> dict[str, Port]:
    """Ports that something was just attached to begin as the others of the device do, when one before them has a start.

    A device whose ports follow one another goes on like that; without an example each begins at the next universe.
    """
    device, model = rig.devices[device_id], model_of(rig, device_id)
    order = [p for p in (model.ports if model else ports) if port_gives_what(rig, device_id, p) == "pixels"]
    ways = [ports[p].follows for p in order if p in ports and ports[p].follows]
    follows = max(set(ways), key=ways.count) if ways else "universe"
    found = dict(ports)
    seen = False
    for p in order:
        port = ports.get(p)
        if port is None:
            continue
        fresh = port.run and not (device.ports[p].run if p in device.ports else ())
        if fresh and seen and not port.feed and not port.follows:
            found[p] = replace(port, follows=follows)
        seen = seen or bool(port.feed and port.run)
    return found


def check_fits(rig: Rig, device_id: str, label: str, segment: Segment) -> None:
    """Refuse what a port cannot carry at all: a dead port, pixels on a DMX port, a DMX line on a pixel port."""
    able = ability_of_port(rig, device_id, label)
    name = rig.devices[device_id].name
    if able.off:
        raise Refused(f"Mode “{able.off}” switches port {label} of {name} off; nothing can be attached to it.")
    if able.gives == "dmx" and segment.kind not in ("line", "extension"):
        raise Refused(
            f"Port {label} of {name} gives DMX: a DMX line can be attached to it, {_words_of_segment(segment)} cannot."
        )
    if able.gives == "pixels" and segment.kind == "line":
        raise Refused(f"Port {label} of {name} gives pixel data: a DMX line needs a bridge before it.")
    if able.gives == "bus":
        raise Refused(f"Port {label} of {name} is a lamp bus: neither pixels nor DMX can be attached to it.")
    fixture = rig.fixtures.get(segment.element)
    mode = mode_of(rig, fixture) if fixture else None
    if segment.kind == "pixels" and mode and len(mode.breaks) > 1:
        raise Refused(f"{name_of_item(rig, segment.element)} has breaks with addresses of their own; a cable has one.")


def _words_of_segment(segment: Segment) -> str:
    return {"null": "null pixels", "lamps": "a converter"}.get(
        segment.kind, f"a {segment.kind}" if segment.kind == "bridge" else segment.kind
    )


def attach_segments(
    rig: Rig, device_id: str, label: str, segments: list[Segment], at: int | None = None, follow: bool = True
) -> Edit:
    """Attach segments to a port, at place `at` of its run (from 0; None: at the end).

    Items without an address follow the cable from then on (`follow`); what has one keeps it.
    """
    _, port = _port_of_device(rig, device_id, label)
    for s in segments:
        check_fits(rig, device_id, label, s)
    where = len(port.run) if at is None else max(0, min(at, len(port.run)))
    run = (*port.run[:where], *segments, *port.run[where:])
    keys = [k for s in segments for k in (s.element, *s.fixtures) if k]
    fixtures, elements = hand_over_to_cable(rig, keys, only_new=True) if follow else ({}, {})
    words = (
        f"attach {names_of_few(rig, keys)}"
        if keys
        else f"attach {_words_of_segment(segments[0])}"
        if segments
        else "attach nothing"
    )
    return _put_run(
        rig,
        device_id,
        {label: run},
        f"{words} on {rig.devices[device_id].name} {label}",
        fixtures=fixtures,
        elements=elements,
    )


def first_port_for_pixels(rig: Rig, device_id: str) -> str:
    """The first port, as they are printed on the device, that puts out pixels; of a device without one its first."""
    model = model_of(rig, device_id)
    labels = model.ports if model else tuple(rig.devices[device_id].ports)
    return next((p for p in labels if port_gives_what(rig, device_id, p) == "pixels"), labels[0] if labels else "")


def insert_pixels(rig: Rig, device_id: str, label: str, n: int, pixels: int) -> Edit:
    """So many pixels more behind a segment, as a string of their own: to see what that would move."""
    element = rig.elements.get(_port_of_device(rig, device_id, label)[1].run[n].element)
    order = element.order if element and element.kind != "block" else "RGB"
    eid = fresh_id(rig.elements, "e")
    extra = Element(name=f"{pixels} more", pixels=pixels, order=order, at=Place(from_run=True))
    made, before = put_entries(rig, "", elements={eid: extra})
    made, after = attach_segments(made, device_id, label, [Segment(kind="pixels", element=eid)], n + 1)
    return made, join_changes(f"{pixels} pixels more", before, after)


def hand_over_to_cable(rig: Rig, keys: list[str], only_new: bool) -> tuple[dict[str, Fixture], dict[str, Element]]:
    """Items with their places given over to the cable: those without an address, or all but the locked ones."""
    fixtures: dict[str, Fixture] = {}
    elements: dict[str, Element] = {}
    for key in dict.fromkeys(keys):
        f, e = rig.fixtures.get(key), rig.elements.get(key)
        if e and e.at.origin_of_place != "run" and not e.at.locked and (e.at.origin_of_place == "none" or not only_new):
            elements[key] = replace(e, at=Place(from_run=True))
        mode = mode_of(rig, f) if f else None
        if f and mode:
            at = tuple(
                Place(from_run=True)
                if f.place_of_break(b).origin_of_place != "run"
                and not f.place_of_break(b).locked
                and (f.place_of_break(b).origin_of_place == "none" or not only_new)
                else f.place_of_break(b)
                for b in range(len(mode.breaks))
            )
            if at != f.at:
                fixtures[key] = replace(f, at=at)
    return fixtures, elements


class Following(NamedTuple):
    """What is attached to some ports, by how it gets its address now."""

    new: tuple[str, ...]
    typed: tuple[str, ...]
    locked: tuple[str, ...]
    already: tuple[str, ...]


def what_follows(rig: Rig, device_id: str, label: str = "") -> Following:
    """The items on a device's runs (or on one port): without an address, with one of their own, locked, following."""
    sorts: dict[str, list[str]] = {"new": [], "typed": [], "locked": [], "already": []}
    for port, planned in rig.devices[device_id].ports.items():
        if label and port != label:
            continue
        for s in planned.run:
            if s.kind == "lamps":
                continue
            for key in (s.element, *s.fixtures):
                f, e = rig.fixtures.get(key), rig.elements.get(key)
                place = e.at if e else f.place_of_break(0) if f else None
                if place is None:
                    continue
                sort = (
                    "already"
                    if place.origin_of_place == "run"
                    else "new"
                    if place.origin_of_place == "none"
                    else "locked"
                    if place.locked
                    else "typed"
                )
                sorts[sort].append(key)
    return Following(*(tuple(dict.fromkeys(v)) for v in sorts.values()))


def follow_runs(rig: Rig, device_id: str, label: str = "", all_of_them: bool = False) -> Edit:
    """Let what is attached to a device (or one port) take its addresses from the cable: the unpatched only, or all."""
    have = what_follows(rig, device_id, label)
    keys = [*have.new, *(have.typed if all_of_them else ())]
    if not keys:
        raise Refused("Nothing to patch: everything on these cables has an address already.")
    fixtures, elements = hand_over_to_cable(rig, keys, only_new=not all_of_them)
    where = f"{rig.devices[device_id].name}{f' {label}' if label else ''}"
    return put_entries(rig, f"patch {say_count(len(keys), 'item')} from {where}", fixtures=fixtures, elements=elements)


def fix_addresses(rig: Rig, cables: Cables, keys: list[str]) -> Edit:
    """Give items that follow a cable the address they have now, typed, so that they stay when the cable changes."""
    fixtures: dict[str, Fixture] = {}
    elements: dict[str, Element] = {}
    for key in keys:
        f, e = rig.fixtures.get(key), rig.elements.get(key)
        if e and e.at.origin_of_place == "run":
            start = cables.start_on_cable(key, 0)
            elements[key] = replace(e, at=Place(universe=start[0], address=start[1]) if start else NOWHERE)
        elif f:
            at = []
            for b, place in enumerate(f.at):
                start = cables.start_on_cable(key, b) if place.origin_of_place == "run" else None
                at.append(Place(universe=start[0], address=start[1]) if start else place)
            fixtures[key] = replace(f, at=tuple(at))
    return put_entries(rig, f"fix the addresses of {names_of_few(rig, keys)}", fixtures=fixtures, elements=elements)


def change_segment(rig: Rig, device_id: str, label: str, n: int, words: str = "", **fields: object) -> Edit:
    """Change fields of one segment."""
    _, port = _port_of_device(rig, device_id, label)
    new = replace(port.run[n], **fields)
    check_segment(new)
    run = tuple(new if i == n else s for i, s in enumerate(port.run))
    what = words or ", ".join(
        f"{k.replace('_', ' ')} {v}" for k, v in fields.items() if isinstance(v, str | int | float)
    )
    keys = [k for k in (new.element, *new.fixtures) if k and k not in (port.run[n].element, *port.run[n].fixtures)]
    fixtures, elements = hand_over_to_cable(rig, keys, only_new=True)
    return _put_run(
        rig, device_id, {label: run}, f"{what or 'change a segment'} on {label}", fixtures=fixtures, elements=elements
    )


def change_many(rig: Rig, places: Sequence[SegmentRef], words: str, **fields: object) -> Edit:
    """Give the same fields to many segments (device, port, place in the run) in one step."""
    devices: dict[str, Device] = {}
    for device_id, label, n in places:
        device = devices.get(device_id, rig.devices[device_id])
        port = device.ports[label]
        new = replace(port.run[n], **fields)
        check_segment(new)
        run = tuple(new if i == n else s for i, s in enumerate(port.run))
        devices[device_id] = replace(device, ports={**device.ports, label: replace(port, run=run)})
    return keep_locked(rig, put_entries(rig, f"{words} of {say_count(len(places), 'segment')}", devices=devices))


def set_pixels(rig: Rig, eid: str, words: str, **fields: object) -> Edit:
    """Change an element: name, pixels, order, how it lies. What follows it on its cables moves."""
    element = replace(rig.elements[eid], **fields)
    if not element.name.strip():
        raise Refused("An element needs a name; its pixels are called by it.")
    return keep_locked(rig, put_entries(rig, f"{words} of {rig.elements[eid].name}", elements={eid: element}))


def check_segment(s: Segment) -> None:
    if not s.group >= 1:
        raise Refused("A group has one LED at least.")
    if s.width > 512 or s.width < 0:
        raise Refused(f"A bridge has 1 to 512 slots; {s.width} is too many.")
    if s.count > 100_000 or s.first > 100_000:
        raise Refused("An item has 100 000 pixels at most.")
    if 0 < s.spacing < len(s.functions):
        raise Refused(
            f"The lamps have {say_count(len(s.functions), 'channel')} each; from start to start there must be as many "
            f"slots at least, and {s.spacing} is less."
        )
    for key, dmx in s.dmx.items():
        if not 1 <= dmx <= 512:
            raise Refused(f"There is no DMX address {dmx}: a line has 1 to 512.")
        if not dmx_owner(key, s.fixtures):
            raise Refused("Only what is attached behind it can have a DMX address there.")
    if not 0 <= s.brightness <= 1:
        raise Refused("Brightness runs from 0 to 100 %.")
    if not 0 < s.gamma <= 5:
        raise Refused("Gamma runs from above 0 to 5; 1 is none.")


def take_down(rig: Rig, device_id: str, label: str, places: list[int]) -> Edit:
    """Take segments off a port. What followed the cable there has no address then, unless it is attached elsewhere."""
    _, port = _port_of_device(rig, device_id, label)
    gone = [port.run[n] for n in places]
    run = tuple(s for n, s in enumerate(port.run) if n not in places)
    new, _ = _put_run(rig, device_id, {label: run}, "")
    cables = Cables(new)
    keys = {k for s in gone for k in (s.element, *s.fixtures) if k and not cables.ports_of_item(k)}
    elements = {
        k: replace(rig.elements[k], at=NOWHERE)
        for k in keys
        if k in rig.elements and rig.elements[k].at.origin_of_place == "run"
    }
    fixtures = {
        k: replace(rig.fixtures[k], at=tuple(NOWHERE if p.origin_of_place == "run" else p for p in rig.fixtures[k].at))
        for k in keys
        if k in rig.fixtures and any(p.origin_of_place == "run" for p in rig.fixtures[k].at)
    }
    words = f"take {say_count(len(gone), 'segment')} off {rig.devices[device_id].name} {label}"
    return _put_run(rig, device_id, {label: run}, words, fixtures=fixtures, elements=elements)


def move_segment(rig: Rig, device_id: str, label: str, n: int, to: str, at: int) -> Edit:
    """Move a segment to place `at` of the run of port `to`; everything behind it in both moves."""
    _, port = _port_of_device(rig, device_id, label)
    segment = port.run[n]
    check_fits(rig, device_id, to, segment)
    rest = tuple(s for i, s in enumerate(port.run) if i != n)
    if to == label:
        at = max(0, min(at, len(rest)))
        runs = {label: (*rest[:at], segment, *rest[at:])}
    else:
        _, other = _port_of_device(rig, device_id, to)
        at = max(0, min(at, len(other.run)))
        runs = {label: rest, to: (*other.run[:at], segment, *other.run[at:])}
    return _put_run(rig, device_id, runs, f"move a segment to {to}, place {at + 1}")


_INSIDE = {"bridge": "a bridge", "lamps": "a converter"}
"""What a cable cannot be opened inside, by the kind of its segment."""


def insert_at_pixel(rig: Rig, device_id: str, label: str, px: int, segments: list[Segment]) -> Edit:
    """Attach segments so that the first begins at pixel `px` (from 1) of the port, along its cable; what is there is
    cut.

    Raises Refused when that would cut a bridge, a converter, a lamp, a block of slots, or a group of LEDs.
    """
    cables = Cables(rig)
    stream = cables.streams.get(PortRef(device_id, label))
    if stream is None or px > stream.pixels:
        return attach_segments(rig, device_id, label, segments)
    piece = next(p for p in stream.pieces if p.px <= px < p.px + p.pixels)
    if px == piece.px:
        return attach_segments(rig, device_id, label, segments, piece.n)
    s = piece.segment
    if s.kind != "pixels" or piece.key in rig.fixtures or not piece.leds:
        is_block = piece.key in rig.elements and s.kind == "pixels"
        inside = "a block of slots" if is_block else _INSIDE.get(s.kind, "a lamp")
        raise Refused(f"Pixel {px} of port {label} is inside {inside}; it cannot be cut.")
    front, behind = cut_segments(s, piece.leds, (px - piece.px) * s.group, rig.elements.get(piece.key))
    run = rig.devices[device_id].ports[label].run
    for one in segments:
        check_fits(rig, device_id, label, one)
    keys = [k for one in segments for k in (one.element, *one.fixtures) if k]
    fixtures, elements = hand_over_to_cable(rig, keys, only_new=True)
    return _put_run(
        rig,
        device_id,
        {label: (*run[: piece.n], *front, *segments, *behind, *run[piece.n + 1 :])},
        f"insert at pixel {px} of port {label}",
        fixtures=fixtures,
        elements=elements,
    )


# ---- splitting one element over ports


class PortShare(NamedTuple):
    """What one port gets of an element that is split: `pixels` pixels from `first` on, counted there or back."""

    label: str
    first: int
    pixels: int
    reverse: bool


def split_shares(
    pixels: int,
    ports: list[str],
    row: int = 0,
    rows_each: int = 0,
    there_and_back: bool = False,
    last_first: bool = False,
) -> list[PortShare]:
    """Shares of an element of `pixels`: equal parts, or whole rows of `row` pixels, `rows_each` to a port (0: evenly).

    `there_and_back` turns every second share round, `last_first` begins with the last pixels. Raises Refused
    when the rows do not come out, or the ports do not hold them all.
    """
    if not ports:
        raise Refused("No port is chosen to split it over.")
    if row and pixels % row:
        raise Refused(f"{pixels} pixels are not whole rows of {row}: {pixels % row} are left over.")
    units, size = (pixels // row, row) if row else (pixels, 1)
    each = rows_each or -(-units // len(ports))
    if each * len(ports) < units:
        raise Refused(
            f"{say_count(len(ports), 'port')} with {each} rows each hold {each * len(ports)} of {units} rows."
        )
    found = []
    for n, label in enumerate(ports):
        first, last = n * each, min(units, (n + 1) * each)
        if first >= last:
            break
        turned = there_and_back and n % 2 == 1
        found.append(PortShare(label, first * size + 1, (last - first) * size, turned))
    if last_first:
        labels = [s.label for s in found]
        found = [PortShare(label, s.first, s.pixels, s.reverse) for label, s in zip(labels, reversed(found))]
    return found


def split_over_ports(rig: Rig, key: str, device_id: str, shares: list[PortShare], fold: int = 0) -> Edit:
    """Attach an element in parts to several ports of a device, in place of wherever it was attached to this device."""
    element = rig.elements[key]
    device = rig.devices[device_id]
    runs = {
        label: tuple(s for s in port.run if s.element != key)
        for label, port in device.ports.items()
        if any(s.element == key for s in port.run)
    }
    for s in shares:
        _, port = _port_of_device(rig, device_id, s.label)
        segment = Segment(kind="pixels", element=key, first=s.first, count=s.pixels, reverse=s.reverse, fold=fold)
        check_fits(rig, device_id, s.label, segment)
        runs[s.label] = (*runs.get(s.label, port.run), segment)
    _, elements = hand_over_to_cable(rig, [key], only_new=True)
    return _put_run(
        rig, device_id, runs, f"split {element.name} over {say_count(len(shares), 'port')}", elements=elements
    )


# ---- universes and feeds


class UniverseNeed(NamedTuple):
    """What a device's streams need: universes in all, those the rig lacks, those without a feed, the last one's
    need."""

    numbers: tuple[int, ...]
    missing: tuple[int, ...]
    unfed: tuple[int, ...]
    last: tuple[int, int]


def fit_universes(rig: Rig, cables: Cables, device_id: str) -> UniverseNeed:
    need = universes_of(cables, device_id)
    by_number = universe_ids(rig)
    fed = {f.universe for f in rig.feeds.values()}
    missing = tuple(n for n in need if n not in by_number)
    unfed = tuple(n for n in need if n in by_number and by_number[n] not in fed)
    last = max(need) if need else 0
    return UniverseNeed(tuple(need), missing, unfed, (last, need.get(last, 0)))


def begin_at(rig: Rig, device_id: str, number: int, follows: str) -> Edit:
    """Let a device's streams begin at a universe: its first port with pixels there, the others packed or at the next.

    `follows` is `packed` or `universe`. The first universe is made and fed when it is not there.
    """
    if follows not in ("packed", "universe"):
        raise Refused(f"“{follows}” is no way to place ports: packed, or each at a universe of its own.")
    if not 1 <= number <= _HIGHEST:
        raise Refused(f"There is no universe {number}: universes run from 1 to {_HIGHEST}.")
    device, model = rig.devices[device_id], model_of(rig, device_id)
    order = [p for p in (model.ports if model else device.ports) if port_gives_what(rig, device_id, p) == "pixels"]
    wanted = [p for p in order if p in device.ports and (device.ports[p].run or device.ports[p].pixels)]
    if not wanted:
        raise Refused(f"Nothing is attached to {device.name} yet: attach something first.")
    now, changes = rig, list[Change]()
    uid = universe_by_number(rig, number)
    if not uid:
        now, change = add_universe(now, number)
        uid = change.made[0]
        changes.append(change)
    fid = next(iter(feeds_of(now, uid)), "")
    if not fid:
        now, change = add_feed(now, uid)
        fid = change.made[0]
        changes.append(change)
    ports = dict(device.ports)
    for n, p in enumerate(wanted):
        first = n == 0
        ports[p] = replace(ports[p], feed=fid if first else "", start=1, follows="" if first else follows)
    words = f"{device.name} begins at universe {number}"
    now, change = put_entries(now, words, devices={device_id: replace(device, ports=ports)})
    return now, join_changes(words, *changes, change)


def make_to_fit(rig: Rig, device_id: str, headroom: int = 0) -> Edit:
    """Make and feed every universe that a device's streams go through, and `headroom` more behind the last.

    A new one goes out like the port's first universe does, its number on the wire as far on as the universe itself.
    """
    cables = Cables(rig)
    streams = [s for s in streams_of(cables, device_id) if s.start]
    if not streams:
        raise Refused(f"No port of {rig.devices[device_id].name} has a universe to begin at yet.")
    numbers = universe_ids(rig)
    fed = {f.universe for f in rig.feeds.values()}
    need = universes_of(cables, device_id)
    start = streams[0].start
    assert start
    top = max(need, default=start[0])
    wanted = [n for n in (*need, *range(top + 1, top + 1 + headroom)) if numbers.get(n) not in fed]
    if (wanted and wanted[-1] > _HIGHEST) or any(slots_not_laid(x) for x in streams):
        raise Refused(f"More universes would be needed than there are: they end at {_HIGHEST}.")
    if not wanted:
        raise Refused("Every universe that is needed is there and fed.")
    example = next((f for f in rig.feeds.values() if f.universe == numbers.get(start[0])), None)
    senders: dict[str, Sender] = {}
    who = example.sender if example else main_sender(rig)
    if not who:
        who = fresh_id(rig.senders, "s")
        senders[who] = Sender(name="Bench", kind="bench")
    universes: dict[str, Universe] = {}
    feeds: dict[str, Feed] = {}
    uid_n, fid_n = len(rig.universes), len(rig.feeds)
    for number in wanted:
        uid = numbers.get(number, "")
        while not uid or uid in universes:
            uid_n += 1
            uid = "" if f"u{uid_n}" in rig.universes else f"u{uid_n}"
        if number not in numbers:
            universes[uid] = Universe(number=number)
        fid = ""
        while not fid:
            fid_n += 1
            fid = "" if f"w{fid_n}" in rig.feeds else f"w{fid_n}"
        feeds[fid] = _feed_like_first(example, who, uid, number, start[0])
    words = f"make and feed {say_count(len(wanted), 'universe')} for {rig.devices[device_id].name}"
    return put_entries(rig, words, universes=universes, feeds=feeds, senders=senders)


def slots_not_laid(stream: PortStream) -> int:
    """Slots of a stream that would lie past the highest universe."""
    return stream.slots - sum(p.last - p.first + 1 for piece in stream.pieces for p in piece.parts)


def _feed_like_first(example: Feed | None, sender: str, universe: str, number: int, first: int) -> Feed:
    """A feed like the first universe's, its number on the wire as far on; without an example sACN multicast."""
    if example is None:
        return Feed(universe=universe, sender=sender, wire=number)
    record = PROTOCOLS[example.protocol]
    wire = example.wire + number - first if record.has_universe_numbers else example.wire
    if not record.can_carry_number(wire):
        raise Refused(f"Universe {number} would need {record.number} {wire}, which does not exist.")
    return replace(example, universe=universe, wire=wire)


def begin_and_make(rig: Rig, device_id: str, number: int, follows: str, headroom: int = 0) -> Edit:
    """Let a device begin at a universe, and make and feed every universe it needs from there on, in one step."""
    now, change = begin_at(rig, device_id, number, follows)
    cables = Cables(now)
    need = fit_universes(now, cables, device_id)
    if any(s.start and slots_not_laid(s) for s in streams_of(cables, device_id)):
        raise Refused(f"More universes would be needed than there are: they end at {_HIGHEST}.")
    if not (need.missing or need.unfed or headroom):
        return now, change
    now, more = make_to_fit(now, device_id, headroom)
    return now, join_changes(change.label, change, more)


def first_free_universe(rig: Rig) -> int:
    """The number behind the highest that anything stands in or is fed; 1 in an empty rig."""
    return min(_HIGHEST, max((u.number for u in rig.universes.values()), default=0) + 1)


def switched_off(rig: Rig, device_id: str, mode: str) -> tuple[list[str], list[str]]:
    """What a mode of a device would leave without output: ports that are fed or have a cable, and the items there."""
    device = rig.devices[device_id]
    as_if = replace(rig, devices={**rig.devices, device_id: replace(device, mode=mode)})
    ports = [
        label
        for label, port in device.ports.items()
        if (port.feed or port.run) and nothing_out(as_if, device_id, label) and not nothing_out(rig, device_id, label)
    ]
    items = dict.fromkeys(k for p in ports for s in device.ports[p].run for k in (s.element, *s.fixtures) if k)
    return ports, list(items)


def set_device_way(rig: Rig, device_id: str, words: str, **fields: object) -> Edit:
    """Change how a device works: mode, firmware, size, packs, brightness. A mode or firmware that it lacks is
    refused."""
    device, model = rig.devices[device_id], model_of(rig, device_id)
    mode = fields.get("mode")
    if isinstance(mode, str) and mode and model and not model.output_mode(mode):
        have = ", ".join(f"“{m.name}”" for m in model.modes) or "none"
        raise Refused(f"A {model.name} has no mode “{mode}”; it has {have}.")
    size = fields.get("size")
    if size is not None and size and model and model.universe_size and size != model.universe_size:
        raise Refused(f"A {model.name} takes {model.universe_size} slots of a universe, never {size}.")
    if fields.get("packs") == "dense" and model and not model.straddles:
        raise Refused(f"A {model.name} cannot take a pixel that is cut by a universe's end; keep them whole.")
    return keep_locked(rig, put_entries(rig, words, devices={device_id: replace(device, **fields)}))


def set_stream(rig: Rig, device_id: str, label: str, words: str, **fields: object) -> Edit:
    """Change how a port's stream begins or is configured."""
    _port_of_device(rig, device_id, label)
    start = fields.get("start")
    if isinstance(start, int) and not 1 <= start <= 512:
        raise Refused(f"There is no address {start}: a universe has addresses 1 to 512.")
    pixels = fields.get("pixels")
    if isinstance(pixels, int) and not 0 <= pixels <= 100_000:
        raise Refused("A port is configured for 0 to 100 000 pixels.")
    return keep_locked(rig, set_port(rig, device_id, label, words, **fields))


def add_supply(rig: Rig, name: str, volts: float, amps: float) -> Edit:
    if not name.strip():
        raise Refused("A supply needs a name.")
    sid = fresh_id(rig.supplies, "v")
    supply = Supply(name=name.strip(), volts=volts, amps=amps)
    return put_entries(rig, f"add supply {name}", supplies={sid: supply}, made=(sid,))


def set_pixel_type(rig: Rig, eids: list[str], key: str, kind: PixelType | None) -> Edit:
    """Say which kind of pixels elements are made of; a kind that the rig does not have yet is copied into it."""
    new = {key: kind} if key and kind and key not in rig.pixel_types else {}
    words = (
        f"{names_of_few(rig, eids)} {'is' if len(eids) == 1 else 'are'} "
        f"{kind.name if kind and key else 'of no known kind'}"
    )
    return put_entries(rig, words, elements={e: replace(rig.elements[e], type=key) for e in eids}, pixel_types=new)


def put_pixel_kind(rig: Rig, key: str, kind: PixelType) -> Edit:
    """Put a kind of pixels into the rig, or another version of one in its place; all elements of it follow."""
    return put_entries(rig, f"kind of pixels {kind.name}", pixel_types={key: kind})


def follow_cable(rig: Rig, key: str) -> Edit:
    """Let one item take its address from its cable, whatever it has now. A locked one is refused."""
    fixtures, elements = hand_over_to_cable(rig, [key], only_new=False)
    if not elements and not fixtures:
        raise Refused(f"{name_of_item(rig, key)} follows its cable already, or is locked where it is.")
    return put_entries(rig, f"{name_of_item(rig, key)} follows its cable", fixtures=fixtures, elements=elements)


def set_guidance(rig: Rig, metres: float) -> Edit:
    """How long a DMX line may be in this rig before it is worth a finding."""
    return put_rig(rig, f"DMX lines of {metres:g} m", line_metres=metres)


def set_bridge_model(rig: Rig, device_id: str, label: str, n: int, key: str, model: DeviceModel | None = None) -> Edit:
    """Say what kind of bridge a segment is; a model that the rig does not have yet is copied into it.

    A width that the model does not have is cut to what it has.
    """
    models = {}
    if model is not None:
        key = fresh_id(rig.device_models, "m")
        models[key] = model
    _, port = _port_of_device(rig, device_id, label)
    segment = replace(port.run[n], model=key)
    chosen = model or rig.device_models.get(key)
    if chosen and segment.width > chosen.slots_per_port:
        segment = replace(segment, width=chosen.slots_per_port)
    run = tuple(segment if i == n else s for i, s in enumerate(port.run))
    new, change = _put_run(
        rig,
        device_id,
        {label: run},
        f"bridge on port {label} is {chosen.name if chosen else 'of no model'}",
        device_models=models,
    )
    return new, change


def set_model(rig: Rig, key: str, model: DeviceModel) -> Edit:
    """Put another version of a model in place of one that the rig uses.

    Ports that it lacks keep what is attached to them, which is a finding then; where nothing is attached, their feeds
    and settings go with them.
    """
    devices = {}
    for device_id, d in rig.devices.items():
        ports = {p: v for p, v in d.ports.items() if d.model != key or p in model.ports or v.run}
        if len(ports) < len(d.ports):
            devices[device_id] = replace(d, ports=ports)
    return put_entries(rig, f"change model {model.name}", device_models={key: model}, devices=devices)


def remove_supply(rig: Rig, sid: str) -> Edit:
    """Take a supply out; segments that it fed get their power from before then."""
    return take_out(rig, f"remove supply {rig.supplies[sid].name}", "supplies", [sid])
