"""What is to be attached to a cable, as it is typed: `21 x 55 RGB ribbon, 3 to a port, there and back`."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from welvo.rig import layout
from welvo.rig.abilities import ability_of_port
from welvo.rig.base import Refused
from welvo.rig.colours import STRAIGHT, straight_order
from welvo.rig.counting import Stretch, free_between
from welvo.rig.document import Edit, Rig, fresh_ids, join_changes, put_entries
from welvo.rig.lookup import code_for, find_item_named, lowest_free_tint, mode_of, name_of_item
from welvo.rig.notation import metric, read_numbers, say_count, say_thousands
from welvo.rig.patched import Element, Place
from welvo.rig.plan import model_of
from welvo.rig.runs import PixelType, Segment
from welvo.rig.wiring import Port
from welvo.runs.edits import begin_ports, check_fits, hand_over_to_cable, insert_at_pixel
from welvo.runs.lamps import read_functions
from welvo.runs.orders import Names, names_of_orders, setting_for

HELP = (
    "21 x 55 RGB ribbon, 3 to a port, there and back · 60 RGB spare of Silk 60 at 27 · 2 x 8x8 panel · ring 60 RGB "
    "halo · block 16 pumps · 165 ribbon fold 55 · bridge 64: 201-205 · "
    "null 3 · cable 4 m · lamps 5: dimmer red green blue · line: 101-112 · a name or number · ribbon 51-100"
)
_ORDER = rf"(?:\s+(?-i:([{STRAIGHT}]{{3,6}}|(?=[a-z]*r)(?=[a-z]*g)(?=[a-z]*b)[{STRAIGHT.lower()}]{{3,6}})))?"
"""An order in capitals, or in small letters when red, green and blue are among them: “band” and “ball” are names."""


class WishPart(Struct, frozen=True):
    """One part of what was typed: new elements and the segments that attach them, how many to a port, on which port."""

    elements: tuple[Element, ...] = ()
    segments: tuple[Segment, ...] = ()
    to_a_port: int = 0
    on: str = ""
    words: str = ""
    at: int = 0
    """The pixel of the port (from 1) that it is to begin at, 0: behind what is attached there."""
    kind: str = ""


class AttachWish(Struct, frozen=True):
    """All of it, placed: segments by port in order, the elements to be made, and a sentence for the preview."""

    ports: dict[str, tuple[Segment, ...]] = field(default_factory=dict)
    elements: dict[str, Element] = field(default_factory=dict)
    says: str = ""
    at: int = 0
    kinds: dict[str, PixelType] = field(default_factory=dict)


def _of_kind(body: str, kinds: dict[str, PixelType]) -> tuple[str, str]:
    """`55 RGB ribbon of Silk 60` → (the rest, key of the kind)."""
    m = re.search(r"\s+of\s+(.+?)\s*$", body, re.IGNORECASE)
    if not m:
        return body, ""
    key = next((k for k, v in kinds.items() if v.name.lower() == m[1].strip().lower()), "")
    if not key:
        raise Refused(
            f"“{m[1].strip()}” is no kind of pixels known here: {', '.join(v.name for v in kinds.values()) or 'none'}."
        )
    return body[: m.start()], key


def _made_of(element: Element, segment: Segment, key: str, kind: PixelType, names: Names) -> tuple[Element, Segment]:
    """An element of a kind is sent in straight order, and the controller puts it out as its chips take it."""
    order = element.order if sorted(element.order) == sorted(kind.order) else straight_order(kind.order)
    return replace(element, type=key, order=order), replace(segment, order=setting_for(order, kind.order, names))


def read_item(rig: Rig, text: str, kinds: dict[str, PixelType] | None = None, names: Names = "out") -> WishPart:
    """One part, for a device that names colour orders as `names` says. Raises Refused that says what would do."""
    body = text.strip()
    to_a_port, on, back, fold = 0, "", False, 0
    m = re.search(r",?\s*\b(\d+)\s+(?:to|on|per)\s+(?:a|each|one)?\s*port\b", body, re.IGNORECASE)
    if m:
        to_a_port, body = int(m[1]), body[: m.start()] + body[m.end() :]
        if not to_a_port:
            raise Refused("0 to a port attaches nothing.")
    m = re.search(r",?\s*\bon\s+(?:port\s+)?(\S+)\s*$", body, re.IGNORECASE)
    if m:
        on, body = m[1], body[: m.start()]
    at = 0
    m = re.search(r",?\s*\bat\s+(?:px\s+|pixel\s+)?(\d+)\s*$", body, re.IGNORECASE)
    if m:
        at, body = int(m[1]), body[: m.start()]
        if not at:
            raise Refused("Pixels of a port count from 1.")
    m = re.search(r",?\s*\bthere and back\b", body, re.IGNORECASE)
    if m:
        back, body = True, body[: m.start()] + body[m.end() :]
    m = re.search(r",?\s*\bfold(?:ed)?(?:\s+every)?\s+(\d+)\b", body, re.IGNORECASE)
    if m:
        fold, body = int(m[1]), body[: m.start()] + body[m.end() :]
    body, kind = _of_kind(body.strip(" ,"), kinds if kinds is not None else rig.pixel_types)
    made = (
        _read_special(rig, body)
        or _read_panel(rig, body, fold)
        or _read_ring(rig, body, fold)
        or _read_ribbon(rig, body, fold)
        or _read_known_items(rig, body, fold)
    )
    segments = made.segments
    if back:
        segments = tuple(replace(s, reverse=True) if n % 2 else s for n, s in enumerate(segments))
    elements = made.elements
    if kind:
        if not elements:
            raise Refused("Only something new can be said to be of a kind; of the rest the panel says it.")
        pairs = [_made_of(e, s, kind, (kinds or rig.pixel_types)[kind], names) for e, s in zip(elements, segments)]
        elements, segments = tuple(e for e, _ in pairs), tuple(s for _, s in pairs)
    return WishPart(elements, segments, to_a_port, on, made.words, at, kind)


def _read_special(rig: Rig, body: str) -> WishPart | None:
    m = re.fullmatch(r"(?:(\d+)\s+)?null(?:\s+pixels?)?(?:\s+(\d+))?", body, re.IGNORECASE)
    if m:
        n = int(m[1] or m[2] or 1)
        if not 1 <= n <= 100_000:
            raise Refused("Null pixels: 1 to 100 000.")
        return WishPart((), (Segment(kind="null", count=n),), words=say_count(n, "null pixel"))
    m = re.fullmatch(r"(?:cable|extension)(?:\s+(\d+(?:[.,]\d+)?)\s*m?)?", metric(body), re.IGNORECASE)
    if m:
        metres = float((m[1] or "1").replace(",", "."))
        return WishPart((), (Segment(kind="extension", length=metres),), words=f"{metres:g} m of cable")
    m = re.fullmatch(r"bridge(?:\s+(\d+))?(?:\s+slots?)?(?:\s*:\s*(.+))?", body, re.IGNORECASE)
    if m:
        behind = _read_fixtures(rig, m[2]) if m[2] else ()
        need = sum(b.slots for k in behind if (mode := mode_of(rig, rig.fixtures[k])) for b in mode.breaks)
        width = int(m[1]) if m[1] else min(512, max(need, 1) if behind else 64)
        if not 1 <= width <= 512:
            raise Refused(f"A bridge has 1 to 512 slots; {m[1]} is none.")
        model = next((k for k, v in rig.device_models.items() if v.kind == "bridge"), "")
        segment = Segment(kind="bridge", width=width, fixtures=behind, model=model)
        return WishPart((), (segment,), words=f"a bridge of {width} slots with {say_count(len(behind), 'fixture')}")
    m = re.fullmatch(r"line(?:\s*:\s*(.+))?", body, re.IGNORECASE)
    if m:
        on_line = _read_fixtures(rig, m[1]) if m[1] else ()
        return WishPart(
            (), (Segment(kind="line", fixtures=on_line),), words=f"a DMX line of {say_count(len(on_line), 'fixture')}"
        )
    m = re.fullmatch(r"lamps\s+(\d[\d\s,–-]*)(?:\s*:\s*(.+))?", body, re.IGNORECASE)
    if m:
        named = () if m[1].strip().isdecimal() else _read_fixtures(rig, m[1])  # one number alone says how many
        n = len(named) or int(m[1])
        if not 1 <= n <= 512:
            raise Refused("A converter drives 1 to 512 lamps.")
        functions = read_functions(m[2] or "red green blue")
        element = Element(name="lamps", pixels=n, order="RGB")
        segment = Segment(kind="lamps", functions=functions, fixtures=named)
        return WishPart((element,), (segment,), words=say_count(n, "lamp"))
    return None


def _read_panel(rig: Rig, body: str, fold: int) -> WishPart | None:
    m = re.fullmatch(rf"(?:(\d+)\s+[x×]\s+)?(?:rows\s+)?(\d+)[x×](\d+){_ORDER}(?:\s+(.+))?", body)
    if not m:
        return None
    n, wide, high = int(m[1] or 1), int(m[2]), int(m[3])
    pixels = wide * high
    _check_pixel_count(n, pixels)
    spots = layout.lay_out_rows(pixels, high) if pixels <= 4096 else ()
    made = [
        Element(name=name, kind="rows", pixels=pixels, order=(m[4] or "RGB").upper(), spots=spots)
        for name in _names_of_series(rig, m[5] or "panel", n)
    ]
    return _number_series(
        made, fold, f"{say_count(n, 'panel')} of {wide} × {high} pixels" + (f", {pixels} each" if n > 1 else "")
    )


def _read_ring(rig: Rig, body: str, fold: int) -> WishPart | None:
    """`2 x ring 60 RGB halo`, `block 16 pumps`."""
    m = re.fullmatch(rf"(?:(\d+)\s*[x×]\s+)?ring\s+(\d+){_ORDER}(?:\s+(.+))?", body, re.IGNORECASE)
    if m:
        n, pixels = int(m[1] or 1), int(m[2])
        _check_pixel_count(n, pixels)
        spots = layout.lay_out_ring(pixels) if pixels <= 4096 else ()
        order = (m[3] or "RGB").upper()
        made = [
            Element(name=w, kind="ring", pixels=pixels, order=order, spots=spots)
            for w in _names_of_series(rig, m[4] or "ring", n)
        ]
        return _number_series(made, fold, f"{say_count(n, 'ring')} of {say_count(pixels, 'pixel')}")
    m = re.fullmatch(r"block\s+(\d+)(?:\s+(.+))?", body, re.IGNORECASE)
    if m:
        slots = int(m[1])
        if not 1 <= slots <= 32767:
            raise Refused("A block has 1 to 32 767 slots.")
        (name,) = _names_of_series(rig, m[2] or "block", 1)
        return WishPart(
            (Element(name=name, kind="block", slots=slots),),
            (Segment(kind="pixels"),),
            words=f"a block of {say_count(slots, 'slot')}",
        )
    return None


def _read_ribbon(rig: Rig, body: str, fold: int) -> WishPart | None:
    m = re.fullmatch(rf"(?:(\d+)\s*[x×]\s+)?(\d+)(?:\s*px|\s+pixels?)?{_ORDER}(?:\s+(.+))?", body)
    if not m or (not m[1] and not m[3] and not m[4] and find_item_named(rig, m[2])):
        return None
    n, pixels = int(m[1] or 1), int(m[2])
    _check_pixel_count(n, pixels)
    made = [
        Element(name=name, pixels=pixels, order=(m[3] or "RGB").upper())
        for name in _names_of_series(rig, m[4] or "ribbon", n)
    ]
    return _number_series(
        made, fold, f"{say_thousands(n)} × {say_thousands(pixels)} pixels" if n > 1 else say_count(pixels, "pixel")
    )


def _read_known_items(rig: Rig, body: str, fold: int) -> WishPart:
    """Items of the rig by name or number."""
    keys: list[str] = []
    parts: dict[str, tuple[Stretch, ...]] = {}
    for part in (p.strip() for p in body.split(",") if p.strip()):
        key = find_item_named(rig, part)
        if key:
            keys.append(key)
            continue
        m = re.fullmatch(r"(.+?)\s+(\d+)\s*[-–]\s*(\d+)", part)
        key = find_item_named(rig, m[1]) if m else ""
        if m and key in rig.elements:
            keys.append(key)
            parts[key] = (*parts.get(key, ()), _stretch_of(rig.elements[key], int(m[2]), int(m[3])))
            continue
        try:
            numbers = read_numbers(part)
        except Refused:
            raise Refused(
                f"“{part}” is nothing of this rig and nothing that can be attached. Write, for example: 3 x 55 RGB "
                "ribbon"
            ) from None
        keys += _by_number(rig, numbers)
    if not keys:
        raise Refused(f"Say what is to attach: {HELP.split(' · ')[0]}")
    segments: list[Segment] = []
    words: list[str] = []
    for k in dict.fromkeys(keys) if parts else keys:
        whole = Segment(kind="pixels", element=k, fold=fold or _own_fold(rig, k))
        stretches = parts.get(k) or _left_of(rig, k)
        segments += [replace(whole, first=a, count=b - a + 1) for a, b in stretches] or [whole]
        words.append(name_of_item(rig, k) + (f" {_say_stretches(stretches)}" if stretches else ""))
    return WishPart((), tuple(segments), words=", ".join(words[:4]) + (" …" if len(words) > 4 else ""))


def _stretch_of(element: Element, first: int, last: int) -> Stretch:
    most = element.slots if element.kind == "block" else element.pixels
    if not 1 <= first <= last <= most:
        raise Refused(f"{element.name} has pixels 1 to {say_thousands(most)}; {first}-{last} is no part of it.")
    return first, last


def _left_of(rig: Rig, key: str) -> tuple[Stretch, ...]:
    """The pixels of an element that is attached in part which are on no port yet; none where it is on no port at all,
    or whole: then it is meant whole."""
    element = rig.elements.get(key)
    if element is None or element.kind == "block":
        return ()
    taken = [
        (s.first, s.first + (s.count or element.pixels - s.first + 1) - 1)
        for device in rig.devices.values()
        for port in device.ports.values()
        for s in port.run
        if s.kind == "pixels" and s.element == key
    ]
    return tuple(free_between(sorted(taken), element.pixels)) if taken else ()


def _say_stretches(stretches: Sequence[Stretch]) -> str:
    return ", ".join(f"{a}–{b}" for a, b in stretches)


def _own_fold(rig: Rig, key: str) -> int:
    element = rig.elements.get(key)
    return element.fold if element and element.unfolds == "box" else 0


def _read_fixtures(rig: Rig, text: str) -> tuple[str, ...]:
    return tuple(_by_number(rig, read_numbers(text)))


def _by_number(rig: Rig, numbers: list[int]) -> list[str]:
    by = {f.number: k for k, f in rig.fixtures.items()}
    missing = [n for n in numbers if n not in by]
    if missing:
        raise Refused(f"There is no fixture {missing[0]} in this rig.")
    twice = [n for n, many in Counter(numbers).items() if many > 1]
    if twice:
        raise Refused(f"{twice[0]} is named twice; a fixture is attached in one place.")
    return [by[n] for n in numbers]


def _check_pixel_count(n: int, pixels: int) -> None:
    if not 1 <= pixels <= 100_000:
        raise Refused(f"An element has 1 to 100 000 pixels; {say_thousands(pixels)} is no such number.")
    if not 1 <= n <= 2000:
        raise Refused(f"{say_thousands(n)} at once is too many; 2 000 is the most.")


def _names_of_series(rig: Rig, stem: str, n: int) -> list[str]:
    """`ribbon 1` … for several, going on behind those there are; the bare name for one alone if it is free."""
    taken = {e.name.lower() for e in rig.elements.values()}
    stem = stem.strip()
    if n == 1 and stem.lower() not in taken:
        return [stem]
    at, found = 1, list[str]()
    while len(found) < n:
        if f"{stem} {at}".lower() not in taken:
            found.append(f"{stem} {at}")
        at += 1
    return found


def _number_series(made: list[Element], fold: int, words: str) -> WishPart:
    if fold:
        made = [replace(e, fold=fold) for e in made]
        words += f", folded every {fold}"
    return WishPart(tuple(made), tuple(Segment(kind="pixels", fold=fold) for _ in made), words=words)


def _elements_of(rig: Rig, item: WishPart) -> dict[str, Element]:
    """The new elements that one part of a line asks for, by id: of one tint, as they belong together."""
    tint, code = lowest_free_tint(rig), code_for(rig, item.elements[0].name)
    ids = fresh_ids("e", rig.elements)
    return {next(ids): replace(e, tint=tint, code=code, at=Place(from_run=True)) for e in item.elements}


def read_attach(
    rig: Rig, device_id: str, label: str, text: str, kinds: dict[str, PixelType] | None = None
) -> AttachWish:
    """All parts of a line (`;` between them), placed from port `label` on in the order printed on the device."""
    parts = [p.strip() for p in text.split(";") if p.strip()]
    if not parts:
        raise Refused(f"Say what is to attach, for example: {HELP.split(' · ')[0]}")
    model = model_of(rig, device_id)
    order = [
        p
        for p in (model.ports if model else rig.devices[device_id].ports)
        if not ability_of_port(rig, device_id, p).off
    ]
    ports: dict[str, list[Segment]] = {}
    elements: dict[str, Element] = {}
    says: list[str] = []
    now = rig
    known = {**(kinds or {}), **rig.pixel_types}
    fresh_kinds: dict[str, PixelType] = {}
    at_px = 0
    for part in parts:
        item = read_item(now, part, known, names_of_orders(rig, device_id))
        at_px = item.at or at_px
        if item.kind and item.kind not in rig.pixel_types:
            fresh_kinds[item.kind] = known[item.kind]
        begin = item.on or label
        if begin not in (model.ports if model else rig.devices[device_id].ports):
            raise Refused(
                f"{rig.devices[device_id].name} has no port {begin}; it has {', '.join(model.ports if model else ())}."
            )
        check_fits(rig, device_id, begin, item.segments[0])
        segments = list(item.segments)
        if item.elements:
            fresh = _elements_of(now, item)
            segments = [replace(s, element=eid) for s, eid in zip(segments, fresh)] + segments[len(fresh) :]
            elements |= fresh
            now = put_entries(now, "", elements=fresh)[0]
        at = order.index(begin) if begin in order else 0
        each = item.to_a_port or len(segments)
        need = -(-len(segments) // each)
        if at + need > len(order):
            raise Refused(
                f"{say_count(len(segments), 'item')}, {each} to a port, need {need} ports from {begin} on; "
                f"{rig.devices[device_id].name} has {len(order) - at}."
            )
        for n in range(need):
            own = order[at + n]
            for s in segments[n * each : (n + 1) * each]:
                check_fits(now, device_id, own, s)
                ports.setdefault(own, []).append(s)
        where = f"port {order[at]}" if need == 1 else f"ports {order[at]} to {order[at + need - 1]}"
        says.append(f"{item.words} on {where}")
    if at_px and len(ports) > 1:
        raise Refused("Only what is attached to one port can begin at a pixel of it.")
    says += [f"at pixel {at_px}"] if at_px else []
    return AttachWish({p: tuple(s) for p, s in ports.items()}, elements, "; ".join(says), at_px, fresh_kinds)


def attach_wish(rig: Rig, device_id: str, label: str, text: str, kinds: dict[str, PixelType] | None = None) -> Edit:
    """Attach what was typed, behind what is attached there already, or `at` a pixel; gives the ids of new elements.

    `kinds` are kinds of pixels that may be named and are taken into the rig then.
    """
    wish = read_attach(rig, device_id, label, text, kinds)
    device = rig.devices[device_id]
    if wish.at:
        own, segments = next(iter(wish.ports.items()))
        with_them, made = put_entries(rig, "", elements=wish.elements, pixel_types=wish.kinds)
        new, change = insert_at_pixel(with_them, device_id, own, wish.at, list(segments))
        return new, replace(join_changes(f"attach {wish.says}", made, change), made=tuple(wish.elements))
    ports = dict(device.ports)
    for p, segments in wish.ports.items():
        port = ports.get(p, Port())
        ports[p] = replace(port, run=(*port.run, *segments))
    keys = [k for s in wish.ports.values() for one in s for k in (one.element, *one.fixtures) if k not in wish.elements]
    fixtures, elements = hand_over_to_cable(rig, keys, only_new=True)
    return put_entries(
        rig,
        f"attach {wish.says}",
        devices={device_id: replace(device, ports=begin_ports(rig, device_id, ports))},
        elements={**wish.elements, **elements},
        fixtures=fixtures,
        pixel_types=wish.kinds,
        made=wish.elements,
    )
