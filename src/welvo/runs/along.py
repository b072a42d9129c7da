"""Along a cable: in which order a segment's places show its pixels, and where one pixel of an element is."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from welvo.rig.colours import straight_order
from welvo.rig.document import Rig
from welvo.rig.lookup import name_of_item
from welvo.rig.patched import Element
from welvo.rig.runs import Segment
from welvo.runs.cable import Cables, Piece, PortStream

Ints = npt.NDArray[np.int64]


def fold_order(n: int, length: int) -> Ints:
    """0…n−1 with every second stretch of `length` reversed; a last short stretch is one like any other.

    A fold as long as the whole, or longer, does nothing. Folding twice gives the first order back.
    """
    at = np.arange(n, dtype=np.int64)
    if not 0 < length < n:
        return at
    stretch = at // length
    end = np.minimum((stretch + 1) * length, n) - 1
    return np.where(stretch % 2 == 1, stretch * length + end - at, at)


def cable_order(segment: Segment, leds: int) -> Ints:
    """For every place along the cable of a segment of pixels, the data pixel (from 1) that it shows.

    The controller groups first, then turns the segment round, then folds: `fold` counts LEDs of the cable.
    """
    data = np.arange(leds, dtype=np.int64)
    if segment.reverse:
        data = data[::-1]
    data = data[fold_order(leds, segment.fold)]
    return data // segment.group + 1


def number_order(element: Element, segment: Segment, leds: int) -> Ints:
    """For every data LED of a segment, in sending order, the element's own pixel number (from 1).

    A sender that puts a folded string into order sends along the cable; then the numbers run there and back.
    """
    order = fold_order(leds, element.fold) if element.unfolds == "sender" and element.fold else np.arange(leds)
    return np.asarray(segment.first + order, np.int64)


class PixelPlace(NamedTuple):
    """One pixel of an element on one of its cables: every number it has."""

    stream: PortStream
    piece: Piece
    data: int
    slot: int
    on_port: int
    places: tuple[tuple[int, int], ...]
    cable: int


def pixel_places(cables: Cables, key: str, pixel: int) -> list[PixelPlace]:
    """Everywhere that pixel `pixel` (from 1) of an element is attached: data pixel, stream slot, place along the
    cable."""
    element = cables.rig.elements.get(key)
    found: list[PixelPlace] = []
    for stream, piece in cables.on_runs(key):
        s = piece.segment
        if element is None or s.kind not in ("pixels", "lamps"):
            continue
        if s.kind == "lamps":  # pixel n drives lamp n; there is no strip whose places could be counted
            if pixel <= piece.pixels:
                slot = (pixel - 1) * piece.k + 1
                at_slots = tuple(w for c in range(piece.k) if (w := piece.place_of_slot(slot + c)))
                found.append(
                    PixelPlace(stream, piece, pixel, piece.stream + slot - 1, piece.px + pixel - 1, at_slots, piece.led)
                )
            continue
        if not s.first <= pixel < s.first + piece.leds:
            continue
        at = int(np.flatnonzero(number_order(element, s, piece.leds) == pixel)[0])
        data = at // s.group + 1
        along = int(np.flatnonzero(cable_order(s, piece.leds) == data)[0])
        slot = (data - 1) * piece.k + 1
        where = tuple(w for c in range(piece.k) if (w := piece.place_of_slot(slot + c)))
        found.append(
            PixelPlace(stream, piece, data, piece.stream + slot - 1, piece.px + data - 1, where, piece.led + along)
        )
    return found


def element_pixel(rig: Rig, piece: Piece, data: int) -> int:
    """The element's own number of data pixel `data` of a piece (the first of a group); 0 when it is no element."""
    element = rig.elements.get(piece.key)
    if element is None or element.kind == "block" or not piece.leds:
        return 0
    order = number_order(element, piece.segment, piece.leds)
    return int(order[min(len(order) - 1, (data - 1) * piece.segment.group)])


def components_of(rig: Rig, piece: Piece) -> str:
    """The components of one pixel of a piece, in the order the sender sends them."""
    element = rig.elements.get(piece.key)
    if element and element.kind != "block":
        return element.order
    return straight_order(piece.segment.order) or "RGB"


def piece_name(rig: Rig, piece: Piece) -> str:
    """What a segment is called: its own name, its item's, or what it is."""
    return segment_name(rig, piece.segment, piece.key)


def segment_name(rig: Rig, s: Segment, key: str) -> str:
    """The same of a segment by itself; `key` is the item it is made of."""
    if s.name:
        return s.name
    element = rig.elements.get(key)
    if element:
        return element.name
    fixture = rig.fixtures.get(key)
    if fixture:
        return str(fixture.number)
    return {
        "null": f"{s.count} null",
        "extension": f"{s.length:g} m cable" if s.length else "cable",
        "bridge": f"bridge {s.width}",
        "line": "DMX line",
        "lamps": "lamps",
    }.get(s.kind, "pixels")


def say_run(rig: Rig, run: tuple[Segment, ...]) -> str:
    """What is attached, in cable order: `ribbon, 6 null, bridge 60 (201, 202)`."""
    said = []
    for s in run:
        lamps = [name_of_item(rig, f) for f in s.fixtures]
        few = ", ".join(lamps[:4]) + (f" … {lamps[-1]}" if len(lamps) > 4 else "")
        said.append(segment_name(rig, s, s.element) + (f" ({few})" if lamps else ""))
    return ", ".join(said) or "nothing attached"


def part_name(rig: Rig, piece: Piece) -> str:
    """What a segment is called, with which of its item's pixels are attached there when it is not all of them."""
    name, s, element = piece_name(rig, piece), piece.segment, rig.elements.get(piece.key)
    if element is None or s.kind != "pixels" or not piece.leds or piece.leds >= element.pixels:
        return name
    return f"{name} {s.first}–{s.first + piece.leds - 1}"
