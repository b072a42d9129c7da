"""Merges by chance: two people change one rig, and nothing of either may be lost in silence.

Of every triple it is demanded that each difference of both sides is in the merged rig, or in a meeting, or in a note;
that nothing refers to what is not there; that the result can be saved and opened; and that it does not matter who
merges whom, but for what was decided.
"""

from __future__ import annotations

import contextlib
import json
import random
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from tests.fuzz.files import mutated
from tests.fuzz.random_edits import EDITS, Chance
from tests.rig.test_reference_table import whole
from welvo.demo.gallery import make_gallery
from welvo.formats.files import RigFileError
from welvo.formats.rigfile import bytes_of, read_rig, rig_from_bytes, rig_to_bytes, to_json
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.diff import GONE, Touch, list_differences, value_at
from welvo.rig.document import PARTS, Rig, put_entries
from welvo.rig.merge import MergedRig, merge_rigs
from welvo.rig.patched import Fixture, Place
from welvo.rig.reference_table import entries_of, lost_references
from welvo.rig.refs import PortRef
from welvo.rig.runs import PixelType
from welvo.runs.edits import add_supply, change_segment, remove_supply

Wish = Callable[[Chance, Rig], Any]
OWN: dict[str, Wish] = {
    "hang after": lambda c, r: edits.set_fixtures(r, "", {c.lamp(r): {"at": (Place(after=c.item(r), gap=2),)}}),
    "take out": lambda c, r: edits.take_out_items(r, c.items(r, 2)),
    "add a lamp": lambda c, r: _lamp(c, r),
    "a kind of pixels": lambda c, r: _kind(c, r),
    "no kind of pixels": lambda c, r: edits.take_out(r, "", "pixel_types", [c.key_of(r.pixel_types)]),
    "a supply": lambda c, r: add_supply(r, c.choice(("Left", "Right")), 5.0, 10.0),
    "no supply": lambda c, r: remove_supply(r, c.key_of(r.supplies)),
    "feed a segment": lambda c, r: change_segment(r, *c.run(r), "", supply=c.key_of(r.supplies)),
    "gear": lambda c, r: _gear(c, r),
    "group": lambda c, r: edits.put_in_groups(r, c.items(r, 2), [c.choice(("Front", "Back"))]),
}


def _lamp(c: Chance, rig: Rig) -> Any:
    profile = c.key_of(rig.profiles)
    lamp = Fixture(number=c.randint(300, 304), name=c.choice(("Left", "Right")), profile=profile,
                   mode=c.choice(list(rig.profiles[profile].modes)), at=(c.place(rig),))  # fmt: skip
    if any(f.number == lamp.number for f in rig.fixtures.values()):
        raise Refused("there is one")
    key = f"f{len(rig.fixtures) + 1}"
    return put_entries(rig, "", fixtures={key if key not in rig.fixtures else f"g{c.randint(1, 10**6)}": lamp})


def _kind(c: Chance, rig: Rig) -> Any:
    key = c.key_of(rig.elements)
    kinds = {**rig.pixel_types, f"k{len(rig.pixel_types) + 1}": PixelType(name="Silk", order="RGB")}
    name = c.choice(list(kinds))
    return put_entries(rig, "", pixel_types={name: kinds[name]}, elements={key: replace(rig.elements[key], type=name)})


def _gear(c: Chance, rig: Rig) -> Any:
    ports = [PortRef(d, label) for d, v in rig.devices.items() for label, p in v.ports.items() if p.bus]
    ref = c.choice(ports)
    device = rig.devices[ref.device]
    port = device.ports[ref.port]
    assert port.bus is not None
    gear = tuple(replace(g, fixture=c.lamp(rig)) for g in port.bus.gear)
    ports_ = {**device.ports, ref.port: replace(port, bus=replace(port.bus, gear=gear))}
    return put_entries(rig, "", devices={ref.device: replace(device, ports=ports_)})


def changed(c: Chance, rig: Rig, count: int) -> Rig:
    """A rig after some edits that were not refused."""
    for _ in range(count):
        try:
            if c.random() < 0.5:
                rig, _ = OWN[c.choice(list(OWN))](c, rig)
            else:
                rig, _ = EDITS[c.choice(list(EDITS))](c, rig, Index(rig))
        except (Refused, IndexError, KeyError, ValueError):
            continue
    return rig


def dangling(rig: Rig) -> Iterator[tuple[str, str, str]]:
    for part in (*PARTS, "rig"):
        for key, entry in entries_of(rig, part):
            yield from ((part, key, to) for _, to in lost_references(rig, part, entry))


def missing(base: Rig, side: Rig, found: MergedRig) -> Iterator[Touch]:
    """Differences of a side that are neither in the merged rig nor in what was said."""
    meetings = [(m.part, m.id, m.path) for m in found.meetings] + [
        (m.part, m.twin, ()) for m in found.meetings if m.twin
    ]
    for t in list_differences(base, side):
        if (t.part, t.id) in found.mended or (t.part == "rig" and ("rig", "") in found.mended):
            continue
        if any(p == t.part and k == t.id and path[: len(t.path)] == t.path[: len(path)] for p, k, path in meetings):
            continue
        now = value_at(found.rig, *t.touched_place)
        if now == t.after or _is_in(t, now):
            continue
        yield t


def _is_in(t: Touch, now: Any) -> bool:
    """Whether what was added to a list that is a set for us is in it, and what was taken out is not."""
    if not all(isinstance(v, tuple) for v in (t.before, t.after, now)):
        return False
    return set(t.after) - set(t.before) <= set(now) and not (set(t.before) - set(t.after)) & set(now)


def same(a: Rig, b: Rig) -> list[Touch]:
    """What is different between two merges, but for the order of lists that are sets."""

    def as_set(v: Any) -> Any:
        return frozenset(v) if isinstance(v, tuple) and all(isinstance(x, str) for x in v) else v

    return [t for t in list_differences(a, b) if as_set(t.before) != as_set(t.after)]


def wrong(seed: str) -> str:
    """What is wrong with one merge; empty when nothing is."""
    c = Chance(seed)
    base = changed(c, whole(), c.randint(0, 4))
    mine, theirs = changed(c, base, c.randint(0, 5)), changed(c, base, c.randint(0, 5))
    if any(True for rig in (base, mine, theirs) for _ in dangling(rig)):
        return f"an edit left something behind: {[next(iter(dangling(r)), '') for r in (base, mine, theirs)]}"
    try:
        found = merge_rigs(base, mine, theirs)
    except Refused as e:
        return "" if "cannot be merged" in str(e) else f"refused: {e}"
    if left := list(dangling(found.rig)):
        return f"refers to what is gone: {left[:3]}"
    if rig_from_bytes(rig_to_bytes(found.rig)) != found.rig:
        return "it reads as another rig"
    for name, side in (("mine", mine), ("theirs", found.theirs)):
        if gone := next(missing(base, side, found), None):
            after = "gone" if gone.after is GONE else repr(gone.after)[:300]
            return (
                f"lost in silence of {name}: {gone.touched_place} → {after}; now "
                f"{value_at(found.rig, *gone.touched_place)!r:.300}"
            )
    if found.theirs is theirs:
        try:
            back = merge_rigs(base, theirs, mine)
            if back.theirs is mine:
                back = merge_rigs(base, theirs, mine, {m.meeting_place: "theirs" for m in back.meetings})
                decided = merge_rigs(base, mine, theirs, {m.meeting_place: "mine" for m in found.meetings})
                if other := same(decided.rig, back.rig):
                    return f"the other way round it is another rig: {other[0]!r:.500}"
        except Refused as e:
            return f"refused only the other way round: {e}"
    return ""


@cache
def _raw() -> Any:
    return json.loads(to_json(make_gallery()))


def hostile(seed: str) -> str:
    """Merge three rigs out of files that nobody wrote: it gives one that can be saved, or is refused."""
    chance = random.Random(seed)

    def opened() -> Rig:
        for _ in range(20):
            with contextlib.suppress(RigFileError):
                return read_rig(msgspec.json.encode(mutated(chance, _raw())), "x").rig
        return make_gallery()

    try:
        bytes_of(merge_rigs(opened(), opened(), opened()).rig, Path("x.welvo"))
    except Refused as e:
        return "" if len(str(e)) < 600 else f"a refusal that nobody reads: {str(e)[:300]!r}"
    return ""


def knock(seed: int, count: int, go_on: Callable[[], bool]) -> tuple[int, str]:
    """How many merges were tried, and the first that was wrong with its seed."""
    for n in range(count):
        if found := wrong(f"{seed} {n}"):
            return n, f"merge “{seed} {n}”: {found}"
        if not go_on():
            return n + 1, ""
    return count, ""
