"""What an edit of a run would move, worked out before it is done."""

from __future__ import annotations

from typing import NamedTuple

from msgspec.structs import replace

from welvo.rig.colours import STRAIGHT
from welvo.rig.document import Rig
from welvo.rig.notation import say_count, say_place
from welvo.rig.patched import Element, Place
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment
from welvo.runs.cable import Cables, UniversePart
from welvo.runs.pixels import universes_of


class Moved(NamedTuple):
    """Items whose first slot changes, and universes that the device needs before and after."""

    items: tuple[str, ...]
    before: tuple[int, ...]
    after: tuple[int, ...]

    @property
    def words_of_move(self) -> str:
        what = (
            f"{say_count(len(self.items), 'item')} behind {'moves' if len(self.items) == 1 else 'move'}"
            if self.items
            else "nothing behind moves"
        )
        more = len(self.after) - len(self.before)
        if more > 0:
            return f"{what}, {say_count(more, 'universe')} more"
        return f"{what}, {say_count(-more, 'universe')} fewer" if more < 0 else what


def compare_sums(now: Cables, after: Rig, device_id: str) -> Moved:
    """What differs for a device between the sums as they are and a rig as it would be."""
    alone = replace(after, devices={device_id: after.devices[device_id]}) if device_id in after.devices else after
    then = Cables(alone)
    a, b = _starts_of_ports(now, device_id), _starts_of_ports(then, device_id)
    items = tuple(k for k in a if k in b and a[k] != b[k])
    return Moved(items, tuple(universes_of(now, device_id)), tuple(universes_of(then, device_id)))


class WouldMove(NamedTuple):
    """One item whose place would be another: where it begins now and then, in the cables' own universes."""

    key: str
    before: str
    after: str


def items_pushed_along(now: Cables, after: Rig, key: str) -> tuple[list[WouldMove], list[str]]:
    """What a longer or shorter item moves on its cables, and the items with fixed addresses that would no longer stand
    where their cable puts them."""
    then = Cables(after)
    moves: list[WouldMove] = []
    apart: list[str] = []
    for device_id in dict.fromkeys(ref.device for ref, _ in now.ports_of_item(key)):
        old, new = _starts_of_ports(now, device_id), _starts_of_ports(then, device_id)
        for k, parts in old.items():
            if k == key or not parts or new.get(k) == parts:
                continue
            fixture, element = after.fixtures.get(k), after.elements.get(k)
            place = fixture.place_of_break(0) if fixture else element.at if element else Place()
            if place.origin_of_place == "run":
                to = new.get(k)
                moves.append(WouldMove(k, _say_part(parts[0]), _say_part(to[0]) if to else "nowhere"))
            elif place.origin_of_place == "typed":
                apart.append(k)
    return moves, apart


def _say_part(part: UniversePart) -> str:
    return say_place(part.universe, part.first)


def _starts_of_ports(cables: Cables, device_id: str) -> dict[str, list[UniversePart]]:
    found: dict[str, list[UniversePart]] = {}
    for (d, _), stream in cables.streams.items():
        if d != device_id:
            continue
        for p in stream.pieces:
            for key in (p.key, *p.segment.fixtures):
                if key:
                    found.setdefault(key, []).extend(p.parts[:1])
    return found


def if_longer(cables: Cables, device_id: str, label: str, n: int, pixels: int = 10) -> Moved:
    """What `pixels` more behind a segment would move."""
    rig = cables.rig
    device = rig.devices[device_id]
    run = device.ports[label].run
    order = next((p.k for p in cables.streams[PortRef(device_id, label)].pieces[n : n + 1]), 3)
    extra = Element(name="", pixels=pixels, order=STRAIGHT[:order] or "RGB", at=Place(from_run=True))
    longer = (*run[: n + 1], Segment(kind="pixels", element="?"), *run[n + 1 :])
    ports = {**device.ports, label: replace(device.ports[label], run=longer)}
    trial = replace(rig, elements={**rig.elements, "?": extra}, devices={device_id: replace(device, ports=ports)})
    return compare_sums(cables, trial, device_id)
