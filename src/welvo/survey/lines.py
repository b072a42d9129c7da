"""DMX lines: the order of the daisy chain, cable lengths, unit loads, adapters, and the address each lamp needs."""

from __future__ import annotations

from typing import NamedTuple

from welvo.patch.index import Index
from welvo.rig.document import Rig
from welvo.rig.lookup import name_of_item, profile_of
from welvo.rig.plan import model_of
from welvo.rig.runs import Segment
from welvo.runs.cable import Behind, Piece

UNIT_LOADS = 32
"""Unit loads that one driver of the line takes (EIA-485, which DMX512-A uses)."""

PINS: dict[str, dict[str, str]] = {
    "5-pin": {"common": "1", "data −": "2", "data +": "3", "second data −": "4", "second data +": "5"},
    "3-pin": {"common": "1", "data −": "2", "data +": "3"},
    "RJ45": {
        "data +": "1 white/orange",
        "data −": "2 orange",
        "second data +": "3 white/green",
        "second data −": "6 green",
        "common": "7 white/brown",
        "second common": "8 brown",
    },
}
"""Contact of each connector by function. RJ45 has the pairs of the standard for DMX over category cable."""


class Stop(NamedTuple):
    """One lamp on a line: its turn from 1, the DMX address to set, metres from the one before and from the last driver,
    unit loads since then, whether a booster stands before it, and what has to be adapted before it."""

    key: str
    name: str
    turn: int
    dmx: int
    last: int
    metres: float
    since: float
    loads: float
    booster: bool
    adapter: str


class LineSum(NamedTuple):
    """A line's sums. `longest` and `heaviest` are of the worst stretch between two drivers, by metres and by loads."""

    stops: tuple[Stop, ...]
    metres: float
    longest: float
    heaviest: float
    in_order: bool
    adapters: tuple[str, ...]


def adapter_between(one: str, other: str) -> str:
    """What is needed between two connectors; empty when they fit, or when nobody said what they are."""
    if not one or not other or one == other:
        return ""
    return f"{one} to {other}"


def contacts_of_adapter(one: str, other: str) -> list[tuple[str, str, str]]:
    """Function by function, the contact at both ends of an adapter; functions only one has are left out."""
    a, b = PINS.get(one, {}), PINS.get(other, {})
    return [(f, a[f], b[f]) for f in a if f in b]


def line_sum(index: Index, segment: Segment, piece: Piece | None, universe: str, plug: str = "") -> LineSum:
    """The sums of a DMX line on a port (`universe`) or behind a bridge (`piece`); `plug` is the connector it starts
    at."""
    rig, cables = index.rig, index.cables_and_sums
    at = {(b.key, b.break_no): b for b in cables.fixtures_behind(segment, piece, universe)}
    for key in segment.fixtures if piece is None else ():  # what stands behind another item is on the line as well
        for s in index.spans_of(key):
            if s.universe == universe:
                at.setdefault((key, s.break_no), Behind(key, s.break_no, s.first, s.last - s.first + 1))
    stops: list[Stop] = []
    since = loads = total = longest = heaviest = 0.0
    here = plug
    lead = segment.length if segment.kind == "line" else 0.0  # to a bridge it is the pixels' cable, not the line's
    for turn, key in enumerate(segment.fixtures, 1):
        fixture = rig.fixtures.get(key)
        if fixture is None:
            continue
        profile = profile_of(rig, fixture)
        metres, lead = lead + segment.lengths.get(key, 0.0), 0.0
        booster = key in segment.boosters
        if booster:
            since = loads = 0.0
        since += metres
        total += metres
        loads += profile.unit_load if profile else 1.0
        longest, heaviest = max(longest, since), max(heaviest, loads)
        own = profile.connector if profile else ""
        need = adapter_between(here, own)
        here = own or here
        place = at.get((key, 0))
        stops.append(
            Stop(
                key,
                name=name_of_item(rig, key),
                turn=turn,
                dmx=place.dmx if place else 0,
                last=place.dmx + place.slots - 1 if place and place.dmx else 0,
                metres=metres,
                since=since,
                loads=loads,
                booster=booster,
                adapter=need,
            )
        )
    order = [s.dmx for s in stops if s.dmx]
    return LineSum(
        tuple(stops),
        total,
        longest,
        heaviest,
        order == sorted(order),
        tuple(dict.fromkeys(s.adapter for s in stops if s.adapter)),
    )


def plug_of(rig: Rig, device_id: str, segment: Segment | None = None) -> str:
    """The connector a line starts at: the bridge's when it is attached behind one, else the device's."""
    model = rig.device_models.get(segment.model) if segment and segment.model else model_of(rig, device_id)
    return model.connector if model else ""
