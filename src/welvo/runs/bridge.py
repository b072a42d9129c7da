"""Bridges: the DMX addresses behind one, where they are in the stream, and what must be true for them to come out
right."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from msgspec.structs import replace

from welvo.rig.base import Refused
from welvo.rig.colours import STRAIGHT
from welvo.rig.counting import SLOTS, free_between
from welvo.rig.document import Change, Edit, Rig, join_changes, put_entries
from welvo.rig.lookup import name_of_item
from welvo.rig.refs import PortRef
from welvo.rig.wiring import Port
from welvo.runs.brightness import brightness_factors, product_of_factors, say_percent, scale_byte
from welvo.runs.cable import Cables, Piece, PortStream
from welvo.runs.edits import change_segment
from welvo.runs.orders import names_of_orders, places_of_components

Place = tuple[int, int]
Remedy = Callable[[Rig], Edit]


class Slots(NamedTuple):
    """One break of a fixture behind a bridge: its DMX addresses, its stream slots, and where they are patched.

    `dmx` 0 means that its typed address is not in the bridge's stretch. `places` are (first, last) of every unbroken
    piece in the universes; more than one says that a universe's end goes through it.
    """

    key: str
    name: str
    break_no: int
    dmx: int
    last: int
    stream: int
    places: tuple[tuple[Place, Place], ...]


class Demand(NamedTuple):
    """One item that must be true for DMX to come out right: the words, whether it is, what it does, and the fix."""

    what: str
    holds: bool
    says: str = ""
    fix: str = ""
    edit: Remedy | None = None
    changes: tuple[tuple[str, str, str], ...] = ()


def rows_behind_bridge(cables: Cables, stream: PortStream, piece: Piece) -> list[Slots]:
    """What is attached behind a bridge, by DMX address."""
    found = []
    for b in cables.fixtures_behind(piece.segment, piece):
        last = b.dmx + b.slots - 1 if b.dmx else 0
        where = _places_of_piece(piece, b.dmx, last) if b.dmx else ()
        found.append(
            Slots(
                b.key,
                name_of_item(cables.rig, b.key),
                b.break_no,
                b.dmx,
                last,
                piece.stream + b.dmx - 1 if b.dmx else 0,
                where,
            )
        )
    return sorted(found, key=lambda r: (r.dmx, r.key, r.break_no))


def _places_of_piece(piece: Piece, first: int, last: int) -> tuple[tuple[Place, Place], ...]:
    found: list[tuple[Place, Place]] = []
    for p in piece.parts:
        a, b = max(first, p.done + 1), min(last, p.done + p.last - p.first + 1)
        if a <= b:
            found.append(((p.universe, p.first + a - p.done - 1), (p.universe, p.first + b - p.done - 1)))
    return tuple(found)


def meetings_behind(behind: list[Slots]) -> list[tuple[Slots, Slots, int, int]]:
    """Pairs on a line that want the same DMX addresses: both, and the first and last slot they share."""
    found = []
    for n, a in enumerate(behind):
        for b in behind[n + 1 :]:
            low, high = max(a.dmx, b.dmx), min(a.last, b.last)
            if a.dmx and b.dmx and low <= high:
                found.append((a, b, low, high))
    return found


def gaps_behind(behind: list[Slots], width: int) -> list[tuple[int, int]]:
    """Stretches of DMX addresses 1…`width` that nothing behind the bridge uses."""
    return free_between([(r.dmx, r.last) for r in behind if r.dmx], width)


def pixels_worth(piece: Piece) -> int:
    """How many pixels' worth of the port's load a bridge takes."""
    return piece.pixels


def goes_on(cables: Cables, piece: Piece) -> tuple[bool, str]:
    """Whether anything may follow the bridge on its cable, and in words where it would begin."""
    model = cables.rig.device_models.get(piece.segment.model)
    passes = model.passes if model else "nothing"
    if passes == "nothing":
        who = f"a {model.name}" if model else "a bridge of no stated model"
        return False, f"nothing may follow {who}"
    after = piece.stream + (piece.slots if passes == "pixel" else piece.segment.width)
    how = "the next whole pixel" if passes == "pixel" else "the very next slot"
    return True, f"what follows begins at stream slot {after}, {how}"


def highest_behind(behind: list[Slots]) -> int:
    return max((r.last for r in behind), default=0)


class _Bridge(NamedTuple):
    """A bridge where it hangs, as its demands look at it."""

    cables: Cables
    stream: PortStream
    piece: Piece

    @property
    def rig(self) -> Rig:
        return self.cables.rig

    @property
    def port(self) -> Port:
        return self.rig.devices[self.stream.device_id].ports[self.stream.label]

    @property
    def where(self) -> tuple[str, str, int]:
        """Device, port and place, as edits of a segment take them."""
        return self.stream.device_id, self.stream.label, self.piece.n


def demands_of_bridge(cables: Cables, stream: PortStream, piece: Piece) -> list[Demand]:
    """Everything that must be true for the DMX behind a bridge to come out as it was sent."""
    bridge = _Bridge(cables, stream, piece)
    return [
        _full_brightness(bridge),
        _no_gamma(bridge),
        _no_dithering(bridge),
        _straight_order(bridge),
        _plain_stretch(bridge),
        _wide_enough(bridge),
        _rate_to_follow(bridge),
    ]


def _full_brightness(bridge: _Bridge) -> Demand:
    """Levels are no light here: what dims a pixel makes every level behind the bridge another one."""
    chain = brightness_factors(bridge.rig, bridge.stream, bridge.piece)
    by = product_of_factors(chain)
    exact, byte = scale_byte(255, by)
    low = [f for f in chain if f.value < 1]
    why = ""
    if by != 1:
        factors = " × ".join(f"{f.who} {say_percent(product_of_factors([f]))}" for f in low)
        cut_off = f" ({exact} cut off)" if exact != str(byte) else ""
        why = f"{factors}: 255 arrives as {byte}{cut_off} and every level reads low"
    return Demand(
        "brightness 100 %",
        by == 1,
        why,
        "Set all to 100 %" if len(low) > 1 else f"Set {low[0].who} to 100 %" if low else "",
        lambda r: full_brightness(r, *bridge.where),
        tuple((f.who, say_percent(product_of_factors([f])), "100 %") for f in low),
    )


def _no_gamma(bridge: _Bridge) -> Demand:
    _, label, _ = bridge.where
    both = ((f"port {label}", bridge.port.gamma), ("segment", bridge.piece.segment.gamma))
    bent = [(who, gamma) for who, gamma in both if gamma != 1]
    why = ""
    if bent:
        who, gamma = bent[0]
        why = f"gamma {gamma:g} on the {who}: 128 arrives as {round(255 * (128 / 255) ** gamma)}"
    return Demand(
        "no gamma",
        not bent,
        why,
        "Take the gamma away",
        lambda r: flatten_gamma(r, *bridge.where),
        tuple((who, f"gamma {gamma:g}", "none") for who, gamma in bent),
    )


def _no_dithering(bridge: _Bridge) -> Demand:
    device_id, label, _ = bridge.where
    return Demand(
        "no dithering",
        not bridge.port.dither,
        "dithering changes the lowest bit from frame to frame: DMX trembles",
        "Switch dithering off",
        lambda r: take_effects_off(r, device_id, label),
        ((f"port {label} · dithering", "on", "off"),),
    )


def _straight_order(bridge: _Bridge) -> Demand:
    s, device_id = bridge.piece.segment, bridge.stream.device_id
    first = places_of_components(s.order, names_of_orders(bridge.rig, device_id))[0] + 1 if s.order else 1
    return Demand(
        "straight colour order",
        not s.order or s.order == STRAIGHT[: len(s.order)],
        f"order {s.order} swaps slots in every group of {len(s.order)}: DMX 1 gets what was sent for {first}",
        "Set the order straight",
        lambda r: change_segment(r, *bridge.where, order="")[:2],
        (("bridge · colour order", s.order, "straight"),),
    )


def _plain_stretch(bridge: _Bridge) -> Demand:
    s = bridge.piece.segment
    ways = (("reversed", s.reverse), (f"folded every {s.fold}", bool(s.fold)), (f"grouped by {s.group}", s.group > 1))
    inner = " and ".join(words for words, on in ways if on)
    return Demand(
        "no folds, grouping or nulls inside",
        not inner,
        f"the stretch is {inner}: slots change places or are sent twice",
        "Take it out of this stretch",
        lambda r: change_segment(r, *bridge.where, reverse=False, fold=0, group=1)[:2],
        (("bridge · stretch", inner, "plain"),),
    )


def _wide_enough(bridge: _Bridge) -> Demand:
    width = bridge.piece.segment.width
    behind = rows_behind_bridge(bridge.cables, bridge.stream, bridge.piece)
    top = highest_behind(behind)
    off = list(dict.fromkeys(r.name for r in behind if r.last > width))
    who = f"{' and '.join(off[:2])}{f' and {len(off) - 2} more' if len(off) > 2 else ''}"
    wanted = min(512, top)
    possible = top <= 512  # a line of DMX has no more: then a lamp has to move, and no width helps
    return Demand(
        "stream for the highest address",
        top <= width,
        f"{who} {'ends' if len(off) == 1 else 'end'} past it: the highest address behind it is {top}, its width "
        f"{width}, and slots {width + 1} to {top} never come",
        f"Make it {wanted} slots wide" if possible else "",
        (lambda r: change_segment(r, *bridge.where, width=wanted)[:2]) if possible else None,
        (("bridge · width", str(width), str(wanted)),),
    )


def _rate_to_follow(bridge: _Bridge) -> Demand:
    rig, piece = bridge.rig, bridge.piece
    model = rig.device_models.get(piece.segment.model)
    can = model.dmx_rate if model else 44.0  # what DMX itself allows for 512 slots
    rate = max((f.rate for f in rig.feeds.values() if _carries_universe(rig, f.universe, piece)), default=0.0)
    return Demand(
        "a rate that DMX can follow",
        not rate or rate <= can,
        f"{rate:g} frames a second come, the bridge gives {can:g}: frames are left out and fades stutter",
        f"Send {can:g} a second",
        lambda r: slow_down_bridge(r, piece, can),
        (("feeds · frames a second", f"{rate:g}", f"{can:g}"),),
    )


def _carries_universe(rig: Rig, universe: str, piece: Piece) -> bool:
    u = rig.universes.get(universe)
    return u is not None and any(p.universe == u.number for p in piece.parts)


# ---- fixes


def _attached_piece(cables: Cables, device_id: str, label: str, n: int) -> tuple[PortStream, Piece]:
    """A segment of a port's stream. Raises Refused when it is not there, or not any more."""
    stream = cables.streams.get(PortRef(device_id, label))
    if stream is None or not 0 <= n < len(stream.pieces):
        raise Refused(f"Nothing that puts out pixels is attached there on port {label}.")
    return stream, stream.pieces[n]


def full_brightness(rig: Rig, device_id: str, label: str, n: int) -> Edit:
    """Set every brightness on the way to a segment to 100 %: sender, player, device, port and segment."""
    stream, piece = _attached_piece(Cables(rig), device_id, label, n)
    chain = brightness_factors(rig, stream, piece)
    senders = {
        w[1]: replace(rig.senders[w[1]], brightness=1.0, player=1.0)
        for _, w, _ in chain
        if w[0] in ("sender", "player")
    }
    device = rig.devices[device_id]
    port = device.ports[label]
    run = tuple(replace(s, brightness=1.0) if i == n else s for i, s in enumerate(port.run))
    ports = {**device.ports, label: replace(port, brightness=1.0, run=run)}
    changed = {k: v for k, v in senders.items() if v != rig.senders[k]}
    return put_entries(
        rig,
        f"brightness 100 % on port {label}",
        senders=changed,
        devices={device_id: replace(device, brightness=1.0, ports=ports)},
    )


def flatten_gamma(rig: Rig, device_id: str, label: str, n: int) -> Edit:
    """Take the gamma of a port and of one of its segments away."""
    _attached_piece(Cables(rig), device_id, label, n)
    device = rig.devices[device_id]
    port = device.ports[label]
    run = tuple(replace(s, gamma=1.0) if i == n else s for i, s in enumerate(port.run))
    ports = {**device.ports, label: replace(port, gamma=1.0, run=run)}
    return put_entries(rig, f"no gamma on port {label}", devices={device_id: replace(device, ports=ports)})


def take_effects_off(rig: Rig, device_id: str, label: str) -> Edit:
    device = rig.devices[device_id]
    if label not in device.ports:
        raise Refused(f"Nothing is planned on port {label}.")
    ports = {**device.ports, label: replace(device.ports[label], dither=False)}
    return put_entries(rig, f"no dithering on port {label}", devices={device_id: replace(device, ports=ports)})


def slow_down_bridge(rig: Rig, piece: Piece, rate: float) -> Edit:
    feeds = {
        k: replace(f, rate=rate)
        for k, f in rig.feeds.items()
        if _carries_universe(rig, f.universe, piece) and f.rate > rate
    }
    return put_entries(rig, f"send {rate:g} frames a second", feeds=feeds)


def set_right(rig: Rig, device_id: str, label: str, n: int) -> Edit:
    """Put everything right at once that would spoil the DMX behind a bridge."""
    now, changes = rig, list[Change]()
    for _ in range(12):
        cables = Cables(now)
        wrong = [
            d
            for d in demands_of_bridge(cables, *_attached_piece(cables, device_id, label, n))
            if not d.holds and d.edit
        ]
        if not wrong:
            break
        assert wrong[0].edit
        now, change = wrong[0].edit(now)
        changes.append(change)
    return now, join_changes(f"set the bridge on port {label} right", *changes)


# ---- proving the controller's side with one plain pixel

_COLOURS = {
    (1, 0, 0): "red",
    (0, 1, 0): "green",
    (0, 0, 1): "blue",
    (1, 1, 0): "yellow",
    (0, 1, 1): "cyan",
    (1, 0, 1): "magenta",
    (1, 1, 1): "white",
    (0, 0, 0): "dark",
}


class Shown(NamedTuple):
    """What a plain pixel shows: level of red, green and blue, and the colour in a word."""

    red: int
    green: int
    blue: int
    word: str


def colour_in_its_place(
    cables: Cables, stream: PortStream, piece: Piece, levels: tuple[int, int, int], chip: str = "RGB"
) -> Shown:
    """Which colour a plain pixel shows in the bridge's place, for the levels of the bridge's first three slots.

    `chip` is the order in which the plain pixel takes its components. Brightness on the way counts, and a colour order
    that is set where it should be straight does too.
    """
    s = piece.segment
    by = product_of_factors(brightness_factors(cables.rig, stream, piece))
    sent = list(levels)
    if s.order and len(s.order) >= 3:
        sent = [
            levels[n] if n < 3 else 0
            for n in places_of_components(s.order, names_of_orders(cables.rig, stream.device_id))[:3]
        ]
    got = {c: scale_byte(v, by)[1] for c, v in zip(chip, sent)}
    red, green, blue = got.get("R", 0), got.get("G", 0), got.get("B", 0)
    top = max(red, green, blue)
    key = tuple(int(v > top / 2) if top else 0 for v in (red, green, blue))
    word = _COLOURS[key]  # type: ignore[index]
    if 0 < top < 128:
        word = f"dim {word}"
    return Shown(red, green, blue, word)


def first_free(behind: list[Slots], slots: int, skip: Slots | None = None) -> int:
    """The lowest DMX address where `slots` are free on a line, what `skip` takes not counted; 0: there is none to
    512."""
    taken = [(r.dmx, r.last) for r in behind if r is not skip and r.dmx]
    return next((a for a, b in free_between(taken, SLOTS) if b - a + 1 >= slots), 0)
